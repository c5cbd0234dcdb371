//go:build linux

// Package byservice runs the program over servers that a real service manager runs: the
// machine's own systemd, booted apart from the machine.
package byservice

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	exitDone       = 0
	exitFailed     = 1
	exitRefused    = 3
	exitRolledBack = 4
	exitHands      = 5
	exitDown       = 11

	dieAt   = "FRESHKEEL_TEST_DIE_AT"
	traceTo = "FRESHKEEL_TEST_TRACE"
)

func TestResultsGoWithTheProgram(t *testing.T) { proving.GoWithProgram(t) }

// Each kind of unit that people write is refitted, rolled back and stopped as with a minder:
// the server stays in its own unit, under its own user, and no unit ends as failed.
func TestUnitsOfEveryKind(t *testing.T) {
	t.Parallel()
	kinds := map[string]string{
		"script":   "ExecStart=DIR/open-gates.sh\nRestart=always\nRestartSec=100ms\n",
		"straight": straight,
		"forking":  "Type=forking\nExecStart=/bin/sh -c 'DIR/open-gates.sh >DIR/../out.txt 2>&1 </dev/zero &'\nSuccessExitStatus=143\n",
		"oneshot": "Type=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sh -c 'DIR/open-gates.sh </dev/zero &'\n" +
			"ExecStop=/bin/true\n",
		"shell":   "ExecStart=/bin/sh -c 'exec DIR/open-gates.sh'\n",
		"world@1": "ExecStart=/srv/%p@%i/mossgate-east/open-gates.sh\nRestart=always\nRestartSec=100ms\n",
		"piped":   "ExecStart=/bin/sh -c 'exec DIR/open-gates.sh 0<>DIR/../console'\nExecStartPre=/bin/sh -c 'test -p DIR/../console || mkfifo -m 600 DIR/../console'\n",
		"inside":  "Type=oneshot\nRemainAfterExit=yes\nKillMode=process\nExecStart=/usr/bin/tmux -L inside new -d -s gates DIR/open-gates.sh\n",
		"notify": "Type=notify\nNotifyAccess=all\nTimeoutStartSec=20\n" +
			"ExecStart=/bin/sh -c '(sleep 0.4; systemd-notify --ready) & exec DIR/open-gates.sh'\n",
	}
	for i, name := range slices.Sorted(maps.Keys(kinds)) {
		unit := kinds[name]
		if !today(i, 3) {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := settle(t, name, unit)
			if name == "inside" { // its program is root's: root does not run it for another user
				p.ok(t, "chown", "-R", "root:root", p.dir)
				p.ok(t, "sed", "-i", "/^User=/d", "/etc/systemd/system/"+p.unit)
				p.ok(t, "systemctl", "daemon-reload")
			}
			if strings.Contains(name, "@") { // an instance is known by being enabled
				p.ok(t, "sh", "-c", "mkdir -p /etc/systemd/system/multi-user.target.wants; ln -s ../world@.service "+
					"/etc/systemd/system/multi-user.target.wants/"+p.unit)
			}
			p.adoptedAs(name)
			if name == "inside" {
				p.ours(exitDone, "profile", "set", "ready.log", "logs/mossgate.log")
			}
			if name == "straight" || name == "forking" {
				p.ours(exitDone, "profile", "set", "launch.script", "")
			}
			if name == "forking" { // its lines go to a file: the port tells
				p.ours(exitDone, "profile", "set", "ready.line", "")
				p.ours(exitDone, "profile", "set", "ready.version", "")
			}
			if name == "inside" {
				p.ours(exitDone, "stop")
			}
			p.ours(exitDone, "start")
			first := p.status()
			assert.True(t, first.Server.Running)
			assert.Equal(t, "as the service "+p.unit, first.Server.By)
			assert.Empty(t, first.Outside)
			out := p.ours(exitDone, "preflight", "3.5.0", "--all")
			if name != "inside" {
				assert.Contains(t, out, "the service "+p.unit+" runs the server as pond")
			}
			if name == "inside" || name == "piped" { // its console is known
				p.ours(exitDone, "send", "say moor hens")
				require.Eventually(t, func() bool { o, _ := p.try("log"); return strings.Contains(o, "to everybody: moor hens") },
					5*time.Second, 100*time.Millisecond)
			}
			p.ours(exitDone, "refit", "3.5.0")
			s := p.status()
			assert.Equal(t, "3.5.0", s.Version)
			assert.Equal(t, "active", p.shows("ActiveState"))
			group := p.ok(t, "cat", fmt.Sprintf("/proc/%d/cgroup", s.Server.Processes[len(s.Server.Processes)-1]))
			assert.Contains(t, group, p.unit, "not in the group of whoever ran the refit")
			owner := p.ok(t, "stat", "-c", "%U", fmt.Sprintf("/proc/%d", s.Server.Processes[0]))
			if name != "inside" {
				assert.Equal(t, "pond\n", owner)
			}

			out = p.ours(exitRolledBack, "refit", "3.6.0")
			assert.Contains(t, out, "3.5.0 is running again")
			assert.Equal(t, "active", p.shows("ActiveState"))
			p.ours(exitDone, "rollback")
			assert.Equal(t, "3.4.1", p.status().Version)
			assert.Contains(t, p.text("README.txt"), "3.4.1")
			p.ours(exitDone, "stop")
			p.ours(exitDone, "stop")
			p.ours(exitDown, "status")
			assert.Equal(t, "inactive", p.shows("ActiveState"), "stopped, and not failed")
		})
	}
}

