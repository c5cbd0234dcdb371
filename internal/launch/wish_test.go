package launch

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// scriptIn lays a script out beside what it runs.
func scriptIn(t testing.TB, name, text string, files map[string]string) *Script {
	dir := filepath.Join(t.TempDir(), "lower fen") // a path with a blank
	for at, text := range files {
		full := filepath.Join(dir, at)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o755))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "world"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755))
	return &Script{Install: dir, Name: name, Env: []string{"PATH=" + dir + "/rt"}}
}

// A wish is granted where the script has what it changes, and every other byte stays.
func TestAWishIsGrantedWhereTheScriptHasIt(t *testing.T) {
	with := map[string]string{"rt/java": "", "rt/node": "", "m.jar": "", "app.js": "", "pond": "\x7fELF",
		"args.txt": "# heap\n-Xms1G\n-Xmx4G\n"}
	big, most := Wish{First: "2G", Most: "20G"}, Wish{Most: "20G"}
	for name, c := range map[string]struct {
		file    string
		wish    Wish
		script  string
		want    string
		lacking string
	}{
		"on its line": {"o.sh", big, "#!/bin/sh\njava -Xms1G  -Xmx4G -jar m.jar # four\n",
			"#!/bin/sh\njava -Xms2G  -Xmx20G -jar m.jar # four\n", ""},
		"in quotes, with exec": {"o.sh", most, "exec java \"-Xmx4G\" -jar 'm.jar' \"$@\"\n",
			"exec java \"-Xmx20G\" -jar 'm.jar' \"$@\"\n", ""},
		"added where it has none": {"o.sh", most, "nohup java -jar m.jar >log 2>&1 &\n",
			"nohup java -Xmx20G -jar m.jar >log 2>&1 &\n", ""},
		"a variable of flags": {"o.sh", big, "OPTS=\"-server -Xms1G -Xmx4G\"\n\njava $OPTS -jar m.jar\n",
			"OPTS=\"-server -Xms2G -Xmx20G\"\n\njava $OPTS -jar m.jar\n", ""},
		"a variable of the size": {"o.sh", most, "MEM=4G\njava -Xmx${MEM} -jar m.jar\n",
			"MEM=20G\njava -Xmx${MEM} -jar m.jar\n", ""},
		"one without its unit": {"o.sh", most, "MEM=4 # GiB\njava -Xmx${MEM}G -jar m.jar\n",
			"MEM=20 # GiB\njava -Xmx${MEM}G -jar m.jar\n", ""},
		"a default": {"o.sh", most, "java -Xmx${MEM:-4G} -jar m.jar\n", "java -Xmx${MEM:-20G} -jar m.jar\n", ""},
		"a variable that means more": {"o.sh", Wish{Most: "8G"}, "MEM=4G\njava -Xms$MEM -Xmx$MEM -jar m.jar\n",
			"MEM=4G\njava -Xms$MEM -Xmx8G -jar m.jar\n", ""},
		"the last one counts": {"o.sh", most, "java -Xmx1G -Xmx4G -jar m.jar\n", "java -Xmx1G -Xmx20G -jar m.jar\n",
			""},
		"another form": {"o.sh", most, "java -XX:MaxHeapSize=4G -jar m.jar\n", "java -XX:MaxHeapSize=20G -jar m.jar\n",
			""},
		"an argument file": {"o.sh", most, "java @args.txt -jar m.jar\n", "java @args.txt -jar m.jar\n", ""},
		"the environment": {"o.sh", most, "export JAVA_TOOL_OPTIONS=\"-Xmx4G\"\njava -jar m.jar\n",
			"export JAVA_TOOL_OPTIONS=\"-Xmx20G\"\njava -jar m.jar\n", ""},
		"another runtime": {"o.sh", most, "node --max-old-space-size=4096 app.js\n",
			"node --max-old-space-size=20480 app.js\n", ""},
		"one that has it": {"o.sh", most, "java -Xmx20480m -jar m.jar\n", "java -Xmx20480m -jar m.jar\n", ""},
		"no larger at first than in the end": {"o.sh", Wish{Most: "2G"}, "java -Xms4G -Xmx4G -jar m.jar\n",
			"java -Xms2G -Xmx2G -jar m.jar\n", ""},
		"in a text that a shell is given": {"o.sh", most, "nohup bash -lc \"cd world && java -Xmx4G -jar m.jar | tee log\"\n",
			"nohup bash -lc \"cd world && java -Xmx4G -jar m.jar | tee log\"\n", "-Xmx4G → -Xmx20G"},
		"each branch": {"o.sh", most, "if [ -t 0 ]; then\n  java -Xmx1G -jar m.jar\nelse\n  java -Xmx2G -jar m.jar\nfi\n",
			"if [ -t 0 ]; then\n  java -Xmx20G -jar m.jar\nelse\n  java -Xmx20G -jar m.jar\nfi\n", ""},
		"no look at a version": {"o.sh", most, "java -version\njava -jar m.jar\n", "java -version\njava -Xmx20G -jar m.jar\n",
			""},
		"Windows line ends": {"o.sh", most, "#!/bin/sh\r\n# four\r\njava -Xmx4G -jar m.jar\r\n",
			"#!/bin/sh\r\n# four\r\njava -Xmx20G -jar m.jar\r\n", ""},
		"a code page": {"o.bat", most, "@echo off\r\nrem f\x81r Sch\x94ne\r\nset MEM=4G\r\njava -Xmx%MEM% -jar m.jar\r\npause\r\n",
			"@echo off\r\nrem f\x81r Sch\x94ne\r\nset MEM=20G\r\njava -Xmx%MEM% -jar m.jar\r\npause\r\n", ""},
		"batch, added": {"o.bat", most, "start \"pond\" /b java -jar m.jar > log.txt\r\n",
			"start \"pond\" /b java -Xmx20G -jar m.jar > log.txt\r\n", ""},

		"a flag": {"o.sh", Wish{Flags: []string{"-XX:+UseG1GC", "-Dfile.encoding=UTF-8"}},
			"java -XX:-UseG1GC -jar m.jar\n", "java -Dfile.encoding=UTF-8 -XX:+UseG1GC -jar m.jar\n", ""},
		"a flag that must go": {"o.sh", Wish{Without: []string{"-d64", "-XX:Old*"}},
			"O='-XX:OldA=1 -d64'\njava $O -XX:OldB -Xmx1G -jar m.jar\n", "O=''\njava $O -Xmx1G -jar m.jar\n", ""},
		"arguments of the server": {"o.sh", Wish{With: []string{"--quiet", "--port 27750"}},
			"java -jar m.jar --port 1 \"$@\"\n", "java -jar m.jar --quiet --port 27750 \"$@\"\n", ""},
		"of a native one": {"o.sh", Wish{With: []string{"--quiet"}, Most: "2G"}, "./pond\n", "./pond --quiet\n", ""},
		"in the foreground": {"o.sh", Wish{NoBackground: true}, "java -jar m.jar &\necho up\n", "java -jar m.jar\necho up\n",
			""},
		"in a folder": {"o.sh", Wish{Folder: "world"}, "  java -jar ../m.jar\n",
			"  cd \"$(dirname \"$0\")\"/world || exit 1\n  java -jar ../m.jar\n", "in the folder world"},
		"no pause": {"o.bat", Wish{NoWait: true}, "java -jar m.jar\r\nPAUSE\r\n", "java -jar m.jar\r\n", ""},
		"no key":   {"o.sh", Wish{NoWait: true}, "java -jar m.jar\nread -p key _\n", "java -jar m.jar\n", ""},
		"one that can't be told": {"o.sh", most, "RUN='java -jar m.jar'\n$RUN\n", "RUN='java -jar m.jar'\n$RUN\n",
			"with -Xmx20G"},
	} {
		t.Run(name, func(t *testing.T) {
			s := scriptIn(t, c.file, c.script, with)
			edits, lacking, err := s.Grant(c.wish)
			require.NoError(t, err)
			got := []byte(c.script)
			if b, edited := s.Texts()[c.file]; edited {
				got = b
			}
			if name == "in a folder" { // the jar's path counts from there: it would be another one
				assert.Contains(t, strings.Join(lacking, "\n"), c.lacking)
				return
			}
			assert.Equal(t, c.want, string(got))
			if name == "an argument file" {
				assert.Equal(t, "# heap\n-Xms1G\n-Xmx20G\n", string(s.Texts()["args.txt"]))
			}
			if c.lacking == "" {
				assert.Empty(t, lacking)
			} else {
				assert.Contains(t, strings.Join(lacking, "\n"), c.lacking)
			}
			assert.Equal(t, len(s.Texts()) == 0, len(edits) == 0)
			again := &Script{Install: s.Install, Name: s.Name, Env: s.Env, Under: func(at string) ([]byte, bool) {
				b, ok := s.Texts()[at]
				return b, ok
			}}
			edits, _, err = again.Grant(c.wish)
			require.NoError(t, err)
			assert.Empty(t, edits, "what is granted is not wished again")
		})
	}
}

