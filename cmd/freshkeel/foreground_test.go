//go:build unix

package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"freshkeel/demo"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// loud is a buffer that one process writes while another reads.
type loud struct {
	sync.Mutex
	b bytes.Buffer
}

func (l *loud) Write(b []byte) (int, error) {
	l.Lock()
	defer l.Unlock()
	return l.b.Write(b)
}

func (l *loud) String() string {
	l.Lock()
	defer l.Unlock()
	return l.b.String()
}

// In the foreground the server has its console there, takes lines, is exchanged under the command
// by a refit, whose new server stays the command's own, and is stopped by its line when it is told
// to end.
func TestAServerInTheForeground(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	cmd := p.Command("run")
	said := &loud{}
	cmd.Stdout, cmd.Stderr = said, said
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	defer cmd.Process.Kill()
	hears := func(line string) {
		t.Helper()
		require.Eventually(
			t,
			func() bool { return strings.Contains(said.String(), line) },
			20*time.Second,
			50*time.Millisecond,
			line,
		)
	}
	hears("gates open")
	in.Write([]byte("members\n"))
	hears("Wilmot Pondweed")
	second := p.Exits(exitFailed, "run")
	assert.Contains(t, second.Err, "another command keeps this server in the foreground")
	p.OK("refit", "3.5.0")
	hears("mossgate server 3.5.0")
	stat, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(p.Status().Server.Minder), "stat"))
	require.NoError(t, err)
	assert.Equal(
		t,
		strconv.Itoa(cmd.Process.Pid),
		strings.Fields(string(stat))[3],
		"its minder is this command's child",
	)
	p.Exits(exitRolledBack, "refit", "3.6.0")
	p.OK("rollback")
	require.Eventually(
		t,
		func() bool { return strings.Count(said.String(), "mossgate server 3.4.1") == 2 },
		10*time.Second,
		50*time.Millisecond,
	)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait(), said.String())
	assert.Contains(t, said.String(), "closing the gates", "by its own line")
	p.Exits(exitDown, "status")

	// Stopped by another command, it ends well; crashed, it says so.
	cmd = p.Command("run")
	require.NoError(t, cmd.Start())
	require.Eventually(
		t,
		func() bool { st := p.Status(); return st.State == "up" && st.Busy == "" },
		10*time.Second,
		50*time.Millisecond,
	)
	p.OK("stop")
	require.NoError(t, cmd.Wait())
	unit := p.OK("unit").Out
	assert.Contains(t, unit, "-d "+p.Install+" run\n")
	assert.Contains(t, unit, "KillMode=mixed")
}

// A server that crashes is started again after a pause, each crash in the logbook with its last
// lines, until it crashes too often; one that was stopped stays down.
func TestAServerIsStartedAgainAfterACrash(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1])
	p.EditProfile(func(s string) string {
		return s + "\n[host]\nrestart = 'after-crash'\npause = '200ms'\ncrashes = 2\n"
	})
	p.OK("start")
	crash := func() {
		st := p.Status()
		for _, pid := range st.Server.Processes {
			syscall.Kill(pid, syscall.SIGKILL)
		}
		require.Eventually(t, func() bool {
			all := p.Entries()
			return len(all) > 0 && all[len(all)-1].Kind == "crash" && all[len(all)-1].Outcome == "restarted"
		}, 10*time.Second, 50*time.Millisecond)
		time.Sleep(300 * time.Millisecond)
	}
	first := p.Status().Server.PID
	crash()
	require.Eventually(
		t,
		func() bool { st := p.Status(); return st.Server.Running && st.Server.PID != first },
		10*time.Second,
		50*time.Millisecond,
	)
	e := p.LastEntry()
	assert.Equal(t, "restarted", string(e.Outcome))
	assert.Contains(t, e.Why, "signal killed")
	assert.Contains(t, strings.Join(e.Lines, "\n"), "gates open")
	p.OK("refit", "3.5.0") // what it ends itself is no crash
	assert.Equal(t, "refit", string(p.LastEntry().Kind))
	p.OK("rollback")
	id := p.LastEntry().ID
	crash()
	require.Eventually(t, func() bool { return p.Status().Server.Running }, 10*time.Second, 50*time.Millisecond)
	for p.LastEntry().ID == id {
		time.Sleep(50 * time.Millisecond)
	}
	id = p.LastEntry().ID
	for _, pid := range p.Status().Server.Processes {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	require.Eventually(
		t,
		func() bool { return p.LastEntry().ID != id && len(p.LastEntry().Told) > 0 },
		10*time.Second,
		50*time.Millisecond,
	)
	assert.Contains(t, p.LastEntry().Told[0], "it crashed 3 times within 1h0m0s, and is not started again")
	p.Exits(exitDown, "status")
	assert.Contains(t, p.OK("logbook").Out, "stays down")

	p.EditProfile(func(s string) string { return strings.Replace(s, "crashes = 2", "crashes = 20", 1) })
	p.EditProfile(func(s string) string { return strings.Replace(s, "'200ms'", "'1s'", 1) })
	p.OK("start")
	for _, pid := range p.Status().Server.Processes {
		syscall.Kill(pid, syscall.SIGKILL)
	}
	require.Eventually(
		t,
		func() bool { return p.LastEntry().ID != id && len(p.LastEntry().Told) == 0 },
		10*time.Second,
		50*time.Millisecond,
	)
	p.OK("stop") // in the pause
	time.Sleep(2 * time.Second)
	p.Exits(exitDown, "status")
}