// adoptedAs looks whether adopt finds the unit, with the server down and with it up, and what of its console.
func (p *pond) adoptedAs(kind string) {
	p.t.Helper()
	at := p.dir + "/mossgate-east"
	p.ok(p.t, "mv", at+"/freshkeel.toml", p.dir+"/kept.toml")
	out := p.ours(exitDone, "adopt", at, "--dry-run")
	assert.Contains(p.t, out, "unit = '"+p.unit+"'", "%s, down", kind)
	p.ok(p.t, "systemctl", "start", p.unit)
	require.Eventually(p.t, func() bool { return p.shows("ActiveState") == "active" }, 10*time.Second, 50*time.Millisecond)
	time.Sleep(300 * time.Millisecond)
	out = p.ours(exitDone, "adopt", at, "--dry-run")
	assert.Contains(p.t, out, "unit = '"+p.unit+"'", "%s, up", kind)
	switch kind {
	case "piped":
		assert.Contains(p.t, out, "console = '"+p.dir+"/console'", "its standard input")
	case "inside":
		assert.Contains(p.t, out, "say = ['tmux', '-S', ")
	}
	console := ""
	for l := range strings.Lines(out) {
		if l = strings.TrimSpace(l); strings.HasPrefix(l, "say = ") || strings.HasPrefix(l, "console = ") {
			console, _, _ = strings.Cut(l, "   #")
		}
	}
	text := p.ok(p.t, "cat", p.dir+"/kept.toml")
	p.put(at+"/freshkeel.toml", text+console+"\n", 0o644)
	if kind != "inside" {
		p.ok(p.t, "chown", "pond:pond", at+"/freshkeel.toml")
		p.ok(p.t, "systemctl", "stop", p.unit)
	}
}

