//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"freshkeel/demo"

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
			p.editProfile(func(s string) string {
				s = strings.Replace(s, "within = '15s'", "within = '1500ms'", 1)
				return strings.Replace(s, "steady = '60ms'", "steady = '900ms'", 1)
			})
			require.NoError(t, os.Symlink("members.txt", filepath.Join(p.install, "guests")))
			require.NoError(t, os.Mkdir(filepath.Join(p.install, "gardens/empty"), 0o750))
			p.ok("start")
			before := p.tree()
			r := p.exits(exitRolledBack, "refit")
			assert.True(t, strings.HasPrefix(r.out, "ROLLED BACK  3.6.0 did not come up; 3.4.1 is running again"), r.out)
			assert.Contains(t, r.out, why)
			assert.Equal(t, before, p.tree())
			st := p.status()
			assert.True(t, st.Server.Running)
			assert.Equal(t, "3.4.1", st.Version)
			e := p.lastEntry()
			assert.EqualValues(t, "rolled back", e.Outcome)
			if behaviour == demo.Dies {
				aside := filepath.Join(p.install, ".freshkeel/refits", e.ID, "back-1/displaced/gardens/flood.index")
				assert.FileExists(t, aside, "what the new build created is moved aside, not destroyed")
				assert.Contains(t, r.out, "back-1/displaced")
			}
		})
	}
}

func TestOldServerThatDoesNotComeBackNeedsHands(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.ok("start")
	// Something else takes the runtime away while the refit runs.
	p.put("open-gates.sh", "#!/bin/sh\necho FATAL the lantern is out\nexit 1\n")
	r := p.exits(exitHands, "refit", "3.5.0")
	assert.True(t, strings.HasPrefix(r.out, "NEEDS HANDS  the old server does not come up either"), r.out)
	for _, s := range []string{"FATAL the lantern is out", "the files of 3.4.1 are in place", "freshkeel start", "backup b0001"} {
		assert.Contains(t, r.out, s)
	}
	assert.False(t, p.status().Server.Running)
	assert.EqualValues(t, "needs hands", p.lastEntry().Outcome)
	p.exits(exitFailed, "start")
}

// By hand, after people have played: the build goes back, the world does not.
func TestRollbackByHandLeavesTheWorldUnlessAskedFor(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.ok("start")
	old := p.tree()
	p.ok("refit", "3.5.0")
	p.put("members.txt", "Wilmot Pondweed\nAda Understone\nTib Hartstongue\nPerpetua Fennimore\n")
	p.put("gardens/new-pond.garden", "dug today")
	p.put("mossgate.conf", "# written anew by 3.5.0\nport = "+strings.TrimSpace(strings.Split(strings.SplitN(p.read("mossgate.conf"), "port = ", 2)[1], "\n")[0])+"\n")

	r := p.ok("rollback", "--dry-run")
	assert.Contains(t, r.out, "WOULD GO BACK  to 3.4.1, before r0001")
	assert.Contains(t, r.out, "tracks/old-mill.track")
	assert.Equal(t, "3.5.0", p.status().Version)

	r = p.ok("rollback")
	assert.True(t, strings.HasPrefix(r.out, "WENT BACK  3.5.0 → 3.4.1 and runs"), r.out)
	_, hint, ok := strings.Cut(strings.Join(strings.Fields(r.out), " "), "the world was left as it is now; to put it back too: freshkeel ")
	require.True(t, ok, r.out)
	hint, _, _ = strings.Cut(hint, " before what was there")
	now := p.tree()
	for _, back := range []string{"mossgate.jar", "mossgate.conf", "tracks/old-mill.track", "assets/snails.pak", "open-gates.sh"} {
		assert.Equal(t, old[back], now[back], back)
	}
	assert.NotContains(t, now, "lib/lanterns.txt")
	assert.NotContains(t, now, "lib", "a folder that the new build made")
	assert.Contains(t, p.read("members.txt"), "Perpetua")
	assert.FileExists(t, filepath.Join(p.install, "gardens/new-pond.garden"))
	assert.True(t, p.status().Server.Running)
	assert.Equal(t, "3.4.1", p.status().Version)
	assert.Contains(t, p.exits(exitFailed, "rollback").err, "no refit is in effect")

	// The hint is a command, and does what it says, without losing anything.
	p.ok(strings.Fields(strings.ReplaceAll(hint, "'", ""))...)
	assert.NotContains(t, p.read("members.txt"), "Perpetua")
	assert.Equal(t, old["gardens/fen-west.garden"], p.tree()["gardens/fen-west.garden"])
	p.ok("backup", "restore", p.lastEntry().Backup, "--only", "members.txt")
	assert.Contains(t, p.read("members.txt"), "Perpetua")

	// And forward again, and back with the world.
	p.ok("refit", "3.5.0")
	p.put("members.txt", "nobody\n")
	p.put("gardens/newer-pond.garden", "dug tonight")
	require.NoError(t, os.Remove(filepath.Join(p.install, "gardens/fen-west.garden")))
	p.ok("rollback", "--world")
	assert.Contains(t, p.read("members.txt"), "Perpetua")
	assert.NoFileExists(t, filepath.Join(p.install, "gardens/newer-pond.garden"))
	assert.Contains(t, p.read("gardens/fen-west.garden"), string(demo.Mark("3.4.1")))

	// What was there before that is in its backup: nothing is lost.
	backup := p.lastEntry().Backup
	elsewhere := filepath.Join(p.dir, "look")
	p.ok("backup", "restore", backup, "--to", elsewhere)
	b, err := os.ReadFile(filepath.Join(elsewhere, "gardens/newer-pond.garden"))
	require.NoError(t, err)
	assert.Equal(t, "dug tonight", string(b))
}

