//go:build unix

package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"freshkeel/demo"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// crash is one command of which every step is to be a place to die at.
type crash struct {
	name     string
	releases []demo.Release
	prepare  [][]string
	command  []string
	always   string   // the version that must hold in the end, "" where either may
	disks    []string // folders of the install that stand on disks of their own
	spoilt   bool     // its first backup, b0001, has settings with which no server comes up
}

func crashes() []crash {
	r := demo.Releases
	return []crash{
		{"refit that comes up", []demo.Release{r[0], r[1]}, nil, []string{"refit"}, "", nil, false},
		{"refit that is rolled back", []demo.Release{r[0], r[2]}, nil, []string{"refit"}, "3.4.1", nil, false},
		{"rollback by hand", []demo.Release{r[0], r[1]}, [][]string{{"refit"}}, []string{"rollback"}, "", nil, false},
		{"restore", []demo.Release{r[0], r[1]}, [][]string{{"backup", "take"}, {"refit"}}, []string{"backup", "restore", "b0001"}, "", nil, false},
		{"refit over several disks that is rolled back", []demo.Release{r[0], r[2]}, nil, []string{"refit"}, "3.4.1", []string{"gardens", "tracks"}, false},
		{"restore that does not come up", []demo.Release{r[0], r[1]}, nil, []string{"backup", "restore", "b0001", "--only", "mossgate.conf"}, "3.4.1", nil, true},
	}
}

// setUp brings a harbour to where the command is about to run, the server up.
func (c crash) setUp(t *testing.T) *place {
	p := mossgate(t, c.releases...)
	for _, at := range c.disks {
		p.ontoDisk(at)
	}
	if c.spoilt {
		good := p.read("mossgate.conf")
		p.put("mossgate.conf", strings.ReplaceAll(good, fmt.Sprint(p.port), "99999999"))
		p.ok("backup", "take")
		p.put("mossgate.conf", good)
	}
	p.ok("start")
	for _, args := range c.prepare {
		p.ok(args...)
	}
	return p
}

// outcomes are the trees between which nothing may be, by the version said.
func (c crash) outcomes(t *testing.T) (map[string]map[string]string, []string) {
	p := c.setUp(t)
	both := map[string]map[string]string{p.status().Version: p.tree()}
	trace := filepath.Join(p.dir, "trace")
	p.runWith([]string{envTrace + "=" + trace}, c.command...)
	both[p.status().Version] = p.tree()
	b, err := os.ReadFile(trace)
	require.NoError(t, err)
	steps := strings.Fields(string(b))
	slices.Sort(steps)
	return both, slices.Compact(steps)
}

// settled holds an install to P2 after a crash: the next command leaves it at
// exactly one of the two trees, with that version's server running.
func (p *place) settled(both map[string]map[string]string, always string) {
	p.t.Helper()
	next := p.ok("logbook") // the next command, any but those that only tell how the server is
	require.NotContains(p.t, next.err, "did not end well")
	st := p.status()
	want, known := both[st.Version]
	require.True(p.t, known, "version %q is neither", st.Version)
	require.Equal(p.t, want, p.tree(), "not exactly the tree of %s", st.Version)
	if always != "" {
		require.Equal(p.t, always, st.Version)
	}
	require.True(p.t, st.Server.Running, "it ran before, so it runs after")
	lines := p.ok("log").out
	require.Contains(p.t, lines, "mossgate server "+st.Version)
	for _, e := range p.entries() {
		require.NotEmpty(p.t, e.Outcome, "entry %s is left open", e.ID)
	}
}

// shares is in how many parts a plain run takes the steps to die at: one each day, so that
// the tests are run often. FRESHKEEL_TEST_ALL=1 takes them all.
const shares = 3

func ofToday(steps []string) (out []string) {
	if os.Getenv("FRESHKEEL_TEST_ALL") != "" {
		return steps
	}
	for i, step := range steps {
		if i%shares == time.Now().YearDay()%shares {
			out = append(out, step)
		}
	}
	return out
}

// P2, by name: kill -9 at every step of a refit, of its own rollback, of a
// rollback by hand and of a restore.
func TestKilledAtEveryStepLeavesOldOrNew(t *testing.T) {
	t.Parallel()
	for _, c := range crashes() {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			both, steps := c.outcomes(t)
			require.Greater(t, len(steps), 12, "steps: %v", steps)
			for _, step := range ofToday(steps) {
				t.Run(step, func(t *testing.T) {
					t.Parallel()
					p := c.setUp(t)
					r := p.runWith([]string{envDieAt + "=" + step}, c.command...)
					require.Equal(t, -1, r.code, "it was to die at %s\n%s%s", step, r.out, r.err)
					p.settled(both, c.always)
				})
			}
		})
	}
}