// A unit that starts its server again and again makes no dying build look alive, and none of
// its starts falls into the swap.
func TestAUnitThatRestartsHidesNoDyingBuild(t *testing.T) {
	// Not beside others: they have the manager read its units anew while it counts starts.
	dying := demo.Releases[1]
	dying.Behaviour = demo.DiesSteady
	p := settle(t, "again", "ExecStart=DIR/open-gates.sh\nRestart=always\nRestartSec=50ms\n",
		demo.Releases[0], dying)
	p.ours(exitDone, "profile", "set", "ready.steady", "2s")
	p.ours(exitDone, "start")
	out := p.ours(exitRolledBack, "refit", "3.5.0")
	assert.Contains(t, out, "3.4.1 is running again")
	assert.Equal(t, "3.4.1", p.status().Version)
	// Its manager starts what crashed, and status tells so.
	p.ok(t, "systemctl", "kill", "--signal=KILL", p.unit)
	require.Eventually(t, func() bool { return p.status().Server.Restarts == 1 }, 10*time.Second, 200*time.Millisecond)
	out, _ = p.try("status")
	assert.Contains(t, out, "started it 1 more time since somebody did")
	// A line at its console ends it; its manager is not to start it again.
	p.ok(t, "mkfifo", "-m", "600", p.dir+"/console")
	p.ok(t, "chown", "pond", p.dir+"/console")
	p.put("/etc/systemd/system/"+p.unit+".d/console.conf", "[Service]\nExecStart=\nExecStart=/bin/sh -c 'exec "+p.dir+
		"/mossgate-east/open-gates.sh 0<>"+p.dir+"/console'\n", 0o644)
	p.ok(t, "systemctl", "daemon-reload")
	p.ours(exitDone, "profile", "set", "host.console", p.dir+"/console")
	p.ours(exitDone, "stop")
	p.ours(exitDone, "start")
	p.ours(exitDone, "send", "members")
	require.Eventually(t, func() bool { out, _ := p.try("log"); return strings.Contains(out, "Wilmot Pondweed") },
		5*time.Second, 100*time.Millisecond)
	// A log that is followed goes on from now, however many lines of other starts the journal has.
	p.hears("to everybody: moor hens", func() { p.try("send", "say moor hens") })
	out, _ = p.run("timeout", "2", "env", "FRESHKEEL_HOME="+p.dir+"/home", "freshkeel", "-d", p.dir+"/mossgate-east", "log",
		"-f", "-n", "2")
	assert.LessOrEqual(t, strings.Count(out, "\n"), 3, out)
	p.ours(exitDone, "profile", "set", "stop.send", "close")
	p.ours(exitDone, "stop")
	out, _ = p.try("log")
	assert.Contains(t, out, "> close", "by its own line")
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, "inactive", p.shows("ActiveState"))
	p.run("rm", "-rf", "/etc/systemd/system/"+p.unit+".d")
}

// A unit that tells its manager when it is ready is up when it has: a ready line alone is not it.
func TestAUnitThatNeverTellsThatItIsReady(t *testing.T) {
	t.Parallel()
	p := settle(t, "mute", "Type=notify\nNotifyAccess=all\nTimeoutStartSec=infinity\n"+
		"ExecStart=/bin/sh -c '(sleep 0.2; test -e DIR/lib || systemd-notify --ready) & exec DIR/open-gates.sh'\n")
	p.ours(exitDone, "profile", "set", "ready.within", "4s") // its manager would wait for ever
	p.ours(exitDone, "start")
	out := p.ours(exitRolledBack, "refit", "3.5.0") // which brings lib
	assert.Contains(t, out, "mute.service did not tell its manager that it is ready")
	assert.Equal(t, "3.4.1", p.status().Version)
	assert.Equal(t, "active", p.shows("ActiveState"))
}

