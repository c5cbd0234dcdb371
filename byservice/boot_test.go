//go:build linux

package byservice

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// cuts are places of a run at which the power is cut, and the build that must be in place after the boot
// ("": either). The third build dies, so that a refit to it goes back.
var cuts = []struct{ do, at, stands string }{
	{"refit 3.5.0", "phase:stopping", "3.4.1"}, {"refit 3.5.0", "swap:1", "3.4.1"}, {"refit 3.5.0", "swap:3", "3.4.1"},
	{"rollback", "reverse:2", "3.4.1"}, {"refit 3.5.0", "backup", "3.4.1"}, {"refit 3.5.0", "phase:watching", ""},
	{"refit 3.6.0", "reverse:2", "3.4.1"}, {"refit 3.5.0", "started", ""}, {"refit 3.5.0", "phase:confirming", "3.5.0"},
	{"rollback", "phase:returning", "3.4.1"}, {"refit 3.6.0", "phase:rolling-back", "3.4.1"},
	{"refit 3.5.0", "finished", "3.5.0"},
}

// The power is cut while a refit exchanges files, and the machine boots: whichever way the server is
// started at boot, no mixture ever starts, the server comes up, and the next command settles the rest.
func TestABootAfterAPowerCutStartsNoMixture(t *testing.T) {
	t.Parallel()
	m := bootOne(t)
	t.Cleanup(func() { m.manage("down") })
	wanted := "\n[Install]\nWantedBy=multi-user.target\n"
	kinds := map[string]string{
		"direct":  straight + wanted,
		"bygate":  "ExecStart=DIR/open-gates.sh\nRestart=on-failure\n" + wanted,
		"started": "Type=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sh -c 'DIR/open-gates.sh </dev/zero &'\n" + wanted,
		"ours":    "ExecStart=DIR/open-gates.sh\n" + wanted,
	}
	// Each start notes of which files it was.
	sum := "cat DIR/README.txt DIR/tracks/* DIR/lib/* DIR/mossgate.jar 2>&1 | md5sum"
	noted := "ExecStartPre=/bin/sh -c '" + sum + " >>DIR/../starts'\n"
	ponds, whole := map[string]*pond{}, map[string]bool{}
	for name, unit := range kinds {
		if name != "ours" { // which settles by itself before the server starts
			unit = noted + unit
		}
		p := settleOn(t, m, name, unit)
		ponds[name] = p
		if name == "direct" {
			p.ours(exitDone, "profile", "set", "launch.script", "")
			p.ours(exitDone, "profile", "set", "launch.memory", "512M") // its own line changes, too
		}
		if name == "ours" {
			text := p.text("freshkeel.toml")
			p.put(p.dir+"/mossgate-east/freshkeel.toml", text[:strings.Index(text, "[host]")], 0o644)
			p.put("/etc/systemd/system/"+p.unit, p.ours(exitDone, "unit"), 0o644)
			m.ok(t, "systemctl", "daemon-reload")
		}
		m.ok(t, "systemctl", "enable", p.unit)
		m.ok(t, "systemctl", "start", p.unit)
		p.isUp("3.4.1")
		for _, to := range []string{"3.4.1", "3.5.0"} {
			if to != "3.4.1" {
				p.ours(exitDone, "refit", to)
			}
			whole[m.ok(t, "sh", "-c", strings.ReplaceAll(sum, "DIR", p.dir+"/mossgate-east"))] = true
		}
		p.ours(exitDone, "rollback")
	}
	for i, cut := range cuts {
		if !today(i, 6) { // a sixth each day
			continue
		}
		for _, p := range ponds {
			if cut.do == "rollback" {
				p.ours(exitDone, "refit", "3.5.0")
			}
			p.begins(cut.at, strings.Fields(cut.do)...)
		}
		own, _ := m.run("sh", "-c", "cat /srv/*/starts") // which the command itself made
		for l := range strings.Lines(own) {
			whole[l] = true
		}
		out, err := m.manage("again")
		require.NoError(t, err, out)
		for name, p := range ponds {
			at := name + ", " + cut.do + " cut at " + cut.at
			p.isUp("")
			now := versionIn.FindString(p.text("README.txt"))
			if cut.stands != "" {
				assert.Equal(t, cut.stands, now, at)
			}
			assert.Contains(t, p.text("tracks/dew-loop.track"), now, at)
			if cut.at == "phase:watching" && name == "bygate" { // it ran since, and is down: nobody takes it back unasked
				m.ok(t, "systemctl", "stop", p.unit)
				assert.Contains(t, oneSpace(p.ours(exitHands, "recover")), "so it is not taken back unasked", at)
				assert.Contains(t, p.text("README.txt"), "3.5.0", at)
				p.ours(exitDone, "start")
			}
			p.ours(exitDone, "recover")
			s := p.status()
			require.True(t, s.Server.Running, at)
			assert.Contains(t, p.text("README.txt"), s.Version, at)
			assert.Equal(t, "active", p.shows("ActiveState"), at)
			left, _ := m.run("sh", "-c", "ls -d /etc/systemd/system/*"+name+"*; ls /etc/systemd/system/"+p.unit+".d 2>&1")
			assert.NotContains(t, left, "guard", at)
			assert.NotContains(t, left, "settle", at)
			starts, _ := m.run("sh", "-c", "cat "+p.dir+"/starts 2>/dev/null")
			for l := range strings.Lines(starts) {
				require.True(t, whole[l], "%s: a mixture started: %q", at, l)
			}
			if s.Version == "3.5.0" {
				p.ours(exitDone, "rollback")
			}
		}
	}
}

// begins begins a command that stays at a step, and returns once it is there. The function that is returned
// lets it go on, and gives its exit status.
func (p *pond) begins(at string, args ...string) (goOn func() int) {
	p.t.Helper()
	trace := p.dir + "/trace-" + strings.ReplaceAll(at, ":", "-")
	p.run("rm", "-f", trace)
	stays := *p
	stays.env = []string{"FRESHKEEL_TEST_STAY_AT=" + at, traceTo + "=" + trace}
	done := make(chan int, 1)
	go func() {
		_, code := stays.try(args...)
		done <- code
	}()
	require.Eventually(p.t, func() bool {
		out, _ := p.run("cat", trace)
		return slices.ContainsFunc(strings.Split(out, "\n"), func(l string) bool {
			return l == at || strings.HasPrefix(l, at+" ")
		})
	}, 40*time.Second, 100*time.Millisecond, "%s never came to %s", p.unit, at)
	return func() int {
		p.run("rm", "-f", trace)
		return <-done
	}
}

// isUp waits until the server runs, of a version where one is given, and nobody is at work on it.
func (p *pond) isUp(version string) {
	p.t.Helper()
	var s any
	require.Eventually(p.t, func() bool {
		now := p.status()
		s = now
		return now.Server.Running && now.Busy == "" && (version == "" || now.Version == version)
	}, 60*time.Second, 300*time.Millisecond, "%v", fmt.Sprint(s))
}

var versionIn = regexp.MustCompile(`\d\.\d\.\d`)
