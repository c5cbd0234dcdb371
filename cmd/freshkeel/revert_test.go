//go:build unix

package main

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// worldly is a server of two versions that keep a world: the newer one writes a
// file of it that the older one can't read.
func worldly(t *testing.T) *place {
	p := scripted(t, "if grep -q new-format world/map.dat; then echo 'can not read world/map.dat: unknown format'; exit 9; fi\nexec ./serve.sh\n")
	p.EditProfile(func(s string) string {
		s = strings.Replace(s, `name = "pond"`, "name = \"pond\"\nkeep = [\"world/**\"]\nsettings = [\"pond.conf\"]", 1)
		return strings.Replace(s, `wait = "1s"`, `wait = "4s"`, 1)
	})
	p.Put("serve.sh", "#!/bin/sh\n[ \"$(cat pond.conf)\" = ok ] || { echo 'bad settings'; exit 8; }\n"+patient)
	p.Put("world/map.dat", "old\n")
	p.Put("pond.conf", "ok\n")
	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/run.sh"),
		"#!/bin/sh\necho new-format > world/map.dat\nexec ./serve.sh # 2.0\n")
	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/serve.sh"), p.Read("serve.sh"))
	return p
}

// A rollback by hand whose server does not come up goes forward again by itself: the
// version before ran well a minute ago. It says which file of the world is to blame,
// and the line that helps.
func TestARollbackThatDoesNotComeUpGoesForwardAgain(t *testing.T) {
	t.Parallel()
	p := worldly(t)
	p.OK("start")
	p.OK("refit", "--from", filepath.Join(p.Dir, "pond-2.0"))
	p.Put("pond.conf", "ok\n\n") // which the server reads as ok too
	now := p.Tree()
	r := p.OK("rollback", "--dry-run")
	assert.Regexp(t, `edited +pond.conf was edited since`, r.Out)

	r = p.Exits(exitRolledBack, "rollback")
	assert.Contains(t, r.Out, "the rollback did not end well, and everything is as before it")
	assert.Regexp(t, `can't read world/map.dat\s+as the newer version left it`, r.Out)
	assert.Contains(t, r.Out, "freshkeel rollback r0001 --world")
	assert.Equal(t, now, p.Tree())
	s := p.Status()
	assert.True(t, s.Server.Running)
	assert.Equal(t, "2.0", s.Version)

	r = p.OK("rollback", "r0001", "--world")
	assert.Contains(t, r.Out, "1 file was edited since r0001, and put back as it was before that")
	assert.True(t, p.Status().Server.Running)
	assert.Equal(t, "ok\n", p.Read("pond.conf"))
}

// A restore whose server does not come up goes back likewise; one that differs in
// nothing leaves the server alone.
func TestARestoreThatDoesNotComeUpGoesBack(t *testing.T) {
	t.Parallel()
	p := worldly(t)
	p.Put("pond.conf", "spoilt\n")
	p.OK("backup", "take")
	p.Put("pond.conf", "ok\n")
	p.OK("start")
	now := p.Tree()
	r := p.Exits(exitRolledBack, "backup", "restore", "b0001")
	assert.Contains(t, r.Out, "the restore did not end well")
	assert.Contains(t, r.Out, "bad settings")
	assert.Equal(t, now, p.Tree())
	require.True(t, p.Status().Server.Running)

	pid := p.Status().Server.PID
	p.OK("backup", "take")
	newest := p.Backups()[len(p.Backups())-1]
	conf := filepath.Join(p.Install, "pond.conf")
	require.NoError(t, os.Chtimes(conf, time.Time{}, time.Now().Add(-time.Hour)))
	r = p.OK("backup", "restore", newest)
	assert.Contains(t, r.Out, "NOTHING TO DO")
	assert.Equal(t, pid, p.Status().Server.PID, "the server was left alone")
	require.NoError(t, os.Chmod(conf, 0o600))
	assert.NotContains(t, p.OK("backup", "restore", newest).Out, "NOTHING TO DO")
	fi, err := os.Stat(conf)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o644), fi.Mode().Perm())
}

// A restore that fails before anything moved is abandoned: the server runs again,
// nothing is left over, and no later command tries it again.
func TestARestoreThatMovedNothingIsAbandoned(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("start")
	p.OK("backup", "take")
	p.Put("members.txt", "other\n")
	now := p.Tree()
	r := p.RunWith([]string{envFullAt + "=put-back"}, "backup", "restore", "b0001", "--only", "members.txt")
	assert.Equal(t, exitFailed, r.Code, r.Out+r.Err)
	assert.Contains(t, r.Err, "no space left on device")
	assert.Equal(t, now["members.txt"], p.Tree()["members.txt"])
	assert.True(t, p.Status().Server.Running)
	assert.NotContains(t, p.OK("status").Err, "recover")
	left, err := filepath.Glob(filepath.Join(p.Install, ".freshkeel/refits/r0001/*/staged"))
	require.NoError(t, err)
	assert.Empty(t, left)
	// While files move, it goes back to where it began.
	r = p.RunWith([]string{envFullAt + "=back-swap:1"}, "backup", "restore", "b0001", "--only", "members.txt")
	assert.Equal(t, exitRolledBack, r.Code, r.Out+r.Err)
	assert.Equal(t, now["members.txt"], p.Tree()["members.txt"])
	assert.True(t, p.Status().Server.Running)
}