// What may not be managed, is masked, or may not write is refused while the old server runs, with
// the one rule or command that helps.
func TestUnitsThatCantBeRefittedAreRefusedBefore(t *testing.T) {
	// Not beside others: a manager that reads its units anew forgets how often they failed.
	p := settle(
		t,
		"kept",
		"ExecStart=DIR/open-gates.sh\nProtectSystem=strict\nReadWritePaths=DIR/logs DIR/gardens\nMemoryMax=100M\n",
	)
	p.ok(t, "mkdir", "-p", p.dir+"/mossgate-east/logs")
	p.ours(exitDone, "start")
	out := p.ours(exitDone, "preflight", "3.5.0")
	assert.Contains(t, out, "may write to logs, gardens of the install alone (ProtectSystem=strict)")
	assert.Contains(
		t,
		strings.Join(strings.Fields(out), " "),
		"may take a heap of 256.0 MiB, and the service ends it at 100.0 MiB",
	)
	before := p.status().Server.PID
	p.as = []string{"setpriv", "--reuid=pond", "--regid=pond", "--clear-groups"}
	out = p.ours(exitRefused, "refit", "3.5.0")
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "pond may not start and stop the service kept.service")
	assert.Contains(t, out, "org.freedesktop.systemd1.manage-units")
	p.as = nil
	assert.Equal(t, before, p.status().Server.PID, "the server was not touched")
	// Root does it for the user, but never with a unit that is not the user's.
	p.ours(exitDone, "profile", "set", "host.unit", "dbus.service")
	out = p.ours(exitRefused, "refit", "3.5.0")
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "root does not touch it")
	p.ours(exitFailed, "stop")
	assert.Equal(t, "active", strings.TrimSpace(p.ok(t, "systemctl", "is-active", "dbus.service")))
	p.ours(exitDone, "profile", "set", "host.unit", p.unit)
	p.ours(exitDone, "stop")
	p.ok(t, "systemctl", "mask", "--runtime", "--force", p.unit)
	p.ok(t, "mv", "/etc/systemd/system/"+p.unit, p.dir+"/unit")
	p.ok(t, "systemctl", "daemon-reload")
	out = p.ours(exitRefused, "refit", "3.5.0", "--start")
	assert.Contains(t, out, "it is masked")
	p.ok(t, "systemctl", "unmask", "--runtime", p.unit)
	p.ok(t, "mv", p.dir+"/unit", "/etc/systemd/system/"+p.unit)
	p.ok(t, "systemctl", "daemon-reload")
	p.put("/etc/systemd/system/"+p.unit+".d/never.conf", "[Unit]\nConditionPathExists=/nowhere\n", 0o644)
	p.ok(t, "systemctl", "daemon-reload")
	out = p.ours(exitFailed, "start")
	assert.Contains(t, out, "a condition of it does not hold")
	// A unit that failed too often for its manager is another one now.
	p.put(
		"/etc/systemd/system/"+p.unit+".d/never.conf",
		"[Unit]\nStartLimitIntervalSec=1h\nStartLimitBurst=1\n[Service]\n"+
			"ExecStartPre=/usr/bin/test -e "+p.dir+"/mended\n",
		0o644,
	)
	p.ok(t, "systemctl", "daemon-reload")
	p.run("systemctl", "start", p.unit)
	out, _ = p.run("systemctl", "start", p.unit)
	require.Equal(t, "failed", p.shows("ActiveState"), out)
	p.ok(t, "touch", p.dir+"/mended")
	if _, code := p.run("systemctl", "start", p.unit); code == 0 {
		t.Error("its manager was to refuse it")
	}
	p.ours(exitDone, "start")
	p.run("rm", "-rf", "/etc/systemd/system/"+p.unit+".d")
}

// The journal may be rotated and emptied while it is followed.
func TestTheJournalIsFollowedOverItsRotation(t *testing.T) {
	p := settle(t, "rotated", "ExecStart=DIR/open-gates.sh\nEnvironment=FRESHKEEL_DEMO_PACE=300\n")
	done := make(chan string)
	go func() {
		out, code := p.try("start")
		done <- fmt.Sprintf("%d %s", code, out)
	}()
	for said := ""; said == ""; {
		p.run("journalctl", "--rotate")
		p.run("journalctl", "--vacuum-size=1K", "--vacuum-time=1s")
		select {
		case said = <-done:
		case <-time.After(50 * time.Millisecond):
		}
		if said != "" {
			assert.True(t, strings.HasPrefix(said, "0 "), said)
			assert.Contains(t, said, "its ready line came")
		}
	}
}

