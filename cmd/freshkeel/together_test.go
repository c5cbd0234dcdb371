//go:build unix

package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"

	"freshkeel/demo"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A power cut ends the command, the minder and the server at once. What the
// next command finds is the disk alone.
func TestPowerCutLeavesOldOrNewAndTheServerUp(t *testing.T) {
	t.Parallel()
	for i, steps := range [][]string{
		{"staged", "phase:stopping", "stopped", "backup", "phase:swapping", "swap:5", "phase:watching", "started", "phase:confirming"},
		{"phase:rolling-back", "reverse:2", "back-swap:2", "phase:returning"},
		{"stopped", "phase:rolling-back", "reverse:3", "phase:returning"},
	} {
		c := crashes()[i]
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			both, _ := c.outcomes(t)
			for _, at := range steps {
				t.Run(at, func(t *testing.T) {
					t.Parallel()
					p := c.setUp(t)
					cmd := p.command(c.command...)
					trace := filepath.Join(p.dir, "trace")
					cmd.Env = append(cmd.Env, envStayAt+"="+at, envTrace+"="+trace)
					require.NoError(t, cmd.Start())
					until(t, "the command to get to "+at, func() bool { b, _ := os.ReadFile(trace); return strings.Contains(string(b), at+"\n") })
					for _, pid := range append(processesIn(p.dir), cmd.Process.Pid) {
						syscall.Kill(pid, syscall.SIGKILL)
					}
					cmd.Wait()
					until(t, "everything to be dead", func() bool { return len(processesIn(p.dir)) == 0 })
					p.settled(both, c.always)
				})
			}
		})
	}
}

// However many begin at once, one runs; the others say who does.
func TestManyAtOnce(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1])
	all := func(args ...string) (codes []int, said string) {
		var mu sync.Mutex
		var wg sync.WaitGroup
		for range 4 {
			wg.Go(func() {
				r := p.run(args...)
				mu.Lock()
				defer mu.Unlock()
				codes = append(codes, r.code)
				said += r.out + r.err
			})
		}
		wg.Wait()
		return
	}
	codes, said := all("start")
	assert.ElementsMatch(t, []int{0, 1, 1, 1}, codes, said)
	count := 0
	for _, pid := range processesIn(p.install) {
		if b, _ := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/cmdline"); bytes.Contains(b, []byte("simulated-runtime")) {
			count++
		}
	}
	assert.Equal(t, 1, count, "one server")

	codes, said = all("refit", "3.5.0")
	assert.Contains(t, said, "another command is at work here: refit, process ")
	done := 0
	for _, c := range codes {
		if c == 0 {
			done++
		}
	}
	assert.GreaterOrEqual(t, done, 1, said)
	assert.Len(t, p.entries(), 1)
	assert.Equal(t, "3.5.0", p.status().Version)

	codes, said = all("fetch", "3.4.1")
	assert.Equal(t, []int{0, 0, 0, 0}, codes, said)
	codes, said = all("stop")
	assert.Contains(t, codes, 0, said)
	assert.False(t, p.status().Server.Running)
}

// Three servers of one game store its build once, and know only their own
// backups.
func TestServersShareTheLocker(t *testing.T) {
	t.Parallel()
	a := mossgate(t, demo.Releases[0], demo.Releases[1])
	b := mossgate(t, demo.Releases[0], demo.Releases[1])
	b.env = append(b.env, "FRESHKEEL_HOME="+a.home)
	size := func() (n int64) {
		packs, _ := filepath.Glob(filepath.Join(a.home, "locker/packs/*.zst"))
		for _, p := range packs {
			fi, err := os.Stat(p)
			require.NoError(t, err)
			n += fi.Size()
		}
		return
	}
	a.ok("refit", "3.5.0")
	before := size()
	assert.True(t, strings.HasPrefix(b.ok("fetch", "3.5.0").out, "FETCHED BEFORE"))
	b.ok("refit", "3.5.0")
	assert.Less(t, size()-before, before/20, "the world and the build are there already")
	assert.Contains(t, a.ok("backup", "list").out, "1 backup, newest last")
	assert.Contains(t, b.ok("backup", "list").out, "1 backup, newest last")
	a.ok("rollback")
	b.ok("rollback")
}

// Somebody who may not touch the install is told so, and whom it belongs to.
func TestAnotherUserIsToldWhoseInstallItIs(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("needs another user to be")
	}
	if _, err := exec.LookPath("setpriv"); err != nil {
		t.Skip("no setpriv(1) here")
	}
	p := mossgate(t)
	for d := p.dir; d != "/tmp" && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	home := filepath.Join(p.dir, "their-home")
	require.NoError(t, os.Mkdir(home, 0o700))
	require.NoError(t, os.Chown(home, 54321, 54321))
	before := p.tree()
	cmd := exec.Command("setpriv", "--reuid=54321", "--regid=54321", "--clear-groups", p.harbour.Program, "-d", p.install, "refit", "3.5.0")
	cmd.Env = append(p.env, "FRESHKEEL_HOME="+home)
	out, _ := cmd.CombinedOutput()
	assert.Equal(t, exitFailed, cmd.ProcessState.ExitCode(), string(out))
	assert.Contains(t, string(out), "permission denied")
	assert.Contains(t, string(out), "try: run it as the install's owner, user 0, or as root")
	assert.Equal(t, before, p.tree())
}
