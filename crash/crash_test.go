//go:build unix

// Package crash kills the program at every step of what it does (promise P2), cuts the
// power, and fills the disk.
package crash

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The words of the program's that are needed here: exit codes, and the environment variables
// by which it dies, finds the disk full or stays at a named step.
const (
	exitFailed     = 1
	exitRolledBack = 4
	exitHands      = 5

	dieAt   = "FRESHKEEL_TEST_DIE_AT"
	fullAt  = "FRESHKEEL_TEST_DISK_FULL_AT"
	traceTo = "FRESHKEEL_TEST_TRACE"
)

func TestMain(m *testing.M) { os.Exit(proving.Main(m, nil)) }

func TestResultsGoWithTheProgram(t *testing.T) { proving.GoWithProgram(t) }

// crash is one command of which every step is to be a place to die at.
type crash struct {
	name     string
	releases []demo.Release
	prepare  [][]string
	command  []string
	always   string   // the version that must hold in the end, "" where either may
	disks    []string // folders of the install that stand on disks of their own
	away     []string // folders of the install that stand outside of it
	parts    string   // it is a server of three parts: "all" with a migration, "one" of which is refitted alone
	from     string   // the first step to die at; what comes before it, and each exchange, is another case's
	spoilt   bool     // its first backup, b0001, has settings with which no server comes up
}

func crashes() []crash {
	r := demo.Releases
	good, dies := []demo.Release{r[0], r[1]}, []demo.Release{r[0], r[2]}
	refit, two := []string{"refit"}, []string{"gardens", "tracks"}
	return []crash{
		{name: "refit that comes up", releases: good, command: refit},
		{name: "refit that is rolled back", releases: dies, command: refit, always: "3.4.1"},
		{name: "rollback by hand", releases: good, prepare: [][]string{refit}, command: []string{"rollback"}},
		{name: "restore", releases: good, prepare: [][]string{{"backup", "take"}, refit},
			command: []string{"backup", "restore", "b0001"}},
		{
			name:     "refit over several disks that is rolled back",
			releases: dies,
			command:  refit,
			always:   "3.4.1",
			disks:    two,
		},
		{
			name:     "refit of folders elsewhere that is rolled back",
			releases: dies,
			command:  refit,
			always:   "3.4.1",
			away:     two,
		},
		{
			name:     "rollback of folders elsewhere",
			releases: good,
			prepare:  [][]string{refit},
			command:  []string{"rollback"},
			away:     two,
		},
		{
			name:     "refit of parts with a migration",
			releases: good,
			command:  refit,
			parts:    "all",
			from:     "phase:migrating",
		},
		{name: "refit of parts with a migration that is rolled back", releases: dies, command: refit, always: "3.4.1",
			parts: "all", from: "phase:rolling-back"},
		{name: "refit of one part that is rolled back", releases: dies, command: refit, always: "3.4.1", parts: "one",
			from: "phase:stopping"},
		{name: "restore that does not come up", releases: good,
			command: []string{"backup", "restore", "b0001", "--only", "mossgate.conf"}, always: "3.4.1", spoilt: true},
	}
}

// setUp brings a harbour to where the command is about to run, the server up.
func (c crash) setUp(t *testing.T) *proving.Place {
	p := proving.Mossgate(t, c.releases...)
	for _, at := range c.disks {
		p.OntoDisk(at)
	}
	for _, at := range c.away {
		p.Elsewhere(at)
	}
	if c.parts != "" {
		inParts(p, c.parts == "one")
	}
	if c.spoilt {
		good := p.Read("mossgate.conf")
		p.Put("mossgate.conf", strings.ReplaceAll(good, fmt.Sprint(p.Port), "99999999"))
		p.OK("backup", "take")
		p.Put("mossgate.conf", good)
	}
	p.OK("start")
	for _, args := range c.prepare {
		p.OK(args...)
	}
	return p
}

// inParts makes a server one of three parts, the gates last. Either it has data outside that its
// makers want migrated at each step, or the build is the gates' alone, and the others run on.
func inParts(p *proving.Place, alone bool) {
	songs := filepath.Join(p.Dir, "songs.db")
	require.NoError(p.T, os.WriteFile(songs, []byte("songs\n"), 0o644))
	for _, name := range []string{"login", "songs"} {
		p.Put(
			name+".sh",
			"#!/bin/sh\necho started >>../"+name+".starts\necho "+name+" ready\nwhile read -r l; do [ \"$l\" = close ] && exit 0; done\n",
		)
	}
	p.EditProfile(func(s string) string {
		a, z := strings.Index(s, "[launch]"), strings.Index(s, "[stop]")
		s = s[:a] + s[z:]
		ready := s[strings.Index(s, "[ready]"):]
		text := ""
		for i, name := range []string{"login", "songs"} {
			text += fmt.Sprintf(
				"\n[[part]]\nname = '%s'\n[part.launch]\nscript = '%[1]s.sh'\n[part.stop]\nsend = 'close'\n"+
					"[part.ready]\nline = '^%[1]s ready'\nsteady = '%dms'\n",
				name,
				20+i,
			)
		}
		text += "\n[[part]]\nname = 'gates'\nafter = ['login', 'songs']\n[part.launch]\nscript = 'open-gates.sh'\n" +
			"[part.stop]\nsend = 'close'\n" + strings.Replace(ready, "[ready]", "[part.ready]", 1) +
			"\n[[data]]\nname = 'songs'\ndump = ['cat', '../songs.db']\nload = ['sh', '-c', 'cat > ../songs.db']\n" +
			"[[migration]]\nname = 'song tables'\nwhen = 'each'\nrun = ['sh', '-c', 'echo ran >> ../songs.db']\n"
		if alone {
			text = text[:strings.Index(text, "\n[[data]]")]
			text = strings.Replace(
				text,
				"name = 'gates'\n",
				"name = 'gates'\nfiles = ['open-gates.sh', 'mossgate*', 'README.txt', "+
					"'lib/**', 'tracks/**', 'assets/**', 'gardens/**']\n",
				1,
			)
		}
		return s[:strings.Index(s, "[ready]")] + text
	})
}

