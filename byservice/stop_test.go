//go:build linux

package byservice

import (
	"strings"
	"testing"

	"freshkeel/demo"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A unit that signals only its main process leaves the server untold: it gets the terminate signal from
// here, saves, and ends at once. What else is in the unit's group is named and left.
func TestAStopTellsTheServerThatItsUnitDoesNot(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		unit    string
		console bool
	}{
		"main-alone":  {"KillMode=process\nRestart=on-failure\nExecStart=/bin/sh -c 'DIR/open-gates.sh </dev/zero & wait'\n", false},
		"main-first":  {"KillMode=mixed\nRestart=always\nRestartSec=50ms\nExecStart=/bin/sh -c 'DIR/open-gates.sh </dev/zero; true'\n", false},
		"more-inside": {"Type=oneshot\nRemainAfterExit=yes\nKillMode=process\nExecStart=DIR/both.sh\n", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := settle(t, name, c.unit)
			if c.console { // its lines go to a terminal
				p.put(p.dir+"/mossgate-east/both.sh", "#!/bin/sh\ncd \"$(dirname \"$0\")\"\n"+
					"tmux -L more new -d -s other 'sleep 1000'\ntmux -L more new -d -s game ./open-gates.sh\n", 0o755)
				p.ok(t, "chown", "pond", p.dir+"/mossgate-east/both.sh")
				p.ours(exitDone, "profile", "set", "ready.line", "")
				p.ours(exitDone, "profile", "set", "ready.version", "")
			}
			p.ours(exitDone, "start")
			out := p.ours(exitDone, "refit", "3.5.0")
			assert.Contains(t, out, "its service does not signal all of its processes (KillMode)")
			assert.NotContains(t, out, "kill")
			out = p.ours(exitDone, "stop")
			assert.Contains(t, out, "by the terminate signal")
			assert.NotContains(t, out, "is lost")
			assert.Equal(t, "inactive", p.shows("ActiveState"))
			p.ours(exitDown, "status")
			log := p.ok(t, "sh", "-c", "cat "+p.dir+"/mossgate-east/logs/*; journalctl --no-pager -u "+p.unit)
			assert.Contains(t, log, "good night", "it saved")
			if c.console {
				assert.Contains(t, out, "left running, as they are none of this install's")
				p.ok(t, "pgrep", "-f", "sleep 1000")
			}
		})
	}
}

// What a unit's manager kills, as it took too long, is told as killed; and that it would, before.
func TestAStopThatItsManagerCutsShortIsTold(t *testing.T) {
	t.Parallel()
	stubborn := demo.Releases[0]
	stubborn.Behaviour = demo.Stubborn
	p := settle(t, "cut-short", "ExecStart=DIR/open-gates.sh\nTimeoutStopSec=2\n", stubborn, demo.Releases[1])
	p.ours(exitDone, "start")
	out := p.ours(exitDone, "preflight", "3.5.0", "--all")
	assert.Contains(t, oneSpace(out), "the service is killed 2s after it was told to stop (TimeoutStopSec), and [stop] wait is")
	out = p.ours(exitDone, "refit", "3.5.0")
	assert.Contains(t, oneSpace(out), "at its stop the server was killed by its manager after 2s (TimeoutStopSec of cut-short.service): "+
		"what it had not saved is lost")
	require.Equal(t, "3.5.0", p.status().Version)
}

// Units that are bound to the server's stop with it: they are named before, and run again after, also after
// a command that was killed meanwhile.
func TestWhatStopsWithTheServerIsStartedAgain(t *testing.T) {
	t.Parallel()
	p := settle(t, "bound", "ExecStart=DIR/open-gates.sh\n")
	for name, how := range map[string]string{"map": "BindsTo=bound.service\nAfter=bound.service\n",
		"stats":  "PartOf=bound.service\n",
		"asleep": "PartOf=bound.service\n"} {
		p.put("/etc/systemd/system/bound-"+name+".service", "[Unit]\n"+how+"[Service]\nExecStart=/bin/sleep 10000\n", 0o644)
	}
	t.Cleanup(func() { p.run("sh", "-c", "systemctl stop bound-map bound-stats; rm /etc/systemd/system/bound-*") })
	p.ok(t, "systemctl", "daemon-reload")
	p.ours(exitDone, "start")
	p.ok(t, "systemctl", "start", "bound-map", "bound-stats")
	running := func(at string) {
		t.Helper()
		for name, want := range map[string]string{"map": "active", "stats": "active", "asleep": "inactive"} {
			out, _ := p.run("systemctl", "is-active", "bound-"+name)
			assert.Equal(t, want, strings.TrimSpace(out), "%s: %s", at, name)
		}
	}
	out := p.ours(exitDone, "preflight", "3.5.0")
	assert.Contains(t, oneSpace(out), "what is bound to bound.service stops with it, and is started again once it is up: "+
		"bound-map.service, bound-stats.service")
	p.ours(exitDone, "refit", "3.5.0")
	running("after a refit")
	p.ours(exitRolledBack, "refit", "3.6.0")
	running("after a build that died")
	for _, at := range []string{"stopped", "swap:2", "started"} {
		p.env = []string{dieAt + "=" + at}
		p.try("refit", "3.6.0")
		p.env = nil
		p.ours(exitDone, "recover")
		running("killed at " + at)
	}
	p.ours(exitDone, "stop")
	p.put("/etc/systemd/system/bound-map.service",
		"[Unit]\nBindsTo=bound.service\n[Service]\nType=oneshot\nExecStart=/bin/false\n", 0o644)
	p.ok(t, "systemctl", "daemon-reload")
	out = p.ours(exitDone, "start")
	assert.Contains(t, out, "could not be started again: bound-map.service: its start ended with failed")
}