// The artifact's new name comes where the script has the old one.
func TestAScriptFollowsTheArtifactsNewName(t *testing.T) {
	with := map[string]string{"rt/java": "", "pond-3.4.1.jar": "", "bin/pond-3.4.1": "\x7fELF"}
	for script, want := range map[string]string{
		"java -Xmx1G -jar pond-3.4.1.jar nogui\n":                  "java -Xmx1G -jar pond-3.5.0.jar nogui\n",
		"JAR=pond-3.4.1.jar\ntest -f \"$JAR\" && java -jar $JAR\n": "JAR=pond-3.5.0.jar\ntest -f \"$JAR\" && java -jar $JAR\n",
		"V=3.4.1\njava -jar \"pond-$V.jar\"\n":                     "V=3.5.0\njava -jar \"pond-$V.jar\"\n",
		"D=$(dirname \"$0\")\njava -jar \"$D/pond-3.4.1.jar\"\n":   "D=$(dirname \"$0\")\njava -jar \"$D/pond-3.5.0.jar\"\n",
	} {
		s := scriptIn(t, "o.sh", script, with)
		edits, lacking, err := s.Artifact("pond-3.4.1.jar", "pond-3.5.0.jar")
		require.NoError(t, err)
		assert.Empty(t, lacking, script)
		require.Len(t, edits, 1, script)
		assert.Equal(t, want, string(s.Texts()["o.sh"]))
	}
	s := scriptIn(t, "o.sh", "exec ./bin/pond-3.4.1 --port 1\n", with)
	_, lacking, err := s.Artifact("bin/pond-3.4.1", "bin/pond-3.5.0")
	require.NoError(t, err)
	assert.Empty(t, lacking)
	assert.Equal(t, "exec ./bin/pond-3.5.0 --port 1\n", string(s.Texts()["o.sh"]))
}

