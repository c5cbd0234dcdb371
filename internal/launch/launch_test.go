package launch

import (
	"os"
	"path/filepath"
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
		"plain":               {"java -Xmx1G -jar m.jar nogui\n", old + "/java", "m.jar", 1, false},
		"variables and exec":  {"#!/bin/sh\nJ=" + young + "\nMEM='-Xmx1G -Xms1G'\nexec \"$J/java\" $MEM -jar m.jar\n", young + "/java", "m.jar", 4, false},
		"exported path":       {"export PATH=" + young + ":$PATH\njava -jar m.jar &\n", young + "/java", "m.jar", 2, true},
		"default value":       {"JAVA=${JAVA:-java}\n$JAVA -jar \"${JAR:-m.jar}\"\n", old + "/java", "m.jar", 2, false},
		"own folder":          {"cd \"$(dirname \"$0\")\" || exit 1\nnohup nice -n 5 java -jar m.jar >log 2>&1 &\n", old + "/java", "m.jar", 2, true},
		"cd first":            {"cd bin && java -jar m.jar\n", old + "/java", "bin/m.jar", 1, false},
		"restart loop":        {"while true; do\n  java -jar m.jar\n  sleep 5\ndone\n", old + "/java", "m.jar", 2, false},
		"prefixed assignment": {"PATH=" + young + " java -jar m.jar\n", young + "/java", "m.jar", 1, false},
		"another script":      {"./inner.sh\n", old + "/java", "inner.jar", 2, false},
		"sh of a script":      {"sh inner.sh\n", old + "/java", "inner.jar", 2, false},
		"native":              {"./snail --port 1\n", filepath.Join(dir, "srv/snail"), "", 1, false},
		"native, not there":   {"mkdir -p x\n./slug --port 1\n", "", "", 2, false},
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
	put("srv/open.bat", "@echo off\r\nset JAVA=C:\\rt\\bin\\java.exe\r\n\"%JAVA%\" -Xmx1G -jar m.jar\r\npause\r\n", 0o644)
	got, err := Read(filepath.Join(dir, "srv"), "open.bat", nil)
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Equal(t, `C:\rt\bin\java.exe`, got[0].Program)
	assert.Equal(t, "m.jar", got[0].Jar)
	assert.Equal(t, 3, got[0].Line)
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
		"#!/bin/sh\r\njava -jar m.jar\r\n":                                      "",
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
