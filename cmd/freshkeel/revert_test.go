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

// worldly is a server of two versions that keep a world: the newer one writes a
// file of it that the older one can't read.
func worldly(t *testing.T) *place {
	p := scripted(t, "if grep -q new-format world/map.dat; then echo 'can not read world/map.dat: unknown format'; exit 9; fi\nexec ./serve.sh\n")
	p.editProfile(func(s string) string {
		s = strings.Replace(s, `name = "pond"`, "name = \"pond\"\nkeep = [\"world/**\"]\nsettings = [\"pond.conf\"]", 1)
		return strings.Replace(s, `wait = "1s"`, `wait = "4s"`, 1)
	})
	p.put("serve.sh", "#!/bin/sh\n[ \"$(cat pond.conf)\" = ok ] || { echo 'bad settings'; exit 8; }\n"+patient)
	p.put("world/map.dat", "old\n")
	p.put("pond.conf", "ok\n")
	put(t, filepath.Join(p.dir, "pond-2.0/run.sh"), "#!/bin/sh\necho new-format > world/map.dat\nexec ./serve.sh # 2.0\n")
	put(t, filepath.Join(p.dir, "pond-2.0/serve.sh"), p.read("serve.sh"))
	return p
}

// A rollback by hand whose server does not come up goes forward again by itself: the
// version before ran well a minute ago. It says which file of the world is to blame,
// and the line that helps.
func TestARollbackThatDoesNotComeUpGoesForwardAgain(t *testing.T) {
	t.Parallel()
	p := worldly(t)
	p.ok("start")
	p.ok("refit", "--from", filepath.Join(p.dir, "pond-2.0"))
	p.put("pond.conf", "ok\n\n") // which the server reads as ok too
	now := p.tree()
	r := p.ok("rollback", "--dry-run")
	assert.Regexp(t, `edited +pond.conf was edited since`, r.out)

	r = p.exits(exitRolledBack, "rollback")
	assert.Contains(t, r.out, "the rollback did not end well, and everything is as before it")
	assert.Regexp(t, `can't read world/map.dat\s+as the newer version left it`, r.out)
	assert.Contains(t, r.out, "freshkeel rollback r0001 --world")
	assert.Equal(t, now, p.tree())
	s := p.status()
	assert.True(t, s.Server.Running)
	assert.Equal(t, "2.0", s.Version)

	r = p.ok("rollback", "r0001", "--world")
	assert.Contains(t, r.out, "1 file was edited since r0001, and put back as it was before that")
	assert.True(t, p.status().Server.Running)
	assert.Equal(t, "ok\n", p.read("pond.conf"))
}

// A restore whose server does not come up goes back likewise; one that differs in
// nothing leaves the server alone.
func TestARestoreThatDoesNotComeUpGoesBack(t *testing.T) {
	t.Parallel()
	p := worldly(t)
	p.put("pond.conf", "spoilt\n")
	p.ok("backup", "take")
	p.put("pond.conf", "ok\n")
	p.ok("start")
	now := p.tree()
	r := p.exits(exitRolledBack, "backup", "restore", "b0001")
	assert.Contains(t, r.out, "the restore did not end well")
	assert.Contains(t, r.out, "bad settings")
	assert.Equal(t, now, p.tree())
	require.True(t, p.status().Server.Running)

	pid := p.status().Server.PID
	p.ok("backup", "take")
	newest := p.backups()[len(p.backups())-1]
	conf := filepath.Join(p.install, "pond.conf")
	require.NoError(t, os.Chtimes(conf, time.Time{}, time.Now().Add(-time.Hour)))
	r = p.ok("backup", "restore", newest)
	assert.Contains(t, r.out, "NOTHING TO DO")
	assert.Equal(t, pid, p.status().Server.PID, "the server was left alone")
	require.NoError(t, os.Chmod(conf, 0o600))
	assert.NotContains(t, p.ok("backup", "restore", newest).out, "NOTHING TO DO")
	fi, err := os.Stat(conf)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o644), fi.Mode().Perm())
}

// A restore that fails before anything moved is abandoned: the server runs again,
// nothing is left over, and no later command tries it again.
func TestARestoreThatMovedNothingIsAbandoned(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.ok("start")
	p.ok("backup", "take")
	p.put("members.txt", "other\n")
	now := p.tree()
	r := p.runWith([]string{envFullAt + "=put-back"}, "backup", "restore", "b0001", "--only", "members.txt")
	assert.Equal(t, exitFailed, r.code, r.out+r.err)
	assert.Contains(t, r.err, "no space left on device")
	assert.Equal(t, now["members.txt"], p.tree()["members.txt"])
	assert.True(t, p.status().Server.Running)
	assert.NotContains(t, p.ok("status").err, "recover")
	left, err := filepath.Glob(filepath.Join(p.install, ".freshkeel/refits/r0001/*/staged"))
	require.NoError(t, err)
	assert.Empty(t, left)
	// While files move, it goes back to where it began.
	r = p.runWith([]string{envFullAt + "=back-swap:1"}, "backup", "restore", "b0001", "--only", "members.txt")
	assert.Equal(t, exitRolledBack, r.code, r.out+r.err)
	assert.Equal(t, now["members.txt"], p.tree()["members.txt"])
	assert.True(t, p.status().Server.Running)
}