// A unit whose lines go to a file is heard there; without its file's name, a refit is refused
// before it would wait in vain. Its environment's files and its limits are the server's.
func TestAUnitWhoseLinesGoToAFile(t *testing.T) {
	t.Parallel()
	p := settle(
		t,
		"filed",
		"WorkingDirectory=DIR\nEnvironment=MEM=9G\nEnvironmentFile=-/srv/nowhere\nEnvironmentFile=/srv/filed/memory\n"+
			"ExecStart=DIR/../runtimes/17/bin/java -Xmx${MEM} -jar mossgate.jar\n"+
			"StandardOutput=append:DIR/logs/out.log\nStandardError=inherit\nLimitNOFILE=300\n",
	)
	p.put(p.dir+"/memory", "# of the club\nMEM=\"200M\"\nOTHER=a b\n", 0o644)
	p.ok(t, "mkdir", "-p", p.dir+"/mossgate-east/logs")
	p.ok(t, "chown", "-R", "pond:pond", p.dir+"/mossgate-east/logs")
	p.ours(exitDone, "profile", "set", "launch.script", "")
	p.ours(exitDone, "profile", "set", "ready.log", "")
	p.ok(t, "systemctl", "start", p.unit)
	out := strings.Join(strings.Fields(p.ours(exitRefused, "preflight", "3.5.0", "--all")), " ")
	assert.Contains(t, out, "the lines of filed.service don't go to the journal (StandardOutput=append)")
	assert.Contains(t, out, "-Xmx200M of filed.service fits", "the file counts over the unit's own")
	assert.Contains(t, out, "its service may have 300 files open, which is few")
	assert.Contains(t, out, "LimitNOFILE=4096 by: systemctl edit filed.service")

	for _, name := range []string{"log", "command"} {
		if name == "log" {
			p.ours(exitDone, "profile", "set", "ready.log", "logs/out.log")
		} else {
			p.ours(exitDone, "profile", "set", "ready.log", "")
			p.ours(exitDone, "profile", "set", "host.follow", "--", "tail", "-n", "0", "-F", p.dir+"/mossgate-east/logs/out.log")
		}
		p.ours(exitDone, "refit", "3.5.0")
		assert.Equal(t, "3.5.0", p.status().Version, name)
		p.ours(exitRolledBack, "refit", "3.6.0")
		p.hears("a word of "+name, func() {
			p.run("sh", "-c", "echo a word of "+name+" >> "+p.dir+"/mossgate-east/logs/out.log")
		})
		p.ours(exitDone, "rollback")
		if name == "log" {
			assert.Contains(t, p.ours(exitDone, "log"), "gates open")
		}
	}
}

// Killed at each step of a refit of a service, the next command leads to one of two trees, and
// the service runs.
func TestKilledAtEachStepOverAService(t *testing.T) {
	t.Parallel()
	p := settle(t, "killed", straight+"Restart=on-failure\nRestartSec=100ms\n")
	p.ours(exitDone, "profile", "set", "launch.script", "")
	p.ours(exitDone, "profile", "set", "launch.memory", "512M")
	p.ours(exitDone, "start")
	trace := p.dir + "/trace"
	p.env = []string{traceTo + "=" + trace}
	p.ours(exitDone, "refit", "3.5.0")
	p.ours(exitDone, "rollback")
	steps := strings.Fields(p.ok(t, "sh", "-c", "sed 's/ .*//' "+trace))
	p.env = nil
	seen := map[string]bool{}
	var all []string
	for _, s := range steps {
		_, n, counted := strings.Cut(s, ":")
		each := counted && n != "1" && strings.Trim(n, "0123456789") == "" // exchanges of files are crash's
		if !seen[s] && !each {
			seen[s] = true
			all = append(all, s)
		}
	}
	require.Greater(t, len(all), 15)
	var some []string
	for i, s := range all {
		if today(i, 6) { // a sixth each day
			some = append(some, s)
		}
	}
	all = some
	for _, step := range all {
		p.env = []string{dieAt + "=" + step}
		out, code := p.try("refit", "3.5.0")
		p.env = nil
		p.ours(exitDone, "recover")
		s := p.status()
		require.True(t, s.Server.Running, "%s: %d %s", step, code, out)
		require.Contains(t, p.text("README.txt"), "server "+s.Version+"\n", step)
		require.Equal(t, "active", p.shows("ActiveState"), step)
		line := map[string]string{"3.4.1": "-Xmx256M", "3.5.0": "-Xmx512M"}[s.Version]
		require.Contains(t, p.shows("ExecStart"), line, step)
		if s.Version == "3.5.0" {
			p.ours(exitDone, "rollback")
		}
	}
}

