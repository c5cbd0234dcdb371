//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A server that the operator's own commands run in a terminal multiplexer is refitted and rolled
// back by these; what they say and what runs must agree.
func TestAServerOfTheOperatorsOwnCommands(t *testing.T) {
	t.Parallel()
	tmux, err := exec.LookPath("tmux")
	if err != nil && os.Getenv("FRESHKEEL_TEST_MUST_TMUX") == "" {
		t.Skip("tmux is not here")
	}
	require.NoError(t, err)
	p := mossgate(t)
	socket := filepath.Join(p.Dir, "s")
	run := tmux + " -S " + socket + " "
	t.Cleanup(func() { exec.Command(tmux, "-S", socket, "kill-server").Run() })
	p.Put("up.sh", "#!/bin/sh\n"+run+"new-session -d -s gates ./open-gates.sh\n")
	p.Put("down.sh", "#!/bin/sh\n"+run+"send-keys -t gates close Enter\nfor n in 1 2 3 4 5 6 7 8 9; do\n  "+run+
		"has-session -t gates 2>/dev/null || exit 0\n  sleep 0.3\ndone\nexit 1\n")
	p.Put("is-up.sh", "#!/bin/sh\n"+run+"has-session -t gates 2>/dev/null\n")
	for _, s := range []string{"up.sh", "down.sh", "is-up.sh"} {
		require.NoError(t, os.Chmod(filepath.Join(p.Install, s), 0o755))
	}
	p.EditProfile(func(s string) string {
		return strings.Replace(
			s,
			"[ready]",
			"[host]\nstart = ['./up.sh']\nstop = ['./down.sh']\nstatus = ['./is-up.sh']\n"+
				"say = ['"+tmux+"', '-S', '"+socket+"', 'send-keys', '-t', 'gates', '{line}', 'Enter']\n\n[ready]",
			1,
		)
	})
	p.OK("profile", "set", "ready.log", "logs/mossgate.log")
	p.OK("start")
	st := p.Status()
	assert.Equal(t, "by its own commands", st.Server.By)
	assert.NotEmpty(t, st.Server.Processes)
	p.OK("send", "members")
	require.Eventually(t, func() bool { return strings.Contains(p.OK("log").Out, "Wilmot Pondweed") }, 5*time.Second,
		50*time.Millisecond)
	proving.Hears(t, p.Command("log", "-f"), "to everybody: still here", func() { p.OK("send", "say still here") })
	log := filepath.Join(
		p.Install,
		"logs/mossgate.log",
	) // rotated by others: by another file in its place, by emptying it
	proving.Hears(t, p.Command("log", "-f"), "of the new file", func() {
		os.Rename(log, log+".1")
		os.WriteFile(log, []byte("a word of the new file\n"), 0o644)
	})
	proving.Hears(t, p.Command("log", "-f"), "after it was emptied", func() {
		os.Truncate(log, 0)
		time.Sleep(100 * time.Millisecond)
		os.WriteFile(log, []byte("said after it was emptied\n"), 0o644)
	})
	p.OK("stop")
	p.OK("start")
	// Killed while the server held still for a backup: the next command has it go on.
	p.EditProfile(func(s string) string {
		return s + "\n[backup]\nbefore = ['say hush']\nsaved = '^to everybody: hush'\nafter = ['say go on']\n"
	})
	p.RunWith([]string{"FRESHKEEL_TEST_DIE_AT=quiet"}, "backup", "take")
	assert.NotContains(t, p.OK("log").Out, "to everybody: go on")
	assert.Contains(t, p.OK("logbook").Err, "it was told to go on (say go on)")
	require.Eventually(t, func() bool { return strings.Contains(p.OK("log").Out, "to everybody: go on") },
		5*time.Second, 50*time.Millisecond)
	p.OK("backup", "take")
	require.Eventually(t, func() bool { return strings.Count(p.OK("log").Out, "to everybody: go on") == 2 },
		5*time.Second, 50*time.Millisecond)
	assert.Empty(t, p.OK("logbook").Err, "once")
	r := p.OK("preflight", "3.5.0", "--all")
	assert.Contains(t, r.Out, "./up.sh, ./down.sh and ./is-up.sh run the server")
	p.OK("refit", "3.5.0")
	assert.Equal(t, "3.5.0", p.Status().Version)
	assert.Contains(t, p.Read("logs/mossgate.log"), "> close", "it was closed at its console")
	r = p.Exits(exitRolledBack, "refit", "3.6.0")
	assert.Contains(t, r.Out, "3.5.0 is running again")
	p.OK("rollback")
	assert.Equal(t, "3.4.1", p.Status().Version)
	p.OK("stop")
	p.Exits(exitDown, "status")

	// Somebody starts the script by itself: the commands say that it is down, and it runs.
	alone := p.Outside("open-gates.sh")
	r = p.Exits(exitRefused, "refit", "3.5.0")
	assert.Contains(t, oneSpace(r.Out), "./is-up.sh says that it is down, and processes")
	p.Exits(exitFailed, "start")
	alone.Process.Kill()
	alone.Wait()
	// One that can't be asked is not touched.
	p.EditProfile(func(s string) string { return strings.Replace(s, "'./is-up.sh'", "'./nowhere.sh'", 1) })
	r = p.Exits(exitRefused, "refit", "3.5.0")
	assert.Contains(t, oneSpace(r.Out), "how the server stands can't be told: ./nowhere.sh")
	r = p.Exits(exitFailed, "stop")
	assert.Contains(t, r.Err, "whether the server did can't be told")
	p.EditProfile(func(s string) string { return strings.Replace(s, "'./nowhere.sh'", "'./is-up.sh'", 1) })
}