// A crash while recovering is just another crash.
func TestKilledAgainWhileRecovering(t *testing.T) {
	t.Parallel()
	c := crashes()[1]
	both, _ := c.outcomes(t)
	for _, pair := range [][]string{
		{"swap:3", "reverse:2", "reverse:1"},
		{"phase:watching", "reverse:3", "back-swap:1", "phase:returning"},
		{"phase:rolling-back", "back-swap:2", "reverse:1", "back-swap:1"},
		{"back-swap:3", "phase:returning", "finished"},
	} {
		t.Run(strings.Join(pair, " then "), func(t *testing.T) {
			t.Parallel()
			p := c.setUp(t)
			require.Equal(t, -1, p.runWith([]string{envDieAt + "=" + pair[0]}, c.command...).code)
			for _, step := range pair[1:] {
				p.runWith([]string{envDieAt + "=" + step}, "recover") // dies there, where it comes by
			}
			p.settled(both, c.always)
		})
	}
}

// Fifty kills from outside at moments that nobody chose, back and forth.
func TestKilledAtRandomMoments(t *testing.T) {
	t.Parallel()
	kills := 25
	if testing.Short() {
		kills = 5
	}
	for _, seed := range []uint64{1, 2} {
		t.Run("", func(t *testing.T) {
			t.Parallel()
			random := rand.New(rand.NewPCG(seed, uint64(time.Now().UnixNano())))
			c := crashes()[0]
			both, _ := c.outcomes(t)
			p := c.setUp(t)
			for range kills {
				args := []string{"refit"}
				if p.status().Version == "3.5.0" {
					args = []string{"rollback"}
				}
				cmd := p.command(args...)
				require.NoError(t, cmd.Start())
				time.Sleep(time.Duration(random.IntN(700)) * time.Millisecond)
				cmd.Process.Kill()
				cmd.Wait()
				p.settled(both, "")
			}
		})
	}
}

// A full disk before the swap changes nothing; during it, all goes back.
func TestDiskFullAtAnyStep(t *testing.T) {
	t.Parallel()
	c := crashes()[0]
	both, _ := c.outcomes(t)
	for step, code := range map[string]int{"stage": exitFailed, "pre-copy": exitFailed, "backup": exitFailed, "phase:swapping": exitFailed, "swap:1": exitRolledBack, "swap:4": exitRolledBack, "phase:watching": exitRolledBack} {
		t.Run(step, func(t *testing.T) {
			t.Parallel()
			p := c.setUp(t)
			r := p.runWith([]string{envFullAt + "=" + step}, "refit")
			assert.Equal(t, code, r.code, r.out+r.err)
			assert.Contains(t, r.out+r.err, "no space left on device")
			p.settled(both, "3.4.1")
			p.ok("refit")
			p.settled(both, "3.5.0")
		})
	}
}

// Where the new tree is in place and only our own records can't be written, it
// is not said that nothing changed, and the next command ends it.
func TestDiskFullWhenAllButTheRecordsIsDone(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		i             int
		step, version string
	}{{0, "phase:confirming", "3.5.0"}, {0, "finished", "3.5.0"}, {1, "phase:returning", "3.4.1"}, {2, "phase:returning", "3.4.1"}, {3, "finished", "3.4.1"}} {
		t.Run(fmt.Sprint(crashes()[c.i].name, " ", c.step), func(t *testing.T) {
			t.Parallel()
			both, _ := crashes()[c.i].outcomes(t)
			p := crashes()[c.i].setUp(t)
			r := p.runWith([]string{envFullAt + "=" + c.step}, crashes()[c.i].command...)
			assert.Equal(t, exitHands, r.code, r.out+r.err)
			assert.Contains(t, r.out, "no space left on device")
			if c.step != "finished" {
				assert.Contains(t, p.ok("logbook").err, "is not settled", "to look costs no other try")
				assert.Contains(t, p.exits(exitHands, "status").out, "UNSETTLED")
			}
			p.ok("recover")
			p.settled(both, c.version)
		})
	}
}

// The same on a file system that really is full: once the install's own, once
// the locker's.
func TestDiskReallyFull(t *testing.T) {
	t.Parallel()
	for _, where := range []string{"install", "locker"} {
		t.Run(where, func(t *testing.T) {
			t.Parallel()
			p := mossgate(t)
			p.ok("fetch", "3.5.0")
			small := filepath.Join(p.dir, "small")
			require.NoError(t, os.Mkdir(small, 0o755))
			if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs", small).CombinedOutput(); err != nil {
				t.Skipf("this machine lets nobody mount: %s", out)
			}
			t.Cleanup(func() { exec.Command("umount", "-l", small).Run() })
			moved := map[string]string{"install": p.install, "locker": filepath.Join(p.home, "locker")}[where]
			require.NoError(t, exec.Command("cp", "-a", moved+"/.", small).Run())
			require.NoError(t, os.RemoveAll(moved))
			require.NoError(t, os.Mkdir(moved, 0o755))
			require.NoError(t, exec.Command("mount", "--move", small, moved).Run())
			t.Cleanup(func() { p.run("stop"); exec.Command("umount", "-l", moved).Run() })
			p.ok("start")
			before := p.tree()
			fill, err := os.Create(filepath.Join(moved, "fill"))
			require.NoError(t, err)
			for _, err = fill.Write(make([]byte, 4096)); err == nil; _, err = fill.Write(make([]byte, 4096)) {
			}
			fill.Close()

			// The check sees it coming while the server runs.
			r := p.exits(exitRefused, "refit", "3.5.0")
			assert.Contains(t, r.out, "free")
			// And where it is told to go on, it still changes nothing.
			r = p.exits(exitFailed, "refit", "3.5.0", "--accept", "disk")
			assert.Contains(t, r.err, "no space left on device")
			require.NoError(t, os.Remove(fill.Name()))
			assert.Equal(t, before, p.tree())
			assert.True(t, p.status().Server.Running)
			p.ok("refit", "3.5.0", "--accept", "disk")
		})
	}
}

