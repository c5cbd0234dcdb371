package launch

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestScriptTellsWhatItWouldReallyRun(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string, mode os.FileMode) {
		full := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), mode))
	}
	old, young := filepath.Join(dir, "rt/17/bin"), filepath.Join(dir, "rt/21/bin")
	put("rt/17/bin/java", "", 0o755)
	put("rt/21/bin/java", "", 0o755)
	put("srv/snail", "\x7fELF", 0o755)
	put("srv/inner.sh", "#!/bin/sh\njava -jar inner.jar\n", 0o755)
	for name, c := range map[string]struct {
		script, path, jar string
		line              int
		background        bool
	}{
		"plain": {"java -Xmx1G -jar m.jar nogui\n", old + "/java", "m.jar", 1, false},
		"variables and exec": {"#!/bin/sh\nJ=" + young + "\nMEM='-Xmx1G -Xms1G'\nexec \"$J/java\" $MEM -jar m.jar\n",
			young + "/java", "m.jar", 4, false},
		"exported path": {"export PATH=" + young + ":$PATH\njava -jar m.jar &\n", young + "/java", "m.jar", 2,
			true},
		"default value": {"JAVA=${JAVA:-java}\n$JAVA -jar \"${JAR:-m.jar}\"\n", old + "/java", "m.jar", 2, false},
		"own folder": {"cd \"$(dirname \"$0\")\" || exit 1\nnohup nice -n 5 java -jar m.jar >log 2>&1 &\n",
			old + "/java", "m.jar", 2, true},
		"cd first": {"cd bin && java -jar m.jar\n", old + "/java", "bin/m.jar", 1, false},
		"restart loop": {"while true; do\n  java -jar m.jar\n  sleep 5\ndone\n", old + "/java", "m.jar", 2,
			false},
		"prefixed assignment": {"PATH=" + young + " java -jar m.jar\n", young + "/java", "m.jar", 1, false},
		"another script":      {"./inner.sh\n", old + "/java", "inner.jar", 2, false},
		"sh of a script":      {"sh inner.sh\n", old + "/java", "inner.jar", 2, false},
		"native":              {"./snail --port 1\n", filepath.Join(dir, "srv/snail"), "", 1, false},
		"native, not there":   {"mkdir -p x\n./slug --port 1\n", "", "", 2, false},
		"of another command":  {"java -jar m.jar <(echo a) > >(tee log)\n", old + "/java", "m.jar", 1, false},
		"windows line ends":   {"#!/bin/sh\r\njava -jar m.jar\r\n", old + "/java", "m.jar", 2, false},
	} {
		t.Run(name, func(t *testing.T) {
			put("srv/open.sh", c.script, 0o755)
			got, err := Read(filepath.Join(dir, "srv"), "open.sh", []string{"PATH=" + old})
			require.NoError(t, err)
			require.Len(t, got, 1)
			assert.Equal(t, c.path, got[0].Path)
			assert.Equal(t, c.jar, got[0].Jar)
			assert.Equal(t, c.line, got[0].Line)
			assert.Equal(t, c.background, got[0].Background)
		})
	}
}

