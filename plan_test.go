package freshkeel

import (
	"bytes"
	"context"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"freshkeel/internal/acquire"
	"freshkeel/internal/check"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/putback"
	"freshkeel/internal/resolve"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stand is an install whose old build, present content and new build are given
// file by file.
type stand struct {
	t *testing.T
	k *Keel
}

func newStand(t *testing.T, prof string) *stand {
	t.Helper()
	dir := t.TempDir()
	p, err := profile.Parse("p", []byte("[server]\nname = 'x'\n"+prof))
	require.NoError(t, err)
	k := newKeel(install.New(dir, p, Options{Home: t.TempDir()}))
	require.NoError(t, os.MkdirAll(k.in.State(), 0o755))
	return &stand{t, k}
}

func (s *stand) put(files map[string]string) {
	s.t.Helper()
	for at, body := range files {
		full := s.k.in.Path(at)
		if strings.HasSuffix(at, "/") {
			require.NoError(s.t, os.MkdirAll(full, 0o755))
			continue
		}
		require.NoError(s.t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(s.t, os.WriteFile(full, []byte(body), 0o644))
	}
}

// build stores files as a build in the locker.
func (s *stand) build(ver string, files map[string]string) *acquire.Fetched {
	s.t.Helper()
	l, err := s.k.in.Locker()
	require.NoError(s.t, err)
	w := l.Writer()
	defer w.Close()
	set := &locker.Set{Owner: locker.Builds, ID: "build-" + ver, Version: ver, Taken: time.Now()}
	for _, at := range slices.Sorted(maps.Keys(files)) {
		f := locker.File{}
		if !strings.HasSuffix(at, "/") {
			f, err = w.Add(context.Background(), bytes.NewReader([]byte(files[at])), nil)
			require.NoError(s.t, err)
		}
		size := f.Size
		f.Entry = tree.Entry{Path: strings.TrimSuffix(at, "/"), Kind: tree.File, Mode: 0o644, UID: -1, GID: -1, Mtime: 1}
		f.Size = size
		if strings.HasSuffix(at, "/") {
			f.Kind, f.Mode = tree.Dir, 0o755
		}
		set.Entries = append(set.Entries, f)
	}
	require.NoError(s.t, w.Publish(set))
	return &acquire.Fetched{Set: set, Version: ver, Candidate: &resolve.Candidate{Version: ver, Place: s.k.in.Profile.Place}}
}

// installed records files as what the old build put there.
func (s *stand) installed(ver string, files map[string]string) {
	s.t.Helper()
	inv := &inventory.Inventory{Version: ver, Known: true}
	for at, body := range files {
		inv.Files = append(inv.Files, inventory.Owned{Entry: tree.Entry{Path: at, Kind: tree.File, Size: int64(len(body)), Mode: 0o644}, Sum: tree.SumBytes([]byte(body))})
	}
	require.NoError(s.t, inventory.Write(s.k.in.State("inventory.json"), inv))
}

// Whose file it is decides what becomes of it: every case of the guide's table.
func TestPlanDecidesForEachFileByWhoseItIs(t *testing.T) {
	const none = "-"
	for name, c := range map[string]struct {
		old, here, next string // content, or none
		prof            string
		want            string // step, or where it is listed
	}{
		"same in both":                        {"a", "a", "a", "", "unchanged"},
		"maker changed it":                    {"a", "a", "b", "", swap.Replace},
		"new in the build":                    {none, none, "b", "", swap.Add},
		"gone from the build":                 {"a", "a", none, "", swap.Remove},
		"gone from the build and deleted":     {"a", none, none, "", ""},
		"operator changed it":                 {"a", "mine", "a", "", "left"},
		"both changed it":                     {"a", "mine", "b", "", "drifted"},
		"both changed it alike":               {"a", "b", "b", "", "unchanged"},
		"operator changed it, build drops it": {"a", "mine", none, "", "left"},
		"operator deleted it":                 {"a", none, "a", "", swap.Add},
		"foreign":                             {none, "mine", none, "", "foreign"},
		"foreign, and now the build has it":   {none, "mine", "b", "", swap.Replace},
		"kept":                                {"a", "mine", "b", "keep = ['f']", "kept"},
		"kept, not there, shipped before":     {"a", none, "b", "keep = ['f']", "kept"},
		"kept, not there, new in the build":   {none, none, "b", "keep = ['f']", swap.Add},
		"kept, dropped by the build":          {"a", "a", none, "keep = ['f']", ""},
		"settings":                            {"a", "a", "b", "settings = ['f']", "kept"},
		"skipped":                             {"a", "a", "b", "skip = ['f']", ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := newStand(t, c.prof)
			of := func(body string) map[string]string {
				m := map[string]string{"other": "o"}
				if body != none {
					m["f"] = body
				}
				return m
			}
			s.installed("1", of(c.old))
			s.put(of(c.here))
			p, err := s.k.planner.Make(s.build("2", of(c.next)), Want{})
			require.NoError(t, err)
			got := ""
			for _, st := range p.Steps {
				if st.Path == "f" {
					got = st.Do
				}
			}
			for word, list := range map[string][]string{"left": p.Left, "drifted": p.Drifted, "kept": p.Kept, "foreign": p.Foreign} {
				if len(list) > 0 && assert.Equal(t, []string{"f"}, list) {
					got += word
				}
			}
			if p.Unchanged == 2 {
				got = "unchanged"
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// What the operator deleted of the own files stays deleted, however many builds
// ship it.
func TestDeletedOwnFileDoesNotComeBack(t *testing.T) {
	s := newStand(t, "keep = ['gardens/**']")
	ships := map[string]string{"gardens/sample": "s"}
	s.installed("1", ships)
	s.put(map[string]string{"gardens/mine": "m"})
	for _, ver := range []string{"2", "3"} {
		ships["jar"] = ver
		p, err := s.k.planner.Make(s.build(ver, ships), Want{})
		require.NoError(t, err)
		assert.NotContains(t, p.Files, "gardens/sample", "build %s", ver)
		inv := &inventory.Inventory{Version: ver, Known: true, Files: p.Owned}
		require.NoError(t, inventory.Write(s.k.in.State("inventory.json"), inv))
		s.put(map[string]string{"jar": ver})
	}
}

func TestPlanMakesAndDropsFolders(t *testing.T) {
	s := newStand(t, "keep = ['worlds/**']")
	old := map[string]string{"gone/deep/a": "a", "stays/b": "b", "half/c": "c"}
	s.installed("1", old)
	s.put(old)
	s.put(map[string]string{"half/mine": "m", "worlds/w": "w"})
	p, err := s.k.planner.Make(s.build("2", map[string]string{"stays/b": "b", "new/er/d": "d", "hollow/": "", "stays/more/e": "e"}), Want{})
	require.NoError(t, err)
	assert.Equal(t, []swap.Step{
		{Do: swap.Remove, Path: "gone/deep/a"}, {Do: swap.Remove, Path: "half/c"},
		{Do: swap.DropDir, Path: "half"}, {Do: swap.DropDir, Path: "gone/deep"}, {Do: swap.DropDir, Path: "gone"},
		{Do: swap.MakeDir, Path: "hollow"}, {Do: swap.MakeDir, Path: "new"}, {Do: swap.MakeDir, Path: "new/er"}, {Do: swap.MakeDir, Path: "stays/more"},
		{Do: swap.Add, Path: "new/er/d"}, {Do: swap.Add, Path: "stays/more/e"},
	}, p.Steps)
	run := s.k.in.Run("r0001")
	require.NoError(t, s.k.planner.Stage(run, p, func(int64, int64) {}))
	require.NoError(t, run.Write(run.Plan(p.Steps)))
	require.NoError(t, run.Apply(run.Plan(p.Steps), nil))
	list, err := tree.Walk(s.k.in.Dir, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"half", "half/mine", "hollow", "new", "new/er", "new/er/d", "stays", "stays/b", "stays/more", "stays/more/e", "worlds", "worlds/w"}, tree.List(list).Paths())
}

// What can't be exchanged safely is said before anything is tried.
func TestPlanSeesWhatStandsInItsWay(t *testing.T) {
	for name, c := range map[string]struct {
		here, next map[string]string
		link       string
		where, why string
	}{
		"folder for a file":  {here: map[string]string{"f/x": ""}, next: map[string]string{"f": "b"}, where: "f", why: "the install has a folder"},
		"file for a folder":  {here: map[string]string{"f": ""}, next: map[string]string{"f/x": "b"}, where: "f/x", why: "f is a file in the install and a folder in the build"},
		"folder, named so":   {here: map[string]string{"f": ""}, next: map[string]string{"f/": ""}, where: "f", why: "the build has a folder there, the install has a file"},
		"link on the way":    {here: map[string]string{"elsewhere/x": ""}, next: map[string]string{"f/x": "b"}, link: "f", where: "f/x", why: "f is a link to elsewhere"},
		"two for one place":  {next: map[string]string{"s-1.jar": "a", "s-2.jar": "b"}, where: "s.jar", why: "matches both s-1.jar and s-2.jar"},
		"our own folder":     {next: map[string]string{".freshkeel/inventory.json": "evil"}},
		"the profile itself": {here: map[string]string{"freshkeel.toml": "mine"}, next: map[string]string{"freshkeel.toml": "theirs"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := newStand(t, "[place]\n's-*.jar' = 's.jar'\n")
			s.installed("1", nil)
			s.put(c.here)
			if c.link != "" {
				require.NoError(t, os.Symlink("elsewhere", s.k.in.Path(c.link)))
			}
			p, err := s.k.planner.Make(s.build("2", c.next), Want{})
			require.NoError(t, err)
			if c.where == "" {
				assert.Empty(t, p.Blocked)
				assert.Empty(t, p.Steps)
				return
			}
			require.Len(t, p.Blocked, 1)
			assert.Equal(t, c.where, p.Blocked[0].Path)
			assert.Contains(t, p.Blocked[0].Why, c.why)
		})
	}
}

// A plan made while the server ran is held against what it left.
func TestPlanNoticesWhatChangedSince(t *testing.T) {
	s := newStand(t, "")
	old := map[string]string{"f": "a", "g": "a"}
	s.installed("1", old)
	s.put(old)
	f := s.build("2", map[string]string{"f": "b", "new": "n"})
	p, err := s.k.planner.Make(f, Want{})
	require.NoError(t, err)
	require.NoError(t, s.k.planner.Still(p))
	for name, change := range map[string]func() error{
		"written to": func() error { return os.WriteFile(s.k.in.Path("f"), []byte("c"), 0o644) },
		"appeared":   func() error { return os.WriteFile(s.k.in.Path("new"), nil, 0o644) },
		"vanished":   func() error { return os.Remove(s.k.in.Path("g")) },
	} {
		s.put(old)
		os.Remove(s.k.in.Path("new"))
		p, err := s.k.planner.Make(f, Want{})
		require.NoError(t, err)
		require.NoError(t, change(), name)
		assert.ErrorContains(t, s.k.planner.Still(p), "changed while the refit was prepared", name)
	}
}

// putBack, at its own level: any mess becomes the backup again, and a second
// call finds nothing to do.
func TestPutBackMakesAnyMessTheBackupAgain(t *testing.T) {
	s := newStand(t, "")
	s.put(map[string]string{"same": "s", "rewritten": "r", "deleted/deep/f": "f", "file": "x", "folder/in": "i", "touched": "t", "logs/l": "l"})
	require.NoError(t, os.Symlink("same", s.k.in.Path("link")))
	require.NoError(t, os.Mkdir(s.k.in.Path("hollow"), 0o711))
	l, err := s.k.in.Locker()
	require.NoError(t, err)
	w := l.Writer()
	defer w.Close()
	skip := tree.Patterns{"logs/**"}
	taken, err := w.Take(context.Background(), s.k.in.Dir, skip, nil, nil, nil)
	require.NoError(t, err)
	set := &locker.Set{Owner: "server-x", Skipped: skip, Entries: taken.Entries}
	require.NoError(t, w.Publish(set))
	before := look(t, s.k.in.Dir)

	s.put(map[string]string{"rewritten": "R", "new/one": "n", "logs/l": "more"})
	require.NoError(t, os.RemoveAll(s.k.in.Path("deleted")))
	require.NoError(t, os.Remove(s.k.in.Path("file")))
	s.put(map[string]string{"file/now/a": "folder"})
	require.NoError(t, os.RemoveAll(s.k.in.Path("folder")))
	s.put(map[string]string{"folder": "now a file"})
	require.NoError(t, os.Chmod(s.k.in.Path("touched"), 0o600))
	require.NoError(t, os.Remove(s.k.in.Path("link")))
	require.NoError(t, os.Symlink("rewritten", s.k.in.Path("link")))
	require.NoError(t, os.Chmod(s.k.in.Path("hollow"), 0o755))

	all := func(string) bool { return true }
	quiet := func(string) error { return nil }
	run := swap.Run{Root: s.k.in.Dir, Dir: s.k.in.State("refits/r0001/back-1")}
	r, err := s.k.returner.Put(run, set, putback.Scope{Within: all, TakeAway: all}, quiet)
	require.NoError(t, err)
	assert.Equal(t, before, look(t, s.k.in.Dir))
	b, err := os.ReadFile(s.k.in.Path("logs/l"))
	require.NoError(t, err)
	assert.Equal(t, "more", string(b), "skipped")
	for at, body := range map[string]string{"new/one": "n", "rewritten": "R", "file/now/a": "folder", "folder": "now a file"} {
		b, err := os.ReadFile(run.Displaced(at))
		require.NoError(t, err, "moved aside, not destroyed")
		assert.Equal(t, body, string(b))
	}
	assert.NotEmpty(t, r.Told())
	run.Dir = s.k.in.State("refits/r0001/back-2")
	r, err = s.k.returner.Put(run, set, putback.Scope{Within: all, TakeAway: all}, quiet)
	require.NoError(t, err)
	assert.Zero(t, r.Restored+r.Aside)
	assert.NoDirExists(t, run.Displaced(""))
}

// look lists what is in a folder but for logs: kind, mode, content, target.
func look(t *testing.T, dir string) map[string]string {
	t.Helper()
	list, err := tree.Walk(dir, tree.Patterns{"logs/**"})
	require.NoError(t, err)
	out := map[string]string{}
	for _, e := range list {
		body := ""
		if e.Kind == tree.File {
			b, err := os.ReadFile(filepath.Join(dir, e.Path))
			require.NoError(t, err)
			body = string(b)
		}
		out[e.Path] = strings.Join([]string{string(e.Kind), e.Mode.String(), e.Target, body, time.Unix(0, e.Mtime).Format(time.RFC3339Nano)}, " ")
		if e.Kind == tree.Link {
			out[e.Path] = "link " + e.Target
		}
	}
	return out
}

// A build that did nothing but create a file is undone as well.
func TestPutBackOfNothingButNewFiles(t *testing.T) {
	s := newStand(t, "")
	s.put(map[string]string{"a": "a"})
	l, err := s.k.in.Locker()
	require.NoError(t, err)
	w := l.Writer()
	defer w.Close()
	taken, err := w.Take(context.Background(), s.k.in.Dir, nil, nil, nil, nil)
	require.NoError(t, err)
	set := &locker.Set{Owner: "server-x", Entries: taken.Entries}
	require.NoError(t, w.Publish(set))
	s.put(map[string]string{"new/b": "b"})
	all := func(string) bool { return true }
	run := swap.Run{Root: s.k.in.Dir, Dir: s.k.in.State("refits/r0001/back-1")}
	r, err := s.k.returner.Put(run, set, putback.Scope{Within: all, TakeAway: all}, func(string) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, 1, r.Aside)
	assert.NoDirExists(t, s.k.in.Path("new"))
	assert.FileExists(t, run.Displaced("new/b"))
}

// What somebody wrote stays; what nobody wrote, or what was cut short, is put
// back, whether the maker changed it meanwhile or not.
func TestDamageIsToldFromWhatSomebodyWrote(t *testing.T) {
	data := "\x00" + strings.Repeat("night ", 2000)
	for name, c := range map[string]struct {
		was, here, next string
		sameTimes, mend bool
		want            string
	}{
		"other bytes, the same times":               {"abc", "abX", "abc", true, false, "mended"},
		"the same, and the maker changed it":        {"abc", "abX", "new", true, false, "mended"},
		"other bytes, written since":                {"abc", "abX", "abc", false, false, "left"},
		"that, and to be mended":                    {"abc", "abX", "abc", false, true, "mended"},
		"that, and the maker changed it":            {"abc", "abX", "new", false, true, "drifted"},
		"data cut short":                            {data, data[:5000], data, false, false, "mended"},
		"data cut short, the maker changed it":      {data, data[:5000], "new", false, false, "mended"},
		"data emptied":                              {data, "", data, false, false, "mended"},
		"data cut short, with other bytes":          {data, "x" + data[1:5000], data, false, false, "left"},
		"text of which somebody took the last line": {"one\ntwo\n", "one\n", "one\ntwo\n", false, false, "left"},
	} {
		t.Run(name, func(t *testing.T) {
			s := newStand(t, "")
			s.build("1", map[string]string{"f": c.was})
			s.installed("1", map[string]string{"f": c.was})
			s.put(map[string]string{"f": c.here})
			inv, err := s.k.inv.Read()
			require.NoError(t, err)
			inv.Build = "build-1"
			if c.sameTimes {
				e, _, err := tree.Describe(s.k.in.Path("f"), "f")
				require.NoError(t, err)
				inv.Files[0].Mtime = e.Mtime
			}
			require.NoError(t, inventory.Write(s.k.in.State("inventory.json"), inv))
			p, err := s.k.planner.Make(s.build("2", map[string]string{"f": c.next}), Want{Mend: c.mend})
			require.NoError(t, err)
			got := ""
			for word, list := range map[string][]string{"left": p.Left, "drifted": p.Drifted, "mended": p.Mended} {
				if len(list) > 0 {
					got += word
				}
			}
			assert.Equal(t, c.want, got)
			assert.Equal(t, c.want == "mended", len(p.Steps) == 1)
		})
	}
}

// A layer's files lie over the build's, under its own folder; what can't lie
// together is told; content that lies elsewhere now is a move.
func TestLayersComposeAndMovesAreSeen(t *testing.T) {
	s := newStand(t, "[[layer]]\nname = 'a'\nsource.feed = 'x'\n[[layer]]\nname = 'b'\ninto = 'lib'\nsource.feed = 'x'\n")
	s.installed("1", map[string]string{"old/map": "one and the same", "gone": "x"})
	s.put(map[string]string{"old/map": "one and the same", "gone": "x"})
	f := s.build("2", map[string]string{"new/map": "one and the same", "lib/f": "base", "lib/own": "o", "flat": "file"})
	for name, files := range map[string]map[string]string{"a": {"lib/f": "from a", "flat/x": "below a file"}, "b": {"f": "from b"}} {
		lf := s.build("l"+name, files)
		lf.Layer = name
		f.Layers = append(f.Layers, lf)
	}
	slices.SortFunc(f.Layers, func(a, b *acquire.Fetched) int { return strings.Compare(a.Layer, b.Layer) })
	p, err := s.k.planner.Make(f, Want{})
	require.NoError(t, err)
	assert.Equal(t, []Overlaid{{Path: "lib/f", Under: "", Over: "a"}, {Path: "lib/f", Under: "a", Over: "b"}}, p.Overlaid)
	assert.Equal(t, tree.SumBytes([]byte("from b")), p.Files["lib/f"].Sum, "the later layer's")
	assert.Equal(t, []string{"b", "", ""}, []string{p.LayerOf("lib/f"), p.LayerOf("lib/own"), p.LayerOf("new/map")})
	require.Len(t, p.Blocked, 1)
	assert.Contains(t, p.Blocked[0].Why, "layer a brings it, and the build brings a file called flat")
	assert.Equal(t, []Move{{From: "old/map", To: "new/map"}}, p.Moved)
	for _, o := range p.Owned {
		assert.Equal(t, p.LayerOf(o.Path), o.Layer, o.Path)
	}
	assert.Equal(t, []string{"a: 1 → 2", "b: 1 taken off", "c: 3 laid"}, plan.LayerChanges([]Laid{{Name: "a", Version: "1"}, {Name: "b", Version: "1"}, {Name: "d", Version: "1"}},
		[]Laid{{Name: "a", Version: "2"}, {Name: "c", Version: "3"}, {Name: "d", Version: "1"}}))
}

func TestEveryCheckIsDocumented(t *testing.T) {
	b, err := os.ReadFile("docs/checks.md")
	require.NoError(t, err)
	for _, c := range check.Checks {
		mark := "| |"
		if slices.Contains(check.Acceptable, c.Name) {
			mark = "| ✓ |"
		}
		assert.Regexp(t, "\\| `"+c.Name+"` \\|.*"+regexp.QuoteMeta(mark), string(b))
	}
}