func TestRollbackToBeforeAnEarlierRefit(t *testing.T) {
	t.Parallel()
	third := demo.Releases[1]
	third.Version, third.Extra = "3.7.0", []string{"tracks/old-mill.track=rebuilt", "lib/lanterns.txt=thirteen of them"}
	p := mossgate(t, demo.Releases[0], demo.Releases[1], third)
	p.ok("start")
	old := p.tree()
	p.ok("refit", "3.5.0")
	p.ok("refit", "3.7.0")
	r := p.exits(exitFailed, "rollback", "r0009")
	assert.Contains(t, r.err, "r0001, r0002")
	p.ok("rollback", "r0001")
	assert.Equal(t, old, p.tree())
	assert.Equal(t, "3.4.1", p.status().Version)
	p.ok("refit", "3.7.0")
	assert.Equal(t, "rebuilt\n", p.read("tracks/old-mill.track"))
}

// A restore is a transaction too, and loses nothing of what it replaces.
func TestRestoreIntoTheInstallBacksUpWhatItReplaces(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.ok("start")
	assert.Contains(t, p.ok("backup", "take", "--label", "before the fair").out, "b0001")
	then := p.tree()
	p.put("members.txt", "all gone\n")
	p.put("gardens/extra.garden", "extra")
	p.put("assets/night.pak", "torn")
	dry := p.ok("backup", "restore", "b0001", "--dry-run").out
	assert.True(t, strings.HasPrefix(dry, "WOULD RESTORE  b0001 into the install: 3 exchanges"), dry)
	for _, step := range []string{"replace     members.txt", "replace     assets/night.pak", "remove      gardens/extra.garden"} {
		assert.Contains(t, dry, step)
	}
	p.ok("backup", "restore", "b0001", "--only", "members.txt")
	assert.Contains(t, p.read("members.txt"), "Ada")
	assert.Equal(t, "torn", p.read("assets/night.pak"), "only what was asked for")
	r := p.ok("backup", "restore", "b0001")
	assert.Contains(t, r.out, "RESTORED")
	assert.Equal(t, then, p.tree())
	assert.True(t, p.status().Server.Running, "it ran, so it runs")
	list := p.ok("backup", "list").out
	for _, s := range []string{"b0001", "before the fair", "b0003", "before restore r0002 of b0001"} {
		assert.Contains(t, list, s)
	}
	p.ok("backup", "restore", "b0003", "--only", "gardens/*", "--to", filepath.Join(p.dir, "old"))
	assert.FileExists(t, filepath.Join(p.dir, "old/gardens/extra.garden"))
	assert.Contains(t, p.exits(exitFailed, "backup", "restore", "b0077").err, "try: freshkeel backup list")
}

// Old runs let go of what they displaced, and going back to before them still
// works, from the locker.
func TestRollbackReachesBehindWhatWasPruned(t *testing.T) {
	t.Parallel()
	script := "#!/bin/sh\necho \"pond server %d\"\necho ready\nwhile read l; do [ \"$l\" = quit ] && exit 0; done\n"
	p := scripted(t, strings.TrimPrefix(fmt.Sprintf(script, 0), "#!/bin/sh\n"))
	p.put("frogs/one", "1")
	p.editProfile(func(s string) string {
		return strings.Replace(s, `name = "pond"`, "name = \"pond\"\nkeep = [\"frogs/**\"]", 1)
	})
	p.ok("start")
	old := p.tree()
	for i := 1; i <= 9; i++ {
		dir := filepath.Join(p.dir, fmt.Sprintf("pond-%d.0", i))
		put(t, filepath.Join(dir, "run.sh"), fmt.Sprintf(script, i))
		put(t, filepath.Join(dir, fmt.Sprintf("of/%d.txt", i)), "x")
		p.ok("refit", "--from", dir)
	}
	assert.NoDirExists(t, filepath.Join(p.install, ".freshkeel/refits/r0001/displaced"))
	assert.DirExists(t, filepath.Join(p.install, ".freshkeel/refits/r0009/displaced"))
	assert.NoFileExists(t, filepath.Join(p.install, "of/8.txt"))
	p.put("frogs/two", "2")
	p.ok("rollback", "r0001")
	now := p.tree()
	delete(now, "frogs/two")
	assert.Equal(t, old, now)
	assert.Contains(t, p.ok("log").out, "pond server 0")
	assert.Equal(t, "2", p.read("frogs/two"))
}

// A way back that lacks what it needs stays open, says so, and is gone on with
// once that is mended.
func TestStuckRollbackGoesOnOnceTheLockerIsBack(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[2])
	p.ok("start")
	before := p.tree()
	// Killed on the way back; then the locker's disk is gone.
	require.Equal(t, -1, p.runWith([]string{envDieAt + "=back-swap:1"}, "refit").code)
	sets := filepath.Join(p.home, "locker/sets")
	require.NoError(t, os.Rename(sets, sets+".away"))
	r := p.exits(exitHands, "recover")
	assert.Contains(t, r.out, "NEEDS HANDS")
	assert.Contains(t, r.out, "freshkeel recover")
	r = p.ok("logbook")
	assert.Contains(t, r.err, "recovery did not end well", "looking is possible all the same")
	p.exits(exitHands, "start")
	require.NoError(t, os.RemoveAll(sets))
	require.NoError(t, os.Rename(sets+".away", sets))
	assert.Contains(t, p.ok("recover", "--dry-run").out, "INTERRUPTED  refit r0001, while rolling-back")
	assert.Contains(t, p.ok("recover").out, "RECOVERED  refit r0001: rolled back")
	assert.Equal(t, before, p.tree())
	assert.True(t, p.status().Server.Running)
	assert.Contains(t, p.ok("recover").out, "NOTHING TO DO")
}