// A batch script is read as its lines say, and its word changed alone.
func TestBatchScriptTellsWhatItWouldRunAndIsEdited(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755))
	}
	put("rt/17/bin/java.exe", "")
	put("srv/bin/pond.exe", "MZ")
	put("srv/inner.bat", "java -jar inner.jar\r\n")
	java := filepath.Join(dir, "rt/17/bin/java.exe")
	for name, c := range map[string]struct{ script, program, path, jar, edited string }{
		"variable": {"@echo off\r\nset JAVA=..\\rt\\17\\bin\\java.exe\r\n\"%JAVA%\" -Xmx1G -jar m.jar\r\npause\r\n",
			`..\rt\17\bin\java.exe`, java, "m.jar",
			"@echo off\r\nset JAVA=..\\rt\\17\\bin\\java.exe\r\nNEW -Xmx1G -jar m.jar\r\npause\r\n"},
		"own folder": {"cd /d %~dp0bin\r\n..\\..\\rt\\17\\bin\\java -jar ..\\m.jar > log.txt\r\n",
			`..\..\rt\17\bin\java`, java, "m.jar", "cd /d %~dp0bin\r\nNEW -jar ..\\m.jar > log.txt\r\n"},
		"path": {"set \"PATH=..\\rt\\17\\bin;%PATH%\"\r\n  start \"the pond\" /b java -jar \"my pond.jar\"\r\n", "java",
			java, "my pond.jar", "set \"PATH=..\\rt\\17\\bin;%PATH%\"\r\n  start \"the pond\" /b NEW -jar \"my pond.jar\"\r\n"},
		"java home": {"SET JAVA_HOME=..\\rt\\17\r\n%JAVA_HOME%\\bin\\java.exe -jar m.jar\r\n",
			`..\rt\17\bin\java.exe`, java, "m.jar", "SET JAVA_HOME=..\\rt\\17\r\nNEW -jar m.jar\r\n"},
		"native": {":: the pond\r\nREM bin\\slug.exe\r\nif exist x del x\r\nbin\\pond.exe -n 3\r\n",
			`bin\pond.exe`, filepath.Join(dir, "srv/bin/pond.exe"), "",
			":: the pond\r\nREM bin\\slug.exe\r\nif exist x del x\r\nNEW -n 3\r\n"},
		"another one": {"call inner.bat\r\n", "java", "", "inner.jar", ""},
		"not there":   {"bin\\slug.exe\r\n", `bin\slug.exe`, "", "", "NEW\r\n"},
		"several words": {"set RUN=..\\rt\\17\\bin\\java.exe -Xmx1G\r\n%RUN% -jar m.jar\r\n", `..\rt\17\bin\java.exe`,
			java, "m.jar", ""},
	} {
		t.Run(name, func(t *testing.T) {
			put("srv/open.bat", c.script)
			got, err := Read(filepath.Join(dir, "srv"), "open.bat", nil)
			require.NoError(t, err)
			require.Len(t, got, 1)
			assert.Equal(t, []string{c.program, c.path, c.jar}, []string{got[0].Program, got[0].Path, got[0].Jar})
			if c.edited == "" {
				return
			}
			out, err := got[0].WithProgram([]byte(c.script), `C:\fen\java.exe`)
			require.NoError(t, err)
			assert.Equal(t, strings.Replace(c.edited, "NEW", `C:\fen\java.exe`, 1), string(out))
			out, err = got[0].WithProgram([]byte(c.script), `C:\my fen\100%\java.exe`)
			require.NoError(t, err)
			assert.Equal(t, strings.Replace(c.edited, "NEW", `"C:\my fen\100%%\java.exe"`, 1), string(out))
		})
	}
}

func FuzzRead(f *testing.F) {
	f.Add("#!/bin/sh\ncd \"$(dirname \"$0\")\"\nJ=${JAVA:-java}\nexec \"$J\" -Xmx1G -jar m.jar &\n")
	f.Add("@echo off\r\nset J=a\r\n\"%J%\\bin\\java\" -jar %~dp0m.jar\r\n")
	f.Add("while :; do screen -dmS x java @a -cp 'lib/*:x.jar' a.B; done\nread x\n")
	f.Add(":a\r\npause\r\njava \"@a b\" -m x/y\r\ngoto a\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		dir := t.TempDir()
		for _, name := range []string{"a.sh", "a.bat"} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755); err != nil {
				t.Fatal(err)
			}
			got, err := Read(dir, name, []string{"PATH=/usr/bin"})
			if err != nil {
				continue
			}
			for _, c := range got {
				if line, err := c.JavaLine(func(string) ([]byte, error) { return []byte(text), nil }); err == nil {
					for _, e := range line.ClassPath {
						c.At(dir, e)
					}
				}
				if out, err := c.WithProgram([]byte(text), "/x/java"); err == nil && len(out) < len("/x/java") {
					t.Fatal("the word was not put in")
				}
			}
		}
	})
}

// One word changes, and nothing else; where the program is no word of its own,
// nothing does.
func TestTheWordThatNamesTheProgramIsEditedAlone(t *testing.T) {
	dir := t.TempDir()
	for script, want := range map[string]string{
		"#!/bin/sh\nJAVA=java\n# run\nexec \"$JAVA\" $MEM   -jar m.jar # now\n": "#!/bin/sh\nJAVA=java\n# run\nexec /rt/bin/java $MEM   -jar m.jar # now\n",
		"cd x && java -Xmx1G -jar m.jar &\n":                                    "cd x && /rt/bin/java -Xmx1G -jar m.jar &\n",
		"nohup nice -n 5 env A=b ${JAVA:-java} -jar m.jar >log 2>&1 &\n":        "nohup nice -n 5 env A=b /rt/bin/java -jar m.jar >log 2>&1 &\n",
		"R='java -Xmx1G'\n$R -jar m.jar\n":                                      "",
		"#!/bin/sh\r\njava -jar m.jar\r\n":                                      "#!/bin/sh\r\n/rt/bin/java -jar m.jar\r\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "open.sh"), []byte(script), 0o755))
		got, err := Read(dir, "open.sh", nil)
		require.NoError(t, err)
		require.Len(t, got, 1, script)
		out, err := got[0].WithProgram([]byte(script), "/rt/bin/java")
		if want == "" {
			assert.ErrorContains(t, err, "in a way that is not edited", script)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, want, string(out))
	}
	c := Command{start: 0, end: 4}
	out, err := c.WithProgram([]byte("java -jar m.jar"), "/home/ada/my games/bin/java")
	require.NoError(t, err)
	assert.Equal(t, "'/home/ada/my games/bin/java' -jar m.jar", string(out))
}