// A user who is not root manages the services of one server by one printed rule, and no others.
func TestAUserManagesOneServerByOneRule(t *testing.T) {
	t.Parallel()
	p := settle(t, "ruled", straight)
	p.ours(exitDone, "profile", "set", "launch.script", "")
	p.ours(exitDone, "profile", "set", "launch.memory", "512M")
	if _, code := p.run("sh", "-c", "command -v sudo"); code != 0 {
		t.Skip("sudo is not here")
	}
	p.as = []string{"setpriv", "--reuid=pond", "--regid=pond", "--clear-groups", "env", "HOME=/home/pond"}
	out := p.ours(exitFailed, "start")
	assert.Contains(t, out, "pond may not start and stop the service ruled.service")
	rule := p.ours(exitDone, "unit", "--rights")
	assert.Contains(t, rule, "pond ALL=(root) NOPASSWD: /usr/local/bin/freshkeel answer-as-root "+p.dir+"/mossgate-east\n")
	var file string
	for l := range strings.Lines(rule) {
		if !strings.Contains(l, "note: ") && !strings.Contains(l, "put it at") {
			file += l
		}
	}
	out, _ = p.run(append(append([]string{}, p.as...), "FRESHKEEL_HOME="+p.dir+"/home", p.dir+"/bin/freshkeel", "-d",
		p.dir+"/mossgate-east",
		"unit", "--rights")...)
	assert.Contains(t, out, "can be exchanged by others than root", "a rule for a program of one's own would be root")
	p.put("/etc/sudoers.d/freshkeel-ruled", file, 0o440)
	p.ok(t, "visudo", "-c", "-f", "/etc/sudoers.d/freshkeel-ruled")
	t.Cleanup(func() { p.run("rm", "-f", "/etc/sudoers.d/freshkeel-ruled") })
	p.ours(exitDone, "profile", "set", "host.rights", "sudo")
	p.ours(exitDone, "start")
	p.ok(t, "sh", "-c", "id newt 2>/dev/null || useradd -m newt; chmod 755 "+p.dir+" "+p.dir+"/mossgate-east")
	stranger := *p // who may read the folder
	stranger.as = []string{"setpriv", "--reuid=newt", "--regid=newt", "--clear-groups"}
	out = stranger.ours(exitDone, "status")
	assert.Contains(t, out, "RUNNING  mossgate-east")
	assert.Contains(t, out, "another user's server")
	p.ours(exitDone, "refit", "3.5.0")
	assert.Contains(t, p.shows("ExecStart"), "-Xmx512M", "its own line was written")
	assert.Contains(t, p.ours(exitDone, "log"), "gates open")
	p.ours(exitRolledBack, "refit", "3.6.0")
	p.ours(exitDone, "rollback")
	p.ours(exitDone, "stop")
	p.ours(exitDown, "status")
	left, _ := p.run("sh", "-c", "ls /etc/systemd/system/"+p.unit+".d /etc/systemd/system/freshkeel-settle-"+p.unit)
	assert.NotContains(t, left, "guard")
	// Nothing else comes of it: another service, another folder, another user.
	asks := func(as, dir, question string) string {
		cmd := p.command("setpriv", "--reuid="+as, "--regid="+as, "--clear-groups", "sudo", "-n",
			"/usr/local/bin/freshkeel", "answer-as-root", dir)
		cmd.Stdin = strings.NewReader(question + "\n")
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	p.put("/etc/systemd/system/ruled-else.service", "[Service]\nUser=pond\nExecStart=/bin/sleep 1000\n", 0o644)
	p.ok(t, "systemctl", "daemon-reload")
	assert.Contains(t, asks("pond", p.dir+"/mossgate-east", `{"unit":"ruled-else.service","do":"start"}`),
		"root does not touch it for pond")
	assert.Contains(t, asks("pond", "/srv", `{"unit":"ruled.service","do":"start"}`), "a password is required")
	stranger.ours(exitDown, "status")
	assert.Contains(t, asks("newt", p.dir+"/mossgate-east", `{"unit":"ruled.service","do":"start"}`),
		"a password is required")
}

func oneSpace(s string) string { return strings.Join(strings.Fields(s), " ") }