// The makers' new script keeps what the operator changed; what both changed is told.
func TestTheMakersNewScriptKeepsTheOperatorsWords(t *testing.T) {
	for name, c := range map[string]struct{ file, old, now, mine, want, conflict string }{
		"another statement": {"o.sh", "#!/bin/sh\njava -Xmx1G -jar m.jar\n", "#!/bin/sh\nulimit -n 4096\njava -Xmx1G -jar m.jar\n",
			"#!/bin/sh\njava -Xmx20G -jar m.jar &\n", "#!/bin/sh\nulimit -n 4096\njava -Xmx20G -jar m.jar &\n", ""},
		"another word": {"o.sh", "java -Xmx1G -jar m-3.4.jar\n", "java -Xmx1G -XX:+UseG1GC -jar m-3.5.jar nogui\n",
			"java -Xmx20G -jar m-3.4.jar\n", "java -Xmx20G -XX:+UseG1GC -jar m-3.5.jar nogui\n", ""},
		"the same flag": {"o.sh", "java -Xmx1G -jar m.jar\n", "java -Xmx2G -jar m.jar\n", "java -Xmx20G -jar m.jar\n",
			"java -Xmx20G -jar m.jar\n", ""},
		"in one variable": {"o.sh", "OPTS=\"-Xmx1G -server\"\n", "OPTS=\"-Xmx1G -server -XX:+New\"\n",
			"OPTS=\"-Xmx8G -server\"\n", "OPTS=\"-Xmx8G -server -XX:+New\"\n", ""},
		"a command of several lines": {"o.sh", "java \\\n  -Xmx1G \\\n  -jar m.jar\n", "java \\\n  -Xmx1G \\\n  -jar n.jar\n",
			"java \\\n  -Xmx9G \\\n  -jar m.jar\n", "java \\\n  -Xmx9G \\\n  -jar n.jar\n", ""},
		"batch": {"o.bat", "@echo off\r\njava -jar m.jar\r\npause\r\n", "@echo off\r\ntitle pond\r\njava -jar m.jar\r\npause\r\n",
			"@echo off\r\njava -Xmx4G -jar m.jar\r\n", "@echo off\r\ntitle pond\r\njava -Xmx4G -jar m.jar\r\n", ""},
		"both say another file": {"o.sh", "java -jar m.jar\n", "java -jar n.jar\n", "java -jar mine.jar\n", "",
			"java -jar mine.jar"},
		"each put another word there": {"o.sh", "FISH=4\nsh server.sh\n", "FISH=4\nexec sh ./server.sh\n",
			"FISH=40\nnice sh server.sh # ours\n", "", "nice sh server.sh # ours"},
		"gone and changed": {"o.sh", "a\njava -jar m.jar\n", "a\n", "a\njava -jar mine.jar\n", "", "java -jar mine.jar"},
	} {
		t.Run(name, func(t *testing.T) {
			m := Merge(c.file, []byte(c.old), []byte(c.now), []byte(c.mine))
			if c.conflict != "" {
				require.NotEmpty(t, m.Conflicts)
				assert.Equal(t, c.conflict, m.Conflicts[0].Mine)
				return
			}
			assert.Empty(t, m.Conflicts)
			assert.Equal(t, c.want, string(m.Text))
			assert.Equal(t, name == "the same flag", len(m.Both) > 0)
		})
	}
}