// What can't be ended well is not tried by every look, and can be given up.
func TestWhatIsStuckCanBeGivenUp(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("refit", "3.5.0")
	// The way back can't read its plan.
	p.RunWith([]string{envDieAt + "=phase:rolling-back"}, "rollback")
	plan := filepath.Join(p.Install, ".freshkeel/refits/r0001/plan.json")
	require.NoError(t, os.Rename(plan, plan+".away"))
	require.NoError(t, os.WriteFile(plan,
		[]byte(`{"format":"freshkeel-swap/1","steps":[{"do":"replace","path":"../../etc/passwd"}]}`), 0o600))
	r := p.Exits(exitHands, "recover")
	assert.Contains(t, r.Out, "outside the install or Fresh Keel's own: it is not followed")
	assert.Contains(t, r.Out, "freshkeel recover --leave-as-is")
	before := len(p.Entries())
	for range 2 {
		assert.Contains(t, p.OK("logbook").Err, "while reverting and could not be settled")
		assert.Regexp(t, `(?s)UNSETTLED .*rollback r0002 of .* was interrupted.*next +freshkeel recover`,
			p.Exits(exitHands, "status").Out)
	}
	assert.Len(t, p.Entries(), before)
	r = p.OK("recover", "--leave-as-is")
	assert.Contains(t, r.Out, "GIVEN UP  rollback r0002")
	assert.Equal(t, "left as it was", string(p.LastEntry().Outcome))
	require.NoError(t, os.Rename(plan+".away", plan))
	p.OK("backup", "take")
}

// Ctrl-C while players are being warned leaves the server running, at once; the
// words tell what players saw.
func TestCtrlCWhilePlayersAreWarned(t *testing.T) {
	t.Parallel()
	for _, command := range [][]string{{"stop"}, {"refit", "3.5.0"}} {
		t.Run(command[0], func(t *testing.T) {
			t.Parallel()
			p := mossgate(t)
			p.EditProfile(func(s string) string {
				return strings.Replace(s, "[stop]\n", "[stop]\ntell = 'gates close in a minute'\nnotice = '60s'\n", 1)
			})
			p.OK("start")
			pid := p.Status().Server.PID
			cmd := p.Command(command...)
			said := filepath.Join(p.Dir, "said")
			out, err := os.Create(said)
			require.NoError(t, err)
			defer out.Close()
			cmd.Stdout, cmd.Stderr = out, out
			require.NoError(t, cmd.Start())
			heard := func() string { b, _ := os.ReadFile(said); return string(b) }
			proving.Until(t, "players to be told",
				func() bool { return strings.Contains(heard(), "players were told: gates close in a minute") })
			began := time.Now()
			require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
			cmd.Wait()
			assert.Less(t, time.Since(began), 10*time.Second)
			assert.Equal(t, exitFailed, cmd.ProcessState.ExitCode(), heard())
			assert.Contains(t, heard(), "interrupted before the server was stopped: it runs on and nothing was changed, but players were told: gates close in a minute")
			assert.Equal(t, pid, p.Status().Server.PID)
			p.EditProfile(func(s string) string { return strings.Replace(s, "notice = '60s'", "notice = '10ms'", 1) })
		})
	}
}

// Settings that were edited while the server ran were never tried: where a refit fails
// and the old server does not come up with them either, the line that helps comes first.
func TestSettingsEditedBeforeAFailingRefit(t *testing.T) {
	t.Parallel()
	p := worldly(t)
	p.OK("backup", "take")
	p.OK("start")
	p.Put("pond.conf", "raised by hand\n")
	proving.Put(t, filepath.Join(p.Dir, "pond-3.0/serve.sh"), "#!/bin/sh\nexit 7\n")
	r := p.Exits(exitHands, "refit", "--from", filepath.Join(p.Dir, "pond-3.0"))
	assert.Contains(t, r.Out, "bad settings")
	assert.Regexp(t, `do +freshkeel backup restore b0001 --only 'pond.conf'\s+\(it was edited after the last good\s+start\), then:\s+freshkeel start`, r.Out)
	p.OK("backup", "restore", "b0001", "--only", "pond.conf")
	p.OK("start")
}

// A server that is merely late, on a machine that was busy, gets a second try.
func TestAServerThatIsLateIsTriedOnceMore(t *testing.T) {
	t.Parallel()
	p := scripted(t, "echo x >> starts\n[ $(wc -l < starts) = 2 ] && sleep 60\n"+patient)
	p.EditProfile(func(s string) string { return strings.Replace(s, `within = "5s"`, `within = "1s"`, 1) })
	p.OK("start")
	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/run.sh"), "#!/bin/sh\nexit 7\n")
	r := p.Exits(exitRolledBack, "refit", "--from", filepath.Join(p.Dir, "pond-2.0"))
	assert.Contains(t, r.Err, "it is given one more try")
	assert.True(t, p.Status().Server.Running)
}