// The unit that freshkeel writes runs the server at boot: a refit from outside exchanges it there,
// and the unit's end is the server's. A server that a unit runs is adopted as that.
func TestTheUnitThatIsWrittenForTheBoot(t *testing.T) {
	t.Parallel()
	p := settle(t, "boots", "ExecStart=DIR/open-gates.sh\n")
	p.ok(t, "systemctl", "start", p.unit)
	text := p.text("freshkeel.toml")
	p.ok(t, "mv", p.dir+"/mossgate-east/freshkeel.toml", p.dir+"/before.toml")
	out := p.ours(exitDone, "adopt", p.dir+"/mossgate-east", "--dry-run")
	assert.Contains(t, out, "unit = 'boots.service'")
	assert.Contains(t, out, "script = 'open-gates.sh'", "which the unit runs")
	p.ok(t, "systemctl", "stop", p.unit)
	out = p.ours(exitDone, "adopt", p.dir+"/mossgate-east", "--dry-run") // a server that is down
	assert.Contains(t, out, "unit = 'boots.service'")
	p.put(p.dir+"/mossgate-east/freshkeel.toml", text[:strings.Index(text, "[host]")], 0o644)
	p.ok(t, "chown", "pond:pond", p.dir+"/mossgate-east/freshkeel.toml")
	p.put("/etc/systemd/system/"+p.unit, p.ours(exitDone, "unit"), 0o644)
	p.ok(t, "systemctl", "daemon-reload")
	p.ok(t, "systemctl", "start", p.unit)
	require.Eventually(
		t,
		func() bool { s := p.status(); return s.State == "up" && s.Busy == "" },
		20*time.Second,
		200*time.Millisecond,
	)
	p.ours(exitDone, "refit", "3.5.0")
	s := p.status()
	assert.Equal(t, "3.5.0", s.Version)
	assert.Contains(t, p.ok(t, "cat", fmt.Sprintf("/proc/%d/cgroup", s.Server.PID)), p.unit, "in the unit's own group")
	p.ours(exitRolledBack, "refit", "3.6.0")
	assert.Equal(t, "active", p.shows("ActiveState"))
	assert.Equal(t, "0", p.shows("NRestarts"))
	p.ok(t, "systemctl", "stop", p.unit)
	assert.Equal(t, "inactive", p.shows("ActiveState"), "it never counts as failed")
	p.ours(exitDown, "status")
	assert.Contains(t, p.ours(exitDone, "log"), "closing the gates")
	// Names that a unit would read as something else.
	odd := p.dir + "/moss 50% $east"
	p.ok(t, "mv", p.dir+"/mossgate-east", odd)
	at := []string{"env", "FRESHKEEL_HOME=" + p.dir + "/home", "freshkeel", "-d", odd, "--plain"}
	text = p.ok(t, append(at, "unit")...)
	p.put("/etc/systemd/system/"+p.unit, text[strings.Index(text, "# Written"):], 0o644)
	p.ok(t, "systemctl", "daemon-reload")
	p.ok(t, "systemctl", "start", p.unit)
	require.Eventually(t, func() bool { _, code := p.run(append(at, "status")...); return code == 0 }, 20*time.Second,
		200*time.Millisecond)
	p.ok(t, "systemctl", "stop", p.unit)
	out, code := p.run(append(at, "unit", "--write", "/etc/systemd/system/odd.service")...)
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, out, "this is not root any more")
	assert.Contains(t, out, "your shell writes it")
}