// What else a line tells: the file that an interpreter is given, where its loader
// looks for libraries, and by what a script inside was called.
func TestALineTellsWhatItsProgramIsGiven(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		full := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o755))
	}
	put("inner.sh", "#!/bin/sh\nexec node server/main.js --port 1\n")
	put("pond", "\x7fELF")
	read := func(script string) Command {
		t.Helper()
		put("open.sh", script)
		got, err := Read(dir, "open.sh", nil)
		require.NoError(t, err)
		require.Len(t, got, 1, script)
		return got[0]
	}
	for script, given := range map[string]string{
		"node --inspect pond.js\n":                "pond.js",
		"cd server && python3 -u main.py\n":       "server/main.py",
		"dotnet pond.dll --x\n":                   "pond.dll",
		"../bridge/run pond.exe\n":                "pond.exe",
		"exec perl \"$PWD/pond.pl\"\n":            "pond.pl",
		"PORT=1 nohup python3.12 ./m.py >log &\n": "m.py",
	} {
		assert.Equal(t, given, read(script).Script, script)
	}
	c := read("export LD_LIBRARY_PATH=\"$PWD/lib:/opt/fen/lib\"\n./pond\n")
	assert.Equal(t, []string{filepath.Join(dir, "lib"), "/opt/fen/lib"}, c.Libraries)
	c = read("echo opening\n./inner.sh\n")
	require.NotNil(t, c.By)
	assert.Equal(t, []any{"inner.sh", "open.sh", 2}, []any{c.File, c.By.File, c.By.Line})
	assert.Nil(t, read("sh inner.sh\n").By, "a shell runs what it is given, whatever its mode")
	for _, script := range []string{"python3 -m pond\n", "node -e 1\n", "perl -c x\n", "echo pond.exe.txt\n"} {
		put("open.sh", script)
		got, err := Read(dir, "open.sh", nil)
		require.NoError(t, err)
		for _, c := range got {
			assert.Empty(t, c.Script, script)
		}
	}
}

// Batch scripts wait and loop in words of their own.
func TestBatchScriptsThatWaitOrLoop(t *testing.T) {
	dir := t.TempDir()
	put := func(text string) Command {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "open.bat"), []byte(text), 0o755))
		got, err := Read(dir, "open.bat", nil)
		require.NoError(t, err)
		require.Len(t, got, 1)
		return got[0]
	}
	c := put("@echo off\r\n:again\r\njava -jar pond.jar\r\ntimeout /t 5\r\ngoto again\r\n")
	assert.Equal(t, &Place{"open.bat", 5, "goto again"}, c.Loop)
	assert.Nil(t, c.Stays)
	c = put("java -jar pond.jar\r\npause\r\n")
	assert.Equal(t, &Place{"open.bat", 2, "pause"}, c.Stays)
	c = put("pause\r\ngoto on\r\n:on\r\njava -jar pond.jar\r\nif errorlevel 1 goto on\r\n")
	assert.Equal(t, &Place{"open.bat", 1, "pause"}, c.Waits)
	assert.Nil(t, c.Loop)
	assert.Nil(t, c.Stays)
}

func TestHeapFlagsAreReadInTheirUnits(t *testing.T) {
	for flag, want := range map[string]int64{
		"-Xmx4G": 4 << 30, "-Xms512m": 512 << 20, "-Xmx1048576": 1 << 20, "-Xmx2t": 2 << 40,
		"-XX:MaxHeapSize=64k":       64 << 10,
		"--max-old-space-size=2048": 2048 << 20, "-Xmx": 0, "-XmxG": 0, "-Xss4m": 0, "-Xmx-1": 0, "4G": 0,
	} {
		assert.Equal(t, want, HeapBytes(flag), flag)
	}
	assert.Equal(t, "-Xmx2G", LastFlag([]string{"-Xmx1G", "-Xms1G", "-Xmx2G"}, "-Xmx"), "the last one counts")
	assert.Empty(t, LastFlag(nil, "-Xmx"))
}