// ontoDisk moves a folder of the install onto a file system of its own.
func (p *place) ontoDisk(at string) {
	p.t.Helper()
	small, full := filepath.Join(p.dir, "disk"), filepath.Join(p.install, at)
	require.NoError(p.t, os.MkdirAll(small, 0o755))
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=16m,mode=755", "tmpfs", small).CombinedOutput(); err != nil {
		p.t.Skipf("this machine lets nobody mount: %s", out)
	}
	p.t.Cleanup(func() {
		p.run("stop")
		exec.Command("umount", "-l", small).Run()
		exec.Command("umount", "-l", full).Run()
	})
	require.NoError(p.t, exec.Command("cp", "-a", full+"/.", small).Run())
	require.NoError(p.t, os.RemoveAll(full))
	require.NoError(p.t, os.Mkdir(full, 0o755))
	require.NoError(p.t, exec.Command("mount", "--move", small, full).Run())
}

// A world, or a part of the build, on a disk of its own: what is exchanged there is
// staged there, a refit that fails puts the world back, and so does a restore. A
// disk that is not mounted when the way back needs it is named, and nothing is
// taken for done.
func TestTheWorldOnAnotherDisk(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.ontoDisk("gardens")
	p.ontoDisk("tracks")
	p.ok("start")
	p.ok("refit", "3.5.0")
	assert.FileExists(t, filepath.Join(p.install, "tracks/.freshkeel/refits/r0001/displaced/tracks/old-mill.track"))
	before := p.tree()
	p.exits(exitRolledBack, "refit", "3.6.0")
	assert.Equal(t, before, p.tree())
	assert.True(t, p.status().Server.Running)
	p.ok("stop")
	was := p.tree()
	p.ok("backup", "take", "--label", "by hand")
	id := p.backups()[len(p.backups())-1]
	for _, at := range []string{"gardens/fen-west.garden", "tracks/new.track", "members.txt"} {
		p.put(at, "spoilt\n")
	}
	require.NoError(t, os.Remove(filepath.Join(p.install, "gardens/fen-east.garden")))
	p.ok("backup", "restore", id)
	assert.Equal(t, was, p.tree())
	assert.Equal(t, "spoilt\n", func() string {
		list, _ := filepath.Glob(filepath.Join(p.install, "tracks/.freshkeel/refits/*/*/displaced/tracks/new.track"))
		require.Len(t, list, 1, "what was moved aside is kept on its own disk")
		b, _ := os.ReadFile(list[0])
		return string(b)
	}())

	tracks := filepath.Join(p.install, "tracks")
	aside := filepath.Join(p.dir, "aside")
	require.NoError(t, os.Mkdir(aside, 0o755))
	require.NoError(t, exec.Command("mount", "--move", tracks, aside).Run())
	r := p.exits(exitFailed, "rollback")
	assert.Contains(t, r.err, "tracks was on a file system of its own when files were exchanged there, and it is not mounted now")
	require.NoError(t, exec.Command("mount", "--move", aside, tracks).Run())
	p.ok("rollback")
	assert.Equal(t, "3.4.1", p.status().Version)
}

// Our own folder on another disk is refused, and so is a file that is mounted by
// itself: nothing could be exchanged there.
func TestWhatCanNotBeExchangedIsRefused(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.ok("start")
	require.NoError(t, os.MkdirAll(filepath.Join(p.install, ".freshkeel/refits"), 0o755))
	mount := func(how ...string) {
		at := filepath.Join(p.install, how[len(how)-1])
		if out, err := exec.Command("mount", append(how[:len(how)-1:len(how)-1], at)...).CombinedOutput(); err != nil {
			t.Skipf("this machine lets nobody mount: %s", out)
		}
		t.Cleanup(func() { exec.Command("umount", "-l", at).Run() })
	}
	mount("-t", "tmpfs", "-o", "size=1m", "tmpfs", ".freshkeel/refits")
	r := p.exits(exitRefused, "refit", "3.5.0")
	assert.Contains(t, r.out, ".freshkeel is on another file system than the install")
	require.NoError(t, exec.Command("umount", filepath.Join(p.install, ".freshkeel/refits")).Run())
	put(t, filepath.Join(p.dir, "members.txt"), "Ada\n")
	mount("--bind", filepath.Join(p.dir, "members.txt"), "members.txt")
	r = p.exits(exitRefused, "refit", "3.5.0")
	assert.Contains(t, r.out, "members.txt is mounted there as a single file")
	assert.True(t, p.status().Server.Running)
}

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
