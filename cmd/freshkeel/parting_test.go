//go:build unix

package main

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Players are warned at the times that the profile says, with what is left filled in; called off,
// the server runs on and a line says so; --now warns nobody.
func TestPlayersAreWarnedBeforeAStop(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "[stop]", "[stop]\nwarn = { '3s' = 'say Gates close in {left} for {reason}.', "+
			"'1s' = 'say {left}: {version}' }\noff = 'say The gates stay open.'", 1)
	})
	p.OK("start")
	pid := p.Status().Server.PID
	cmd := p.Command("refit", "3.5.0")
	require.NoError(t, cmd.Start())
	said := func(line string) func() bool {
		return func() bool { return strings.Contains(p.OK("log").Out, "to everybody: "+line) }
	}
	require.Eventually(t, said("Gates close in 3 seconds for an update to 3.5.0."), 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, "changing", string(p.Status().State))
	cmd.Process.Signal(os.Interrupt)
	cmd.Wait()
	assert.Equal(t, exitFailed, cmd.ProcessState.ExitCode())
	require.Eventually(t, said("The gates stay open."), 5*time.Second, 50*time.Millisecond)
	assert.Equal(t, pid, p.Status().Server.PID, "it runs on")
	assert.Equal(t, "3.4.1", p.Status().Version)
	assert.Equal(t, "abandoned", string(p.LastEntry().Outcome))

	began := time.Now()
	r := p.OK("refit", "3.5.0", "--reason", "lantern\nraces")
	assert.Greater(t, time.Since(began), 3*time.Second)
	assert.Contains(t, r.Err, "players were told: say Gates close in 3 seconds for lantern races.")
	assert.Contains(t, r.Err, "players were told: say 1 second: 3.5.0")
	r = p.OK("rollback", "--now")
	assert.NotContains(t, r.Err, "players were told")

	// Killed in the countdown: the next command says that it is off.
	cmd = p.Command("refit", "3.5.0")
	require.NoError(t, cmd.Start())
	require.Eventually(t, said("Gates close in 3 seconds for an update"), 20*time.Second, 50*time.Millisecond)
	cmd.Process.Signal(syscall.SIGKILL)
	cmd.Wait()
	p.OK("recover")
	require.Eventually(t, said("The gates stay open."), 5*time.Second, 50*time.Millisecond)
	p.OK("stop", "--now")
}

// A refit waits until nobody is on, looks again right before the stop, and gives up in time.
func TestARefitWaitsUntilNobodyIsOn(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	r := p.Exits(exitUsage, "stop", "--at-most", "1s")
	assert.Contains(t, r.Err, "--when-empty")
	p.OK("start")
	r = p.Exits(exitUsage, "refit", "3.5.0", "--when-empty")
	assert.Contains(t, r.Err, "how many players are on can't be asked")
	p.EditProfile(func(s string) string {
		return s + "\n[players]\nask = 'guests'\nanswer = '^(\\d+) guests on the course'\n"
	})
	p.Put("guests.txt", "Wilmot\nAda\n")
	pid := p.Status().Server.PID
	r = p.Exits(exitFailed, "refit", "3.5.0", "--when-empty", "--at-most", "1s")
	assert.Contains(t, r.Err, "later still on: 2 players")
	assert.Equal(t, pid, p.Status().Server.PID)
	cmd := p.Command("refit", "3.5.0", "--when-empty")
	require.NoError(t, cmd.Start())
	require.Eventually(
		t,
		func() bool { return strings.Count(p.OK("log").Out, "2 guests on the course") >= 3 },
		30*time.Second,
		100*time.Millisecond,
	)
	assert.Equal(t, pid, p.Status().Server.PID)
	require.NoError(t, os.Remove(filepath.Join(p.Install, "guests.txt")))
	require.NoError(t, cmd.Wait())
	assert.Equal(t, "3.5.0", p.Status().Version)
	assert.GreaterOrEqual(t, strings.Count(p.OK("log", "-n", "1000").Out+p.Read(".freshkeel/run/console.1.log"),
		"0 guests on the course"), 2, "it was asked again right before the stop")
	p.EditProfile(func(s string) string { return strings.Replace(s, "^(\\d+) guests", "^(\\d+) snails", 1) })
	r = p.Exits(exitFailed, "stop", "--when-empty")
	assert.Contains(t, r.Err, "how many players are on is not known")
	p.OK("stop")
}
