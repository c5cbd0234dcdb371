package plan

import (
	"os"
	"slices"
	"strings"
	"testing"

	"freshkeel/internal/acquire"
	"freshkeel/internal/inventory"
	"freshkeel/internal/resolve"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/proving/stand"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bench is an install that is given file by file, with its planner.
type bench struct {
	*stand.Stand
	*Planner
}

func newStand(t *testing.T, prof string) *bench {
	t.Helper()
	st := stand.New(t, prof)
	return &bench{st, New(st.Inv, st.Res, st.Runtimes)}
}

// ownedBy lists the inventory that a plan leads to.
func ownedBy(t *testing.T, p *Plan) (out []inventory.Owned) {
	t.Helper()
	require.NoError(t, p.inventory(func(o *inventory.Owned) error { out = append(out, *o); return nil }))
	return out
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
		"foreign, and now the build has it":   {none, "mine", "b", "", "claimed"},
		"foreign, and the build's by word":    {none, "mine", "b", "overwrite", swap.Replace},
		"kept":                                {"a", "mine", "b", "keep = ['f']", "kept"},
		"kept, not there, shipped before":     {"a", none, "b", "keep = ['f']", "kept"},
		"kept, not there, new in the build":   {none, none, "b", "keep = ['f']", swap.Add},
		"kept, dropped by the build":          {"a", "a", none, "keep = ['f']", ""},
		"settings that nobody changed":        {"a", "a", "b", "settings = ['f']", swap.Replace},
		"settings as the operator has them":   {"k = 1", "k = 2", "k = 3", "settings = ['f']", "kept"},
		"settings with a new key":             {"k = 1", "k = 2", "k = 1\nl = 1\n", "settings = ['f']", swap.Replace},
		"prose that the operator changed":     {"come in", "go away", "come in!", "settings = ['f']", "kept"},
		"settings that can't be read":         {"{", "{1", "{2", "settings = ['f']", "kept"},
		"skipped":                             {"a", "a", "b", "skip = ['f']", ""},
	} {
		t.Run(name, func(t *testing.T) {
			var want resolve.Want
			if c.prof == "overwrite" {
				c.prof, want.Overwrite = "", []string{"f"}
			}
			s := newStand(t, c.prof)
			of := func(body string) map[string]string {
				m := map[string]string{"other": "o"}
				if body != none {
					m["f"] = body
				}
				return m
			}
			s.Installed("1", of(c.old))
			s.Put(of(c.here))
			p, err := s.Make(s.Build("2", of(c.next)), want)
			require.NoError(t, err)
			got := ""
			if slices.ContainsFunc(p.Claims, func(c Claim) bool { return c.Path == "f" }) {
				got = "claimed"
			}
			for _, st := range p.Steps {
				if st.Path == "f" {
					got = st.Do
				}
			}
			for word, list := range map[string][]string{"left": p.Left, "drifted": p.Drifted, "kept": p.Kept,
				"foreign": p.Foreign} {
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
	s.Installed("1", ships)
	s.Put(map[string]string{"gardens/mine": "m"})
	for _, ver := range []string{"2", "3"} {
		ships["jar"] = ver
		p, err := s.Make(s.Build(ver, ships), resolve.Want{})
		require.NoError(t, err)
		assert.False(t, p.Brings("gardens/sample"), "build %s", ver)
		inv := &inventory.Inventory{Version: ver, Known: true, Files: ownedBy(t, p)}
		require.NoError(t, inventory.Write(s.In.State("inventory.json"), inv))
		s.Put(map[string]string{"jar": ver})
	}
}

func TestPlanMakesAndDropsFolders(t *testing.T) {
	s := newStand(t, "keep = ['worlds/**']")
	old := map[string]string{"gone/deep/a": "a", "stays/b": "b", "half/c": "c"}
	s.Installed("1", old)
	s.Put(old)
	s.Put(map[string]string{"half/mine": "m", "worlds/w": "w"})
	p, err := s.Make(s.Build("2", map[string]string{"stays/b": "b", "new/er/d": "d", "hollow/": "",
		"stays/more/e": "e"}), resolve.Want{})
	require.NoError(t, err)
	assert.Equal(t, []swap.Step{
		{Do: swap.Remove, Path: "gone/deep/a"}, {Do: swap.Remove, Path: "half/c"},
		{Do: swap.DropDir, Path: "half"}, {Do: swap.DropDir, Path: "gone/deep"}, {Do: swap.DropDir, Path: "gone"},
		{Do: swap.MakeDir, Path: "hollow"}, {Do: swap.MakeDir, Path: "new"}, {Do: swap.MakeDir, Path: "new/er"},
		{Do: swap.MakeDir, Path: "stays/more"},
		{Do: swap.Add, Path: "new/er/d"}, {Do: swap.Add, Path: "stays/more/e"},
	}, p.Steps)
	run := s.In.Run("r0001")
	p.Checked()
	_, err = s.Stage(run, p, func(int64, int64) {})
	require.NoError(t, err)
	require.NoError(t, run.Write(run.Plan(p.Steps)))
	require.NoError(t, run.Apply(run.Plan(p.Steps), nil))
	list, err := tree.Walk(s.In.Dir, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"half", "half/mine", "hollow", "new", "new/er", "new/er/d", "stays", "stays/b",
		"stays/more", "stays/more/e", "worlds", "worlds/w"}, tree.List(list).Paths())
}

// What can't be exchanged safely is said before anything is tried.
func TestPlanSeesWhatStandsInItsWay(t *testing.T) {
	for name, c := range map[string]struct {
		here, next map[string]string
		link       string
		where, why string
	}{
		"folder for a file": {here: map[string]string{"f/x": ""}, next: map[string]string{"f": "b"}, where: "f",
			why: "the install has a folder"},
		"file for a folder": {here: map[string]string{"f": ""}, next: map[string]string{"f/x": "b"}, where: "f/x",
			why: "f is a file in the install and a folder in the build"},
		"folder, named so": {here: map[string]string{"f": ""}, next: map[string]string{"f/": ""}, where: "f",
			why: "the build has a folder there, the install has a file"},
		"link on the way": {here: map[string]string{"elsewhere/x": ""}, next: map[string]string{"f/x": "b"},
			link: "f", where: "f/x", why: "f is a link to elsewhere"},
		"two for one place": {next: map[string]string{"s-1.jar": "a", "s-2.jar": "b"}, where: "s.jar",
			why: "matches both s-1.jar and s-2.jar"},
		"our own folder": {next: map[string]string{".freshkeel/inventory.json": "evil"}},
		"the profile itself": {here: map[string]string{"freshkeel.toml": "mine"},
			next: map[string]string{"freshkeel.toml": "theirs"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := newStand(t, "[place]\n's-*.jar' = 's.jar'\n")
			s.Installed("1", nil)
			s.Put(c.here)
			if c.link != "" {
				require.NoError(t, os.Symlink("elsewhere", s.In.Path(c.link)))
			}
			p, err := s.Make(s.Build("2", c.next), resolve.Want{})
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
	s.Installed("1", old)
	s.Put(old)
	f := s.Build("2", map[string]string{"f": "b", "new": "n"})
	p, err := s.Make(f, resolve.Want{})
	require.NoError(t, err)
	require.NoError(t, s.Still(p))
	for name, change := range map[string]func() error{
		"written to": func() error { return os.WriteFile(s.In.Path("f"), []byte("c"), 0o644) },
		"appeared":   func() error { return os.WriteFile(s.In.Path("new"), nil, 0o644) },
		"vanished":   func() error { return os.Remove(s.In.Path("g")) },
	} {
		s.Put(old)
		os.Remove(s.In.Path("new"))
		p, err := s.Make(f, resolve.Want{})
		require.NoError(t, err)
		require.NoError(t, change(), name)
		assert.ErrorContains(t, s.Still(p), "changed while the refit was prepared", name)
	}
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
			s.Build("1", map[string]string{"f": c.was})
			s.Installed("1", map[string]string{"f": c.was})
			s.Put(map[string]string{"f": c.here})
			inv, err := s.inv.Read()
			require.NoError(t, err)
			inv.Build = "build-1"
			if c.sameTimes {
				e, _, err := tree.Describe(s.In.Path("f"), "f")
				require.NoError(t, err)
				inv.Files[0].Mtime = e.Mtime
			}
			require.NoError(t, inventory.Write(s.In.State("inventory.json"), inv))
			p, err := s.Make(s.Build("2", map[string]string{"f": c.next}), resolve.Want{Mend: c.mend})
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
	s := newStand(
		t,
		"[[layer]]\nname = 'a'\nsource.feed = 'x'\n[[layer]]\nname = 'b'\ninto = 'lib'\nsource.feed = 'x'\n",
	)
	s.Installed("1", map[string]string{"old/map": "one and the same", "gone": "x"})
	s.Put(map[string]string{"old/map": "one and the same", "gone": "x"})
	f := s.Build("2", map[string]string{"new/map": "one and the same", "lib/f": "base", "lib/own": "o", "flat": "file"})
	for name, files := range map[string]map[string]string{"a": {"lib/f": "from a", "flat/x": "below a file"},
		"b": {"f": "from b"}} {
		lf := s.Build("l"+name, files)
		lf.Layer = name
		f.Layers = append(f.Layers, lf)
	}
	slices.SortFunc(f.Layers, func(a, b *acquire.Fetched) int { return strings.Compare(a.Layer, b.Layer) })
	p, err := s.Make(f, resolve.Want{})
	require.NoError(t, err)
	assert.Equal(t, []Overlaid{{Path: "lib/f", Under: "", Over: "a"}, {Path: "lib/f", Under: "a", Over: "b"}},
		p.Overlaid)
	c, _ := p.Comes("lib/f")
	assert.Equal(t, tree.SumBytes([]byte("from b")), c.Sum, "the later layer's")
	assert.Equal(t, []string{"b", "", ""}, []string{p.LayerOf("lib/f"), p.LayerOf("lib/own"), p.LayerOf("new/map")})
	require.Len(t, p.Blocked, 1)
	assert.Contains(t, p.Blocked[0].Why, "layer a brings it, and the build brings a file called flat")
	assert.Equal(t, []inventory.Move{{From: "old/map", To: "new/map"}}, p.Moved)
	for _, o := range ownedBy(t, p) {
		assert.Equal(t, p.LayerOf(o.Path), o.Layer, o.Path)
	}
	assert.Equal(t, []string{"a: 1 → 2", "b: 1 taken off", "c: 3 laid"},
		LayerChanges([]inventory.Laid{{Name: "a", Version: "1"}, {Name: "b", Version: "1"}, {Name: "d", Version: "1"}},
			[]inventory.Laid{{Name: "a", Version: "2"}, {Name: "c", Version: "3"}, {Name: "d", Version: "1"}}))
}

// A consent is a short text whose one setting says no and which speaks of
// consent; settings files, and what is agreed already, are none.
func TestConsentsAreToldFromOtherFiles(t *testing.T) {
	for name, c := range map[string]struct {
		at, text string
		line     int
		agreed   string
	}{
		"plain": {"consent.txt", "# Read the rules.\nagreed=false\n", 2, "# Read the rules.\nagreed=true\n"},
		"windows lines": {"rules.txt", "The rules.\r\nI accept the terms: no\r\n", 2,
			"The rules.\r\nI accept the terms: yes\r\n"},
		"number":           {"licence.conf", "accepted = 0", 1, "accepted = 1"},
		"by its name":      {"terms.properties", "answer=No\n", 1, "answer=Yes\n"},
		"agreed already":   {"consent.txt", "agreed=true\n", 0, ""},
		"settings":         {"terms.conf", "agreed=false\nport=27750\n", 0, ""},
		"something else":   {"night.conf", "long=false\n", 0, ""},
		"in a comment":     {"consent.txt", "# agreed=false\n", 0, ""},
		"no text":          {"consent.txt", "agreed=false\x00", 0, ""},
		"not UTF-8":        {"consent.txt", "agreed=false \xff", 0, ""},
		"long":             {"consent.txt", "agreed=false\n" + strings.Repeat("and so on\n", 4000), 0, ""},
		"word for a value": {"consent.txt", "agreed=perhaps\n", 0, ""},
	} {
		got, ok := ReadConsent(c.at, []byte(c.text))
		assert.Equal(t, c.line > 0, ok, name)
		if c.line > 0 {
			assert.Equal(t, c.line, got.Line, name)
			assert.Equal(t, c.agreed, string(got.Agreed), name)
		}
	}
}