// What can't be ended well is not tried by every look, and can be given up.
func TestWhatIsStuckCanBeGivenUp(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.ok("refit", "3.5.0")
	// The way back can't read its plan.
	p.runWith([]string{envDieAt + "=phase:rolling-back"}, "rollback")
	plan := filepath.Join(p.install, ".freshkeel/refits/r0001/plan.json")
	require.NoError(t, os.Rename(plan, plan+".away"))
	require.NoError(t, os.WriteFile(plan, []byte(`{"format":"freshkeel-swap/1","steps":[{"do":"replace","path":"../../etc/passwd"}]}`), 0o600))
	r := p.exits(exitHands, "recover")
	assert.Contains(t, r.out, "outside the install or Fresh Keel's own: it is not followed")
	assert.Contains(t, r.out, "freshkeel recover --leave-as-is")
	before := len(p.entries())
	for range 2 {
		assert.Contains(t, p.ok("logbook").err, "rollback r0002 is not settled")
		assert.Regexp(t, `(?s)UNSETTLED .*rollback r0002 was interrupted.*next +freshkeel recover`, p.exits(exitHands, "status").out)
	}
	assert.Len(t, p.entries(), before)
	r = p.ok("recover", "--leave-as-is")
	assert.Contains(t, r.out, "GIVEN UP  rollback r0002")
	assert.Equal(t, "left as it was", string(p.lastEntry().Outcome))
	require.NoError(t, os.Rename(plan+".away", plan))
	p.ok("backup", "take")
}

// Ctrl-C while players are being warned leaves the server running, at once; the
// words tell what players saw.
func TestCtrlCWhilePlayersAreWarned(t *testing.T) {
	t.Parallel()
	for _, command := range [][]string{{"stop"}, {"refit", "3.5.0"}} {
		t.Run(command[0], func(t *testing.T) {
			t.Parallel()
			p := mossgate(t)
			p.editProfile(func(s string) string {
				return strings.Replace(s, "[stop]\n", "[stop]\ntell = 'gates close in a minute'\nnotice = '60s'\n", 1)
			})
			p.ok("start")
			pid := p.status().Server.PID
			cmd := p.command(command...)
			said := filepath.Join(p.dir, "said")
			out, err := os.Create(said)
			require.NoError(t, err)
			defer out.Close()
			cmd.Stdout, cmd.Stderr = out, out
			require.NoError(t, cmd.Start())
			heard := func() string { b, _ := os.ReadFile(said); return string(b) }
			until(t, "players to be told", func() bool { return strings.Contains(heard(), "players were told: gates close in a minute") })
			began := time.Now()
			require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
			cmd.Wait()
			assert.Less(t, time.Since(began), 10*time.Second)
			assert.Equal(t, exitFailed, cmd.ProcessState.ExitCode(), heard())
			assert.Contains(t, heard(), "interrupted before the server was stopped: it runs on and nothing was changed, but players were told: gates close in a minute")
			assert.Equal(t, pid, p.status().Server.PID)
			p.editProfile(func(s string) string { return strings.Replace(s, "notice = '60s'", "notice = '10ms'", 1) })
		})
	}
}

// Settings that were edited while the server ran were never tried: where a refit fails
// and the old server does not come up with them either, the line that helps comes first.
func TestSettingsEditedBeforeAFailingRefit(t *testing.T) {
	t.Parallel()
	p := worldly(t)
	p.ok("backup", "take")
	p.ok("start")
	p.put("pond.conf", "raised by hand\n")
	put(t, filepath.Join(p.dir, "pond-3.0/serve.sh"), "#!/bin/sh\nexit 7\n")
	r := p.exits(exitHands, "refit", "--from", filepath.Join(p.dir, "pond-3.0"))
	assert.Contains(t, r.out, "bad settings")
	assert.Regexp(t, `do +freshkeel backup restore b0001 --only 'pond.conf' \(it was edited after the last good\s+start\), then: freshkeel start`, r.out)
	p.ok("backup", "restore", "b0001", "--only", "pond.conf")
	p.ok("start")
}

// A server that is merely late, on a machine that was busy, gets a second try.
func TestAServerThatIsLateIsTriedOnceMore(t *testing.T) {
	t.Parallel()
	p := scripted(t, "echo x >> starts\n[ $(wc -l < starts) = 2 ] && sleep 60\n"+patient)
	p.editProfile(func(s string) string { return strings.Replace(s, `within = "5s"`, `within = "1s"`, 1) })
	p.ok("start")
	put(t, filepath.Join(p.dir, "pond-2.0/run.sh"), "#!/bin/sh\nexit 7\n")
	r := p.exits(exitRolledBack, "refit", "--from", filepath.Join(p.dir, "pond-2.0"))
	assert.Contains(t, r.err, "it is given one more try")
	assert.True(t, p.status().Server.Running)
}
