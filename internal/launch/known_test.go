package launch

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// commandsOf are what a script runs, a line each: the words of its last command, and behind «?» what of it is unknown.
func lastOf(t *testing.T, dir, name, text string, args ...string) string {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755))
	list, err := ReadWith(dir, name, args, []string{"PATH=/usr/bin:/bin"}, nil)
	require.NoError(t, err, text)
	if len(list) == 0 {
		return "nothing"
	}
	c := list[len(list)-1]
	out := strings.Join(append([]string{c.Program}, c.Args...), " ")
	if rel, err := filepath.Rel(dir, c.Dir); err == nil && rel != "." {
		out += " in " + rel
	}
	if len(c.Unknown) > 0 {
		out += " ?" + strings.Join(c.Unknown, ",")
	}
	return out
}

// What a script says is followed where it can be known, and unknown where it can't: never empty, and never stated as a fact.
func TestWhatCanBeKnownIsFollowedAndTheRestIsUnknown(t *testing.T) {
	dir := t.TempDir()
	for at, text := range map[string]string{"run/p.jar": "PK", "env.sh": "MEM=3G\n", "mem.txt": "5G\n", "p.jar": "PK"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, at)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, at), []byte(text), 0o644))
	}
	for script, want := range map[string]string{
		"java $(date +%F) -jar p.jar":                                        "java -jar p.jar ?$(date +%F)",
		"java -Xmx$MEM -jar p.jar":                                           "java -Xmx -jar p.jar",
		"MEM=2G\njava -Xmx$MEM -jar p.jar":                                   "java -Xmx2G -jar p.jar",
		"java -Xmx${MEM:-4G} -jar p.jar":                                     "java -Xmx4G -jar p.jar",
		". ./env.sh\njava -Xmx$MEM -jar p.jar":                               "java -Xmx3G -jar p.jar",
		". /etc/not-here\njava -Xmx$MEM -jar p.jar":                          "java -Xmx -jar p.jar",
		"java -Xmx$(cat mem.txt) -jar p.jar":                                 "java -Xmx5G -jar p.jar",
		"read MEM\njava -Xmx$MEM -jar p.jar":                                 "java -Xmx -jar p.jar ?$MEM",
		"A=(-Xmx2G -jar p.jar)\njava \"${A[@]}\"":                            "java -Xmx2G -jar p.jar",
		"A=(-Xmx2G)\nA+=(-jar p.jar)\njava \"${A[@]}\"":                      "java -Xmx2G -jar p.jar",
		"go() { java -Xmx$1 -jar p.jar; }\ngo 2G":                            "java -Xmx2G -jar p.jar",
		"set -- -jar p.jar\njava \"$@\"":                                     "java -jar p.jar",
		"eval \"java -Xmx2G -jar p.jar\"":                                    "java -Xmx2G -jar p.jar",
		"if [ -e p.jar ]; then M=2G; else M=3G; fi\njava -Xmx$M -jar p.jar":  "java -Xmx2G -jar p.jar",
		"if ping -c1 x; then M=2G; else M=3G; fi\njava -Xmx$M -jar p.jar":    "java -Xmx2G -jar p.jar ?$M",
		"case linux in linux) M=2G;; *) M=3G;; esac\njava -Xmx$M -jar p.jar": "java -Xmx2G -jar p.jar",
		"pushd run\njava -jar p.jar":                                         "java -jar p.jar in run",
		"cd run || exit 1\njava -jar p.jar":                                  "java -jar p.jar in run",
		"cd gone || cd run\njava -jar p.jar":                                 "java -jar p.jar in gone/run ?$PWD",
		"nice -n 5 taskset -c 0 java -jar p.jar":                             "java -jar p.jar",
		"timeout 5 env A=1 java -jar p.jar":                                  "java -jar p.jar",
		"java -jar p-*.jar":                                                  "java -jar p-*.jar ?p-*.jar",
		"java $X -jar p.jar \"$@\"":                                          "java -jar p.jar day",
	} {
		assert.Equal(t, want, lastOf(t, dir, "o.sh", "#!/bin/bash\n"+script+"\n", "day"), script)
	}
	for script, want := range map[string]string{
		"java -Xmx%MEM% -jar p.jar":                                                           "java -Xmx -jar p.jar",
		"set MEM=2G\njava -Xmx%MEM% -jar p.jar":                                               "java -Xmx2G -jar p.jar",
		"set \"MEM=2G\"\njava -Xmx%MEM% -jar p.jar %1":                                        "java -Xmx2G -jar p.jar day",
		"set /p MEM=how much\njava -Xmx%MEM% -jar p.jar":                                      "java -Xmx -jar p.jar ?%MEM%",
		"setlocal enabledelayedexpansion\nset M=2G\njava -Xmx!M! -jar p.jar":                  "java -Xmx2G -jar p.jar",
		"set JAVA=\"C:\\Java\\bin\\java.exe\"\n%JAVA% -jar p.jar":                             "C:\\Java\\bin\\java.exe -jar p.jar",
		"java ^\n -Xmx2G ^\n -jar p.jar":                                                      "java -Xmx2G -jar p.jar",
		"if exist p.jar (\n set M=2G\n) else (\n set M=3G\n)\njava -Xmx%M% -jar p.jar":        "java -Xmx2G -jar p.jar",
		"if exist q.jar (set M=2G) else (set M=3G)\njava -Xmx%M% -jar p.jar":                  "java -Xmx3G -jar p.jar",
		"if not exist q.jar set M=2G\njava -Xmx%M% -jar p.jar":                                "java -Xmx2G -jar p.jar",
		"set M=2G\nif errorlevel 1 set M=3G\njava -Xmx%M% -jar p.jar":                         "java -Xmx3G -jar p.jar ?%M%",
		"if \"%1\"==\"day\" (\n java -Xmx1G -jar p.jar\n) else (\n java -Xmx2G -jar p.jar\n)": "java -Xmx1G -jar p.jar",
		"for %%f in (*.jar) do java -jar %%f":                                                 "java -jar ?for %%f in (*.jar) do,%%f",
		"goto end\njava -Xmx1G -jar p.jar\n:end\njava -Xmx2G -jar p.jar":                      "java -Xmx2G -jar p.jar",
		"java -Xmx2G -jar p.jar\nexit /b\njava -Xmx1G -jar p.jar":                             "java -Xmx2G -jar p.jar",
		"pushd run\njava -jar p.jar":                                                          "java -jar p.jar in run",
		"cmd /c java -jar p.jar":                                                              "java -jar p.jar",
		"set M=2G\njava -Xmx%M:~0,1%G -jar p.jar":                                             "java -XmxG -jar p.jar ?%M:~0,1%",
	} {
		assert.Equal(t, want, lastOf(t, dir, "o.bat", "@echo off\r\n"+strings.ReplaceAll(script, "\n", "\r\n")+"\r\n", "day"), script)
	}
}

// A wish for a command that depends on what is unknown is not done, and told; nothing is written beside a variable.
func TestAWishIsNotWrittenBesideWhatIsUnknown(t *testing.T) {
	for name, text := range map[string]string{"o.sh": "read MEM\njava -Xmx$MEM -jar p.jar\n", "o.bat": "set /p MEM=how much\r\njava -Xmx%MEM% -jar p.jar\r\n"} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755))
		s := &Script{Install: dir, Name: name}
		edits, lacking, err := s.Grant(Wish{Most: "6G"})
		require.NoError(t, err)
		assert.Empty(t, edits)
		assert.Empty(t, s.Texts())
		assert.Contains(t, strings.Join(lacking, ""), "can't be known before it runs")
	}
}
