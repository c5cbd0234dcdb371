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
		edited(script().Artifact("fen.jar", "lib/fen-5.jar"))
		edited(script().Artifact("fenhold", "fenhold10"))
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

// What a script of a line or two runs, for each thing that a shell can say.
func TestLinesOfManyManners(t *testing.T) {
	b, err := os.ReadFile("testdata/lines.txt")
	require.NoError(t, err)
	dir := filepath.Join(t.TempDir(), "pond")
	for at, text := range map[string]string{"run/p.jar": "PK", "env.sh": "MEM=3G\n", "mem.txt": "5G\n", "empty.txt": "", "p.jar": "PK", "pond": "\x7fELF", "pond.exe": "MZ",
		"inner.sh": "#!/bin/sh\njava -Xmx$1 -jar p.jar\n", "inner.bat": "java -Xmx%1 -jar p.jar\r\n", "inner.cmd": "java -Xmx%1 -jar p.jar\r\n", "srv.py": "1", "srv.pl": "1", "app.js": "1",
		"Pond.dll": "MZ", "Pond.exe": "MZ", "args.txt": "-Xmx6G\n", "lib/x": "", "rt/java": "\x7fELF"} {
		full := filepath.Join(dir, filepath.FromSlash(at))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		mode := os.FileMode(0o755)
		if strings.HasSuffix(at, ".jar") || strings.HasSuffix(at, ".txt") {
			mode = 0o644
		}
		require.NoError(t, os.WriteFile(full, []byte(text), mode))
	}
	got, name := "", ""
	for _, line := range strings.Split(strings.TrimSuffix(string(b), "\n"), "\n") {
		if kind, is := strings.CutPrefix(line, "===== "); is {
			name = "o." + kind
			continue
		}
		text := strings.NewReplacer(`\\n`, "\\\n", `\\`, `\`, `\n`, "\n", `\t`, "\t").Replace(line) + "\n"
		if name == "o.bat" {
			text = strings.ReplaceAll(text, "\n", "\r\n")
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755))
		list, err := ReadWith(dir, name, []string{"day"}, []string{"PATH=" + dir + "/rt", "HOME=/home/pond"}, nil)
		got += line + "\n"
		if err != nil {
			got += "  " + err.Error() + "\n"
		}
		for _, c := range list {
			got += told(dir, c)
		}
		script := &Script{Install: dir, Name: name, Args: []string{"day"}, Env: []string{"PATH=" + dir + "/rt", "HOME=/home/pond"}}
		edits, lacking, err := script.Grant(Wish{Most: "9G", With: []string{"--tide 1"}, NoWait: true})
		if err == nil && len(list) > 0 {
			got += fmt.Sprintf("  → %q\n", script.Texts())
		}
		for _, l := range lacking {
			got += "  not done: " + l + "\n"
		}
		require.Equal(t, len(edits) == 0, len(script.Texts()) == 0)
	}
	got = strings.ReplaceAll(got, dir, "DIR")
	if os.Getenv("FRESHKEEL_WRITE_EXPECTED") != "" {
		require.NoError(t, os.WriteFile("testdata/lines.expected", []byte(got), 0o644))
	}
	expected, err := os.ReadFile("testdata/lines.expected")
	require.NoError(t, err)
	require.Equal(t, string(expected), got)
}

// What a system saw start is the server, or a tool of the script's.
func TestWhatWasStarted(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "args.txt"), []byte("-Xmx3G -jar fen.jar"), 0o644))
	for _, c := range []struct {
		program string
		argv    []string
		env     string
		serves  bool
		jar     string
		script  string
		flags   []string
	}{
		{"/usr/bin/java", []string{"java", "-Xmx1G", "-jar", "fen.jar", "-jar", "x"}, "", true, "fen.jar", "", []string{"-Xmx1G"}},
		{"/usr/bin/java", []string{"java", "-jar", dir + "/lib/fen.jar"}, "JAVA_TOOL_OPTIONS=-Xmx2G", true, "lib/fen.jar", "", []string{"-Xmx2G"}},
		{"/usr/bin/java", []string{"java", "-jar", "/opt/fen.jar"}, "JDK_JAVA_OPTIONS=-Xmx2G", true, "/opt/fen.jar", "", []string{"-Xmx2G"}},
		{"/usr/bin/java", []string{"java", "@args.txt"}, "", true, "fen.jar", "", []string{"-Xmx3G"}},
		{"/usr/bin/java", []string{"java", "-version"}, "", false, "", "", []string{"-version"}},
		{"/usr/bin/java", []string{"java", "-cp", "lib", "fen.Main"}, "", true, "", "", []string{"-cp", "lib"}},
		{"/usr/bin/java-17", []string{"java", "-jar", "fen.jar"}, "", true, "fen.jar", "", nil},
		{dir + "/fenhold", []string{"./fenhold", "-x"}, "", true, "", "", nil},
		{dir + "/fenhold", []string{"./fenhold"}, "", true, "", "", nil},
		{dir + "/fenhold", []string{"./fenhold", "--version"}, "", false, "", "", nil},
		{dir + "/fenhold", []string{"./fenhold", "-v", "--help"}, "", false, "", "", nil},
		{dir + "/fenhold", []string{"./fenhold", "-v", "--world"}, "", true, "", "", nil},
		{dir + "/sh", []string{"sh", "x"}, "", true, "", "", nil},
		{"/bin/sh", []string{"sh", "fen.sh"}, "", false, "", "", nil},
		{"/bin/busybox", []string{"cat", "fen.sh"}, "", false, "", "", nil},
		{"/usr/bin/node", []string{"node", "app.js"}, "", true, "", "app.js", nil},
		{"/usr/bin/python3", []string{"python3", "-u", dir + "/srv.py"}, "", true, "", "srv.py", nil},
		{"/usr/bin/uname", []string{"uname"}, "", false, "", "", nil},
		{"/usr/bin/uname", nil, "", false, "", "", nil},
	} {
		got, serves := Started(dir, c.program, dir, c.argv, []string{c.env})
		require.Equal(t, c.serves, serves, "%v", c)
		if serves {
			require.Equal(t, []any{c.jar, c.script, c.flags}, []any{got.Jar, got.Script, got.Flags}, "%v", c)
			require.Equal(t, c.argv[1:], got.Args)
		}
	}
	got, _ := Started(dir, "/usr/bin/java-17", dir, []string{"jre", "-jar", "x.jar"}, nil)
	require.Equal(t, "/usr/bin/java-17", got.Program)
}

// A makers' script and an operator's become one by their statements and words, or are a conflict.
func TestScriptsBecomeOne(t *testing.T) {
	for _, c := range []struct{ old, now, mine, merged, conflict string }{
		{"a\nb\nc\n", "a\nb\nc\nd\n", "a\nx\nc\n", "a\nx\nc\nd\n", ""},
		{"a\nb\nc\n", "a\nc\n", "a\nb\nc\nd\n", "a\nc\nd\n", ""},
		{"a\nb\nc\n", "a\ny\nc\n", "a\nx\nc\n", "", "2: b, y, x"},
		{"a\nb\n", "a\nb\n", "b\na\n", "b\na\n", ""},
		{"a\n", "b\n", "b\n", "b\n", ""},
		{"a\n", "b\n", "c\n", "", "1: a, b, c"},
		{"", "a\n", "a\n", "a\n", ""},
		{"java -Xmx1G -jar a.jar\n", "java -Xmx1G -jar b.jar\n", "java -Xmx2G -jar a.jar\n", "java -Xmx2G -jar b.jar\n", ""},
		{"java -Xmx1G -jar a.jar\n", "java -Xmx3G -jar a.jar\n", "java -Xmx2G -jar a.jar\n", "java -Xmx2G -jar a.jar\n", ""},
		{"java -jar a.jar\n", "java -Xmx3G -jar a.jar\n", "java -Xmx2G -jar a.jar\n", "java -Xmx2G -jar a.jar\n", ""},
		{"java -jar a.jar\n", "java -Da=1 -jar a.jar\n", "java -Db=2 -jar a.jar\n", "java -Da=1 -Db=2 -jar a.jar\n", ""},
		{"java -jar a.jar x\n", "java -jar a.jar y\n", "java -jar a.jar z\n", "", "1: java -jar a.jar x, java -jar a.jar y, java -jar a.jar z"},
		{"java -Da=1 -Db=2 -jar a.jar\n", "java -Da=1 -jar a.jar\n", "java -Db=2 -jar a.jar\n", "",
			"1: java -Da=1 -Db=2 -jar a.jar, java -Da=1 -jar a.jar, java -Db=2 -jar a.jar"},
		{"java -Da=1 -jar a.jar\n", "java -Da=\"x y\" -jar a.jar\n", "java -Da=1 -jar 'a.jar' &\n", "java -Da=\"x y\" -jar 'a.jar' &\n", ""},
		{"M=1G\nF=\"-Xmx$M -Da\"\njava $F -jar a.jar\n", "M=1G\nF=\"-Xmx$M -Da -Db\"\njava $F -jar a.jar\n", "M=2G\nF=\"-Xmx$M -Da\"\njava $F -jar a.jar\n", "M=2G\nF=\"-Xmx$M -Da -Db\"\njava $F -jar a.jar\n", ""},
		{"if x; then\n  a\nfi\n", "if x; then\n  a\n  b\nfi\n", "if x; then\n  c\n  a\nfi\n", "if x; then\n  c\n  a\n  b\nfi\n", ""},
		{"# one\na\n", "# two\na\n", "# one\nb\n", "# two\nb\n", ""},
		{"a\n", "a  \n", "a\nb\n", "a  \nb\n", ""},
	} {
		m := Merge("o.sh", []byte(c.old), []byte(c.now), []byte(c.mine))
		if c.conflict != "" {
			require.Len(t, m.Conflicts, 1, "%q", c)
			one := m.Conflicts[0]
			require.Equal(t, c.conflict, fmt.Sprintf("%d: %s, %s, %s", one.Line, one.Old, one.Now, one.Mine))
			continue
		}
		require.Empty(t, m.Conflicts, "%q", c)
		require.Equal(t, c.merged, string(m.Text), "%q", c)
	}
}