// A server that somebody starts again whenever it ends is not stopped by stopping it: that is noticed and
// told, and a refit ends before it has changed anything.
func TestAServerThatSomebodyStartsAgainIsNotStopped(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	keeps := func(line string) *exec.Cmd {
		c := exec.Command("sh", "-c", line)
		c.Dir, c.Env = p.Install, p.Command("status").Env
		c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		require.NoError(t, c.Start())
		t.Cleanup(func() { syscall.Kill(-c.Process.Pid, syscall.SIGKILL); c.Wait() })
		return c
	}
	// freshkeel run, in a loop
	loop := keeps("while :; do '" + proving.Binary + "' -d . run </dev/zero >/dev/null 2>&1; sleep 0.4; done")
	up := func() bool { return p.Status().State == "up" && p.Status().Busy == "" }
	require.Eventually(t, up, 10*time.Second, 100*time.Millisecond)
	p.OK("refit", "3.5.0")
	r := p.Exits(exitFailed, "stop")
	assert.Contains(t, r.Err, "the server stopped, and is back after")
	assert.Contains(t, r.Err, "stop it by the own command of what runs it")
	syscall.Kill(-loop.Process.Pid, syscall.SIGKILL)
	loop.Wait()
	p.OK("stop")
	p.OK("rollback")

	// commands of the operator's own, which don't reach the one that runs the server
	loop = keeps("while :; do ./open-gates.sh </dev/zero; sleep 2; done")
	of := fmt.Sprintf("-P %d -f simulated-runtime", loop.Process.Pid)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "[ready]", "[host]\nstart = ['true']\nstop = ['sh', '-c', 'pkill "+of+"']\nstatus = ['sh', '-c', 'pgrep "+of+
			"']\n\n[ready]", 1)
	})
	p.OK("profile", "set", "ready.log", "logs/mossgate.log")
	require.Eventually(t, up, 10*time.Second, 100*time.Millisecond)
	r = p.Exits(exitFailed, "stop")
	assert.Regexp(t, `is back after .*: \w+ \(process \d+\), which began it, has to be told`, oneSpace(r.Err))
	before := p.Tree()
	r = p.Exits(exitFailed, "refit", "3.5.0")
	assert.Contains(t, oneSpace(r.Err), "is back after")
	assert.Equal(t, before["README.txt"], p.Tree()["README.txt"], "nothing was changed")
	assert.Equal(t, before["mossgate.jar"], p.Tree()["mossgate.jar"])
	assert.Equal(t, "3.4.1", p.Status().Version)
}

// A server that was started by hand is taken over: told to end, and started here. Adopted again under a
// minder of ours it is known as that, and learned from while it runs.
func TestAServerThatWasStartedByHandIsTakenOver(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	alone := p.Outside("open-gates.sh")
	r := p.OK("adopt", p.Install, "--dry-run", "--replace")
	assert.Contains(t, oneSpace(r.Out), "freshkeel start --take-over")
	r = p.OK("start", "--take-over")
	assert.Contains(t, r.Err, "terminate signal to process")
	assert.Contains(t, r.Out, "UP  mossgate-east")
	alone.Wait() // it has ended
	assert.Empty(t, p.Status().Outside)
	p.OK("start", "--learn")
	assert.Contains(t, p.Exits(exitFailed, "start", "--take-over").Err, "there is nothing to take over")
	p.Exits(exitUsage, "recover", "--no-start", "--leave-as-is")
	p.Exits(exitUsage, "unit", "--rights", "--user")
	assert.Contains(t, p.Exits(exitFailed, "unit", "--rights").Err, "root, who needs no rule")
	r = p.OK("adopt", p.Install, "--replace")
	assert.Contains(t, r.Out, "the server runs under Fresh Keel already")
	assert.NotContains(t, r.Out, "take-over")
	p.OK("start", "--learn") // the very line that it names
	p.OK("stop")
}
