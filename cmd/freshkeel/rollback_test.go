//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever way the new build fails, the install is byte for byte what it was,
// the old server runs, and the deciding line is shown.
func TestBuildThatDoesNotComeUpIsRolledBackByteForByte(t *testing.T) {
	t.Parallel()
	for behaviour, why := range map[string]string{
		demo.Dies:       "FATAL the flood-gate table has no row for fen-west",
		demo.Hangs:      "still no line that matches the ready rule",
		demo.Deaf:       "no process of the server that holds port udp/",
		demo.Misnamed:   "says it is version 0.0.1, the build is 3.6.0",
		demo.DiesSteady: "ended (status 3)",
	} {
		t.Run(behaviour, func(t *testing.T) {
			t.Parallel()
			next := demo.Releases[2]
			next.Behaviour = behaviour
			p := mossgate(t, demo.Releases[0], next)
			p.EditProfile(func(s string) string {
				s = strings.Replace(s, "within = '15s'", "within = '1500ms'", 1)
				s = strings.Replace(s, "strict = false", "strict = true", 1)
				return strings.Replace(s, "steady = '60ms'", "steady = '900ms'", 1)
			})
			require.NoError(t, os.Symlink("members.txt", filepath.Join(p.Install, "guests")))
			require.NoError(t, os.Mkdir(filepath.Join(p.Install, "gardens/empty"), 0o750))
			p.OK("start")
			before := p.Tree()
			r := p.Exits(exitRolledBack, "refit")
			assert.True(t, strings.HasPrefix(r.Out, "ROLLED BACK  3.6.0 did not come up; 3.4.1 is running again"),
				r.Out)
			assert.Contains(t, r.Out, why)
			assert.Equal(t, before, p.Tree())
			st := p.Status()
			assert.True(t, st.Server.Running)
			assert.Equal(t, "3.4.1", st.Version)
			e := p.LastEntry()
			assert.EqualValues(t, "rolled back", e.Outcome)
			if behaviour == demo.Dies {
				aside := filepath.Join(p.Install, ".freshkeel/refits", e.ID, "back-1/displaced/gardens/flood.index")
				assert.FileExists(t, aside, "what the new build created is moved aside, not destroyed")
				assert.Contains(t, r.Out, "back-1/displaced")
			}
		})
	}
}

func TestOldServerThatDoesNotComeBackNeedsHands(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("start")
	// Something else takes the runtime away while the refit runs.
	p.Put("open-gates.sh", "#!/bin/sh\necho FATAL the lantern is out\nexit 1\n")
	r := p.Exits(exitHands, "refit", "3.5.0")
	assert.True(t, strings.HasPrefix(r.Out, "NEEDS HANDS  the old server does not come up either"), r.Out)
	for _, s := range []string{"FATAL the lantern is out", "the files of 3.4.1 are in place", "freshkeel start",
		"backup b0001"} {
		assert.Contains(t, r.Out, s)
	}
	assert.False(t, p.Status().Server.Running)
	assert.EqualValues(t, "needs hands", p.LastEntry().Outcome)
	p.Exits(exitFailed, "start")
}