// Somebody who starts the unit in the middle of a refit: before the exchange that is noticed and nothing is
// exchanged, within it the manager refuses; never do files move under a server that runs.
func TestSomebodyStartsTheUnitMeanwhile(t *testing.T) {
	t.Parallel()
	p := settle(t, "meddled", "ExecStart=DIR/open-gates.sh\n")
	p.ours(exitDone, "start")
	for _, c := range []struct {
		at      string
		starts  int
		refit   int
		version string
	}{{"backup", 0, exitFailed, "3.4.1"}, {"swap:2", 1, exitDone, "3.5.0"}} {
		goOn := p.begins(c.at, "refit", "3.5.0")
		out, code := p.run("systemctl", "start", p.unit)
		assert.Equal(t, c.starts, code, "%s: %s", c.at, out)
		assert.Equal(t, c.refit, goOn(), c.at)
		s := p.status()
		assert.Equal(t, c.version, s.Version, c.at)
		assert.True(t, s.Server.Running, c.at)
		assert.Contains(t, p.text("README.txt"), c.version, c.at)
		assert.Contains(t, p.text("tracks/dew-loop.track"), c.version, c.at)
	}

	// The guard of an install that is gone blocks nothing.
	p.ours(exitDone, "rollback")
	p.env = []string{dieAt + "=swap:2"}
	p.try("refit", "3.5.0")
	p.env = nil
	p.ok(t, "mv", p.dir+"/mossgate-east", p.dir+"/away")
	p.run("systemctl", "start", p.unit)
	assert.Equal(t, "yes", p.shows("AssertResult"), "what it runs is gone, and nothing else keeps it from starting")
	p.ok(t, "mv", p.dir+"/away", p.dir+"/mossgate-east")
	// Somebody who takes the guard away, and starts a mixture, is told so, and finds what it wrote.
	p.ok(t, "rm", "/etc/systemd/system/"+p.unit+".d/zz-freshkeel-guard.conf")
	p.ok(t, "systemctl", "daemon-reload")
	p.ok(t, "systemctl", "reset-failed", p.unit)
	p.ok(t, "systemctl", "start", p.unit)
	p.put(p.dir+"/mossgate-east/members.txt", "a snail in a mixture\n", 0o644)
	out := oneSpace(p.ours(exitDone, "recover"))
	assert.Contains(t, out, "while its files were of two builds")
	assert.Contains(t, p.text("README.txt"), "3.4.1")
	assert.NotContains(t, p.text("members.txt"), "mixture")
	p.ok(t, "grep", "-rq", "a snail in a mixture", p.dir+"/mossgate-east/.freshkeel/refits")
}

// A unit of a user's own manager needs no rights at all.
func TestAUnitOfAUsersOwn(t *testing.T) {
	t.Parallel()
	p := settle(t, "own", "ExecStart=DIR/open-gates.sh\n")
	uid := strings.TrimSpace(p.ok(t, "id", "-u", "pond"))
	p.ok(t, "mkdir", "-p", "/run/user/"+uid)
	p.ok(t, "chown", "pond:pond", "/run/user/"+uid)
	p.put("/home/pond/.config/systemd/user/"+p.unit, "[Service]\nEnvironment=FRESHKEEL_DEMO_PACE=10\n"+
		strings.ReplaceAll(straight, "DIR", p.dir+"/mossgate-east"), 0o644)
	p.ok(t, "chown", "-R", "pond:pond", "/home/pond")
	if out, code := p.run("systemctl", "start", "user@"+uid+".service"); code != 0 {
		t.Skipf("this machine's manager starts none for a user: %s", out)
	}
	t.Cleanup(func() { p.run("systemctl", "stop", "user@"+uid+".service") })
	p.ours(exitDone, "profile", "set", "host.user", "true")
	p.as = []string{
		"setpriv",
		"--reuid=pond",
		"--regid=pond",
		"--clear-groups",
		"env",
		"XDG_RUNTIME_DIR=/run/user/" + uid,
		"HOME=/home/pond",
		"DBUS_SESSION_BUS_ADDRESS=unix:path=/run/user/" + uid + "/bus",
	}
	p.ours(exitDone, "profile", "set", "launch.script", "")
	p.ours(exitDone, "profile", "set", "launch.memory", "512M")
	p.ours(exitDone, "start")
	p.ours(exitDone, "refit", "3.5.0")
	out, _ := p.try("status")
	assert.Contains(t, out, "as the user's service own.service")
	dropIn := "/home/pond/.config/systemd/user/" + p.unit + ".d/zz-freshkeel.conf"
	assert.Contains(t, p.ok(t, "cat", dropIn), "-Xmx512M")
	p.ours(exitRolledBack, "refit", "3.6.0")
	p.ours(exitDone, "stop")
}