// ending is what may come of a command that nothing disturbs.
type ending struct {
	sync.Mutex
	both  map[string]map[string]string // the trees between which nothing may be, by the version said
	steps []string                     // that the command takes; nil: it was not run yet
}

// endings are those of crashes, by their names.
var endings sync.Map

// outcomes are the trees between which nothing may be, by the version said, and the steps
// that the command takes. They are found out once.
func (c crash) outcomes(t *testing.T) (map[string]map[string]string, []string) {
	found, _ := endings.LoadOrStore(c.name, &ending{})
	e := found.(*ending)
	e.Lock()
	defer e.Unlock()
	if e.steps != nil {
		return e.both, e.steps
	}
	p := c.setUp(t)
	e.both = map[string]map[string]string{p.Status().Version: p.Tree()}
	trace := filepath.Join(p.Dir, "trace")
	p.RunWith([]string{traceTo + "=" + trace}, c.command...)
	e.both[p.Status().Version] = p.Tree()
	b, err := os.ReadFile(trace)
	require.NoError(t, err)
	steps := strings.Fields(string(b))
	if c.from != "" {
		steps = slices.DeleteFunc(steps[max(0, slices.Index(steps, c.from)):], func(at string) bool {
			_, n, counted := strings.Cut(at, ":")
			return counted && n != "1" && strings.Trim(n, "0123456789") == ""
		})
	}
	slices.Sort(steps)
	e.steps = slices.Compact(steps)
	return e.both, e.steps
}

// settled holds an install to P2 after a crash: the next command leaves it at
// exactly one of the two trees, with that version's server running.
func settled(p *proving.Place, both map[string]map[string]string, always string) {
	p.T.Helper()
	next := p.OK("recover") // or any command that changes something
	require.NotContains(p.T, next.Err, "did not end well")
	st := p.Status()
	want, known := both[st.Version]
	require.True(p.T, known, "version %q is neither", st.Version)
	require.Equal(p.T, want, p.Tree(), "not exactly the tree of %s", st.Version)
	if always != "" {
		require.Equal(p.T, always, st.Version)
	}
	require.True(p.T, st.Server.Running, "it ran before, so it runs after")
	for _, part := range st.Parts {
		require.True(p.T, part.Server.Running, part.Name)
	}
	if b, err := os.ReadFile(filepath.Join(p.Dir, "songs.db")); err == nil {
		want := map[bool]string{true: "songs\n", false: "songs\nran\n"}[st.Version == "3.4.1"]
		require.Equal(p.T, want, string(b), "the data outside is of the other build")
	}
	lines := p.OK("log", "-n", "200").Out
	require.Contains(p.T, lines, "mossgate server "+st.Version)
	for _, e := range p.Entries() {
		require.NotEmpty(p.T, e.Outcome, "entry %s is left open", e.ID)
	}
}

// ofToday are the steps at which a plain run dies.
func ofToday(steps []string) (out []string) {
	for i, step := range steps {
		if proving.Today(i) {
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
			require.Greater(t, len(steps), 5, "steps: %v", steps)
			for _, step := range ofToday(steps) {
				t.Run(step, func(t *testing.T) {
					t.Parallel()
					p := c.setUp(t)
					r := p.RunWith([]string{dieAt + "=" + step}, c.command...)
					require.Equal(t, -1, r.Code, "it was to die at %s\n%s%s", step, r.Out, r.Err)
					settled(p, both, c.always)
					if c.parts == "one" {
						b, err := os.ReadFile(filepath.Join(p.Dir, "login.starts"))
						require.NoError(t, err)
						require.Equal(t, "started\n", string(b), "it ran on")
					}
				})
			}
		})
	}
}

