package launch

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// told is a command with all that is known of it.
func told(dir string, c Command) string {
	out := fmt.Sprintf("  %s:%d %q runs %q %q in %s", c.File, c.Line, c.Text, c.Program, c.Args, filepath.ToSlash(c.Dir))
	add := func(is bool, format string, args ...any) {
		if is {
			out += "; " + fmt.Sprintf(format, args...)
		}
	}
	first, most := c.Heap()
	add(c.Path != "", "path %s", c.Path)
	add(c.Jar != "", "jar %s", c.Jar)
	add(c.Script != "", "script %s", c.Script)
	add(first+most > 0, "heap %d to %d MiB", first>>20, most>>20)
	add(len(c.Flags) > 0, "flags %q, %d of the words", c.Flags, c.After)
	add(len(c.Libraries) > 0, "libraries %q", c.Libraries)
	add(c.Background, "behind the scenes")
	add(c.Given, "given to a shell")
	add(c.Serves(), "serves")
	add(c.Screen != "", "in %s", c.Screen)
	add(c.Loop != nil, "looped by %v", c.Loop)
	add(c.Waits != nil, "waits at %v", c.Waits)
	add(c.Stays != nil, "stays at %v", c.Stays)
	add(c.By != nil, "run by another")
	add(len(c.Unknown) > 0, "unknown %q, written %q", c.Unknown, c.Written)
	add(len(c.Runs(dir)) > 0, "needs %q", c.Runs(dir))
	return strings.ReplaceAll(out, dir, "DIR") + "\n"
}

// wishes are what profiles ask of scripts.
var wishes = []struct {
	name string
	Wish
}{
	{"memory", Wish{First: "2G", Most: "9G"}}, {"a flag", Wish{Flags: []string{"-Dtide=high"}}}, {"an argument", Wish{With: []string{"--tide", "high"}}},
	{"not nogui, nor a world", Wish{Without: []string{"nogui", "--world*"}}}, {"its folder", Wish{Folder: "."}}, {"another folder", Wish{Folder: "run"}},
	{"in front, and no key", Wish{NoBackground: true, NoWait: true}},
}

// Each script is read, each wish granted in it, its jar given another name, and its makers' newer one merged with what an operator
// changed. All of it is held against what was once looked through by eye: FRESHKEEL_WRITE_EXPECTED=1 writes it anew.
func TestScriptsOfManyManners(t *testing.T) {
	b, err := os.ReadFile("testdata/scripts.txt")
	require.NoError(t, err)
	dir := filepath.Join(t.TempDir(), "the fen")
	texts, names := map[string]string{"fen.jar": "PK", "fenhold": "\x7fELF", "fenhold.exe": "MZ", "app.js": "1", "serve.py": "1", "run/x": "", "world/x": "",
		"lib/a.jar": "PK", "lib/linux/x.so": "", "rt/java": "\x7fELF", "rt/node": "\x7fELF", "rt/python3": "\x7fELF", "set.env": "FEN_WORLD=moss\n",
		"user.args": "-Xmx6G\n-Dx=1 # one\n", "libs/server.args": "-Xms1G\n-jar fen.jar\n"}, []string{}
	for _, part := range strings.Split(string(b), "===== ")[1:] {
		name, text, _ := strings.Cut(part, "\n")
		if strings.HasSuffix(name, ".bat") || strings.HasSuffix(name, ".cmd") {
			text = strings.ReplaceAll(text, "\n", "\r\n")
		}
		texts[name], names = text, append(names, name)
	}
	for name, text := range texts {
		at := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o755))
	}
	got := ""
	edited := func(edits []Edit, lacking []string, err error) {
		for _, e := range edits {
			got += fmt.Sprintf("  %s:%d %q → %q: %s\n", e.File, e.Line, e.Old, e.New, e.Why)
		}
		for _, l := range lacking {
			got += "  not done: " + l + "\n"
		}
		if err != nil {
			got += "  " + err.Error() + "\n"
		}
		got = strings.ReplaceAll(got, dir, "DIR")
	}
	for _, name := range names {
		got += "===== " + name + "\n"
		script := func() *Script {
			return &Script{Install: dir, Name: name, Env: []string{"PATH=" + dir + "/rt"}, Args: []string{"moss"}}
		}
		list, err := script().Commands()
		edited(nil, nil, err)
		for _, c := range list {
			got += told(dir, c)
		}
		for _, k := range KillsIn(name, []byte(texts[name])) {
			got += fmt.Sprintf("  kills %s in line %d\n", k.Program, k.Line)
		}
		for _, w := range wishes {
			got += w.name + "\n"
			s := script()
			edited(s.Grant(w.Wish))
			after, err := s.Commands()
			require.NoError(t, err)
			for i, c := range after {
				if i < len(list) && len(after) == len(list) && c.Serves() {
					got += fmt.Sprintf("  has it: %v, and nothing else: %v\n", w.Has(s, c), w.Alone(s, list[i], c))
				}
			}
		}
		got += "another name\n"
		edited(script().Artifact("fen.jar", "fen-5.jar"))
		s := script()
		if e, ok, err := s.Program(max(len(list)-1, 0), "/opt/rt 21/java", "newer"); ok || err != nil {
			edited([]Edit{e}, nil, err)
		}
		newer := strings.NewReplacer("fen.jar", "fen-5.jar", "4G", "5G", "echo", "echo -e", "wait", "wait -n").Replace(texts[name])
		mine := strings.NewReplacer("nogui", "--quiet nogui", "4G", "12G", "#!/bin/sh\n", "#!/bin/sh\n# ours\n", "--port", "--host x --port").Replace(texts[name])
		m := Merge(name, []byte(texts[name]), []byte(newer), []byte(mine))
		got += "merged\n"
		for _, l := range strings.Split(string(m.Text), "\n") {
			if !slices.Contains(strings.Split(newer, "\n"), l) {
				got += fmt.Sprintf("  + %q\n", l)
			}
		}
		for _, c := range m.Both {
			got += fmt.Sprintf("  both in line %d: %q, %q and %q\n", c.Line, c.Old, c.Now, c.Mine)
		}
		for _, c := range m.Conflicts {
			got += fmt.Sprintf("  conflict in line %d: %q, %q and %q\n", c.Line, c.Old, c.Now, c.Mine)
		}
	}
	if os.Getenv("FRESHKEEL_WRITE_EXPECTED") != "" {
		require.NoError(t, os.WriteFile("testdata/scripts.expected", []byte(got), 0o644))
	}
	expected, err := os.ReadFile("testdata/scripts.expected")
	require.NoError(t, err)
	require.Equal(t, string(expected), got)
}