// By hand, after people have played: the build goes back, the world does not.
func TestRollbackByHandLeavesTheWorldUnlessAskedFor(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("start")
	old := p.Tree()
	p.OK("refit", "3.5.0")
	p.Put("members.txt", "Wilmot Pondweed\nAda Understone\nTib Hartstongue\nPerpetua Fennimore\n")
	p.Put("gardens/new-pond.garden", "dug today")
	p.Put("mossgate.conf", "# written anew by 3.5.0\nport = "+
		strings.TrimSpace(strings.Split(strings.SplitN(p.Read("mossgate.conf"), "port = ", 2)[1], "\n")[0])+"\n")

	r := p.OK("rollback", "--dry-run")
	assert.Contains(t, r.Out, "WOULD GO BACK  to 3.4.1, before r0001")
	assert.Contains(t, r.Out, "tracks/old-mill.track")
	assert.Equal(t, "3.5.0", p.Status().Version)

	r = p.OK("rollback")
	assert.True(t, strings.HasPrefix(r.Out, "WENT BACK  3.5.0 → 3.4.1 and runs"), r.Out)
	_, hint, ok := strings.Cut(strings.Join(strings.Fields(r.Out), " "),
		"the world was left as it is now; to put it back too: freshkeel ")
	require.True(t, ok, r.Out)
	hint, _, _ = strings.Cut(hint, " before what was there")
	now := p.Tree()
	for _, back := range []string{"mossgate.jar", "mossgate.conf", "tracks/old-mill.track", "assets/snails.pak",
		"open-gates.sh"} {
		assert.Equal(t, old[back], now[back], back)
	}
	assert.NotContains(t, now, "lib/lanterns.txt")
	assert.NotContains(t, now, "lib", "a folder that the new build made")
	assert.Contains(t, p.Read("members.txt"), "Perpetua")
	assert.FileExists(t, filepath.Join(p.Install, "gardens/new-pond.garden"))
	assert.True(t, p.Status().Server.Running)
	assert.Equal(t, "3.4.1", p.Status().Version)
	assert.Contains(t, p.Exits(exitFailed, "rollback").Err, "no refit is in effect")

	// The hint is a command, and does what it says, without losing anything.
	p.OK(strings.Fields(strings.ReplaceAll(hint, "'", ""))...)
	assert.NotContains(t, p.Read("members.txt"), "Perpetua")
	assert.Equal(t, old["gardens/fen-west.garden"], p.Tree()["gardens/fen-west.garden"])
	p.OK("backup", "restore", p.LastEntry().Backup, "--only", "members.txt")
	assert.Contains(t, p.Read("members.txt"), "Perpetua")

	// And forward again, and back with the world.
	p.OK("refit", "3.5.0")
	p.Put("members.txt", "nobody\n")
	p.Put("gardens/newer-pond.garden", "dug tonight")
	require.NoError(t, os.Remove(filepath.Join(p.Install, "gardens/fen-west.garden")))
	p.OK("rollback", "--world")
	assert.Contains(t, p.Read("members.txt"), "Perpetua")
	assert.NoFileExists(t, filepath.Join(p.Install, "gardens/newer-pond.garden"))
	assert.Contains(t, p.Read("gardens/fen-west.garden"), string(demo.Mark("3.4.1")))

	// What was there before that is in its backup: nothing is lost.
	backup := p.LastEntry().Backup
	elsewhere := filepath.Join(p.Dir, "look")
	p.OK("backup", "restore", backup, "--to", elsewhere)
	b, err := os.ReadFile(filepath.Join(elsewhere, "gardens/newer-pond.garden"))
	require.NoError(t, err)
	assert.Equal(t, "dug tonight", string(b))
}

func TestRollbackToBeforeAnEarlierRefit(t *testing.T) {
	t.Parallel()
	third := demo.Releases[1]
	third.Version, third.Extra = "3.7.0", []string{"tracks/old-mill.track=rebuilt", "lib/lanterns.txt=thirteen of them"}
	p := mossgate(t, demo.Releases[0], demo.Releases[1], third)
	p.OK("start")
	old := p.Tree()
	p.OK("refit", "3.5.0")
	p.OK("refit", "3.7.0")
	r := p.Exits(exitFailed, "rollback", "r0009")
	assert.Contains(t, r.Err, "r0001, r0002")
	p.OK("rollback", "r0001")
	assert.Equal(t, old, p.Tree())
	assert.Equal(t, "3.4.1", p.Status().Version)
	p.OK("refit", "3.7.0")
	assert.Equal(t, "rebuilt\n", p.Read("tracks/old-mill.track"))
}

// A restore is a transaction too, and loses nothing of what it replaces.
func TestRestoreIntoTheInstallBacksUpWhatItReplaces(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("start")
	assert.Contains(t, p.OK("backup", "take", "--label", "before the fair").Out, "b0001")
	then := p.Tree()
	p.Put("members.txt", "all gone\n")
	p.Put("gardens/extra.garden", "extra")
	p.Put("assets/night.pak", "torn")
	dry := p.OK("backup", "restore", "b0001", "--dry-run").Out
	assert.True(t, strings.HasPrefix(dry, "WOULD RESTORE  b0001 into the install: 3 exchanges"), dry)
	for _, step := range []string{"replace     members.txt", "replace     assets/night.pak",
		"remove      gardens/extra.garden"} {
		assert.Contains(t, dry, step)
	}
	p.OK("backup", "restore", "b0001", "--only", "members.txt")
	assert.Contains(t, p.Read("members.txt"), "Ada")
	assert.Equal(t, "torn", p.Read("assets/night.pak"), "only what was asked for")
	r := p.OK("backup", "restore", "b0001")
	assert.Contains(t, r.Out, "RESTORED")
	assert.Equal(t, then, p.Tree())
	assert.True(t, p.Status().Server.Running, "it ran, so it runs")
	list := p.OK("backup", "list").Out
	for _, s := range []string{"b0001", "before the fair", "b0003", "before restore r0002 of b0001"} {
		assert.Contains(t, list, s)
	}
	p.OK("backup", "restore", "b0003", "--only", "gardens/*", "--to", filepath.Join(p.Dir, "old"))
	assert.FileExists(t, filepath.Join(p.Dir, "old/gardens/extra.garden"))
	assert.Contains(t, p.Exits(exitFailed, "backup", "restore", "b0077").Err, "try: freshkeel backup list")
}