// FuzzMerge: a script merged with itself is itself; with what one side alone changed, that.
func FuzzMerge(f *testing.F) {
	f.Add("#!/bin/sh\njava -jar m.jar\n", "java -Xmx1G \\\n -jar m.jar\n")
	f.Add("@echo off\r\nset \"A=b c\"\r\n", "x='y\nz'\n")
	f.Fuzz(func(t *testing.T, a, b string) {
		for _, name := range []string{"o.sh", "o.bat"} {
			for _, c := range [][4]string{{a, a, a, a}, {a, b, a, b}, {a, a, b, b}, {a, b, b, b}} {
				m := Merge(name, []byte(c[0]), []byte(c[1]), []byte(c[2]))
				if len(m.Conflicts) == 0 && !bytes.Equal(m.Text, []byte(c[3])) {
					t.Fatalf("%q, %q, %q became %q", c[0], c[1], c[2], m.Text)
				}
			}
			if joined := strings.Join(statements(name, []byte(a)), ""); joined != a {
				t.Fatalf("statements of %q are %q", a, joined)
			}
			for depth := range 3 {
				if joined := strings.Join(words(a, depth), ""); joined != a {
					t.Fatalf("words of %q are %q", a, joined)
				}
			}
		}
	})
}

// FuzzGrant: whatever a script says, a wish changes what it runs in nothing but what is wished.
func FuzzGrant(f *testing.F) {
	f.Add("M=4G\njava -Xmx$M -jar m.jar &\n", "20G")
	f.Add("if a; then java @args.txt -cp m.jar x.Y; fi\n", "1G")
	f.Fuzz(func(t *testing.T, text, size string) {
		if HeapBytes("-Xmx"+size) == 0 {
			return
		}
		for _, name := range []string{"o.sh", "o.bat"} {
			s := scriptIn(t, name, text, map[string]string{"rt/java": "", "args.txt": "-Xmx1G\n"})
			before, err := s.Commands()
			if err != nil {
				continue
			}
			if _, _, err := s.Grant(Wish{Most: size}); err != nil {
				t.Fatal(err)
			}
			after, err := s.Commands()
			if err != nil || len(after) != len(before) {
				t.Fatalf("%q became %q: %v", text, s.Texts()[name], err)
			}
		}
	})
}