// An audit that puts files back while the server runs is killed at every step: each file is as
// it was or as it should be, the next command takes back what was done, and the server never
// notices.
func TestKilledWhileMending(t *testing.T) {
	t.Parallel()
	damaged := func(t *testing.T) *proving.Place {
		p := proving.Mossgate(t, demo.Releases[0])
		p.OK("adopt", p.Install, "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"))
		p.OK("start")
		p.Put("tracks/fern-mile.track", "fern mile, by another hand\n")
		for _, at := range []string{"assets/night.pak", "tracks/dew-loop.track"} {
			require.NoError(t, os.Remove(filepath.Join(p.Install, at)))
		}
		return p
	}
	p := damaged(t)
	before := p.Tree()
	trace := filepath.Join(p.Dir, "trace")
	p.RunWith([]string{traceTo + "=" + trace}, "audit", "--mend")
	after := p.Tree()
	require.NotEqual(t, before, after)
	b, err := os.ReadFile(trace)
	require.NoError(t, err)
	steps := strings.Fields(string(b))
	require.Greater(t, len(steps), 5, steps)
	for _, step := range steps {
		t.Run(step, func(t *testing.T) {
			t.Parallel()
			p := damaged(t)
			pid := p.Status().Server.PID
			require.Equal(t, -1, p.RunWith([]string{dieAt + "=" + step}, "audit", "--mend").Code)
			p.OK("recover")
			want := before
			if step == "finished" {
				want = after
			}
			assert.Equal(t, want, p.Tree(), "exactly one of the two")
			assert.Equal(t, pid, p.Status().Server.PID)
			p.Run("audit", "--mend")
			assert.Equal(t, after, p.Tree())
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
			require.Equal(t, -1, p.RunWith([]string{dieAt + "=" + pair[0]}, c.command...).Code)
			for _, step := range pair[1:] {
				p.RunWith([]string{dieAt + "=" + step}, "recover") // dies there, where it comes by
			}
			settled(p, both, c.always)
		})
	}
}

// Kills from outside at moments that nobody chose, back and forth.
func TestKilledAtRandomMoments(t *testing.T) {
	t.Parallel()
	kills := 25
	if !proving.All() {
		kills = 8
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
				if p.Status().Version == "3.5.0" {
					args = []string{"rollback"}
				}
				cmd := p.Command(args...)
				require.NoError(t, cmd.Start())
				time.Sleep(time.Duration(random.IntN(700)) * time.Millisecond)
				cmd.Process.Kill()
				cmd.Wait()
				settled(p, both, "")
			}
		})
	}
}

// A full disk before the swap changes nothing; during it, all goes back.
func TestDiskFullAtAnyStep(t *testing.T) {
	t.Parallel()
	c := crashes()[0]
	both, _ := c.outcomes(t)
	for step, code := range map[string]int{"stage": exitFailed, "pre-copy": exitFailed, "backup": exitFailed,
		"phase:swapping": exitFailed, "swap:1": exitRolledBack, "swap:4": exitRolledBack,
		"phase:watching": exitRolledBack} {
		t.Run(step, func(t *testing.T) {
			t.Parallel()
			p := c.setUp(t)
			r := p.RunWith([]string{fullAt + "=" + step}, "refit")
			assert.Equal(t, code, r.Code, r.Out+r.Err)
			assert.Contains(t, r.Out+r.Err, "no space left on device")
			settled(p, both, "3.4.1")
			p.OK("refit")
			settled(p, both, "3.5.0")
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
	}{{0, "phase:confirming", "3.5.0"}, {0, "finished", "3.5.0"}, {1, "phase:returning", "3.4.1"},
		{2, "phase:returning", "3.4.1"}, {3, "finished", "3.4.1"}} {
		t.Run(fmt.Sprint(crashes()[c.i].name, " ", c.step), func(t *testing.T) {
			t.Parallel()
			both, _ := crashes()[c.i].outcomes(t)
			p := crashes()[c.i].setUp(t)
			r := p.RunWith([]string{fullAt + "=" + c.step}, crashes()[c.i].command...)
			assert.Equal(t, exitHands, r.Code, r.Out+r.Err)
			assert.Contains(t, r.Out, "no space left on device")
			if c.step != "finished" {
				assert.Contains(t, p.OK("logbook").Err, "could not be settled", "to look costs no other try")
				assert.Contains(t, p.Exits(exitHands, "status").Out, "UNSETTLED")
			}
			p.OK("recover")
			settled(p, both, c.version)
		})
	}
}

// A power cut ends the command, the minder and the server at once. What the
// next command finds is the disk alone.
func TestPowerCutLeavesOldOrNewAndTheServerUp(t *testing.T) {
	t.Parallel()
	for i, steps := range [][]string{
		{"staged", "phase:stopping", "stopped", "backup", "phase:swapping", "swap:5", "phase:watching", "started",
			"phase:confirming"},
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
					cmd := p.Command(c.command...)
					p.Hold(at, cmd)
					for _, pid := range append(proving.ProcessesIn(p.Dir), cmd.Process.Pid) {
						syscall.Kill(pid, syscall.SIGKILL)
					}
					cmd.Wait()
					proving.Until(t, "everything to be dead",
						func() bool { return len(proving.ProcessesIn(p.Dir)) == 0 })
					settled(p, both, c.always)
				})
			}
		})
	}
}