// Old runs let go of what they displaced, and going back to before them still
// works, from the locker.
func TestRollbackReachesBehindWhatWasPruned(t *testing.T) {
	t.Parallel()
	script := "#!/bin/sh\necho \"pond server %d\"\necho ready\nwhile read l; do [ \"$l\" = quit ] && exit 0; done\n"
	p := scripted(t, strings.TrimPrefix(fmt.Sprintf(script, 0), "#!/bin/sh\n"))
	p.Put("frogs/one", "1")
	p.EditProfile(func(s string) string {
		return strings.Replace(s, `name = "pond"`, "name = \"pond\"\nkeep = [\"frogs/**\"]", 1)
	})
	p.OK("start")
	old := p.Tree()
	for i := 1; i <= 9; i++ {
		dir := filepath.Join(p.Dir, fmt.Sprintf("pond-%d.0", i))
		proving.Put(t, filepath.Join(dir, "run.sh"), fmt.Sprintf(script, i))
		proving.Put(t, filepath.Join(dir, fmt.Sprintf("of/%d.txt", i)), "x")
		p.OK("refit", "--from", dir)
	}
	assert.NoDirExists(t, filepath.Join(p.Install, ".freshkeel/refits/r0001/displaced"))
	assert.DirExists(t, filepath.Join(p.Install, ".freshkeel/refits/r0009/displaced"))
	assert.NoFileExists(t, filepath.Join(p.Install, "of/8.txt"))
	p.Put("frogs/two", "2")
	p.OK("rollback", "r0001")
	now := p.Tree()
	delete(now, "frogs/two")
	assert.Equal(t, old, now)
	assert.Contains(t, p.OK("log").Out, "pond server 0")
	assert.Equal(t, "2", p.Read("frogs/two"))
}

// A way back that lacks what it needs stays open, says so, and is gone on with
// once that is mended.
func TestStuckRollbackGoesOnOnceTheLockerIsBack(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[2])
	p.OK("start")
	before := p.Tree()
	// Killed on the way back; then the locker's disk is gone.
	require.Equal(t, -1, p.RunWith([]string{envDieAt + "=back-swap:1"}, "refit").Code)
	sets := filepath.Join(p.Home, "locker/sets")
	require.NoError(t, os.Rename(sets, sets+".away"))
	half := p.Tree()
	assert.Contains(t, p.OK("logbook").Err, "was interrupted while rolling-back. What you see here is what it left")
	assert.Equal(t, half, p.Tree(), "to look changes nothing")
	assert.False(t, p.Status().Server.Running)
	r := p.Exits(exitHands, "recover")
	assert.Contains(t, r.Out, "NEEDS HANDS")
	assert.Contains(t, r.Out, "freshkeel recover")
	r = p.OK("logbook")
	assert.Contains(t, r.Err, "could not be settled", "looking is possible all the same")
	p.Exits(exitHands, "start")
	require.NoError(t, os.RemoveAll(sets))
	require.NoError(t, os.Rename(sets+".away", sets))
	assert.Contains(t, p.OK("recover", "--dry-run").Out, "INTERRUPTED  refit r0001, while rolling-back")
	assert.Contains(t, p.OK("recover").Out, "RECOVERED  refit r0001: rolled back")
	assert.Equal(t, before, p.Tree())
	assert.True(t, p.Status().Server.Running)
	assert.Contains(t, p.OK("recover").Out, "NOTHING TO DO")
}
