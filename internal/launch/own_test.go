package launch

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What a line runs as its own program is told from its words alone, and a line that does not tell it is
// an error: what a program is given as an argument is none of its programs.
func TestALinesOwnProgram(t *testing.T) {
	for line, want := range map[string]string{
		"/srv/pond/run.sh":                                                       "/srv/pond/run.sh",
		"/srv/pond/./bin/../pond --port 1":                                       "/srv/pond/pond",
		"/usr/bin/java -Xmx4G -jar pond.jar nogui":                               "/srv/pond/pond.jar",
		"/usr/bin/java -Dx=y -jar /srv/other/a.jar /srv/pond/b":                  "/srv/other/a.jar",
		"/usr/bin/java -cp lib/a.jar:/opt/b.jar pond.Main":                       "/srv/pond/lib/a.jar /opt/b.jar",
		"/usr/bin/java --class-path x.jar -Dx=1 Main":                            "/srv/pond/x.jar",
		"/bin/sh run.sh":                                                         "/srv/pond/run.sh",
		"/bin/bash -eu run.sh -c x":                                              "/srv/pond/run.sh",
		"/usr/bin/python3 pond.py --x":                                           "/srv/pond/pond.py",
		"/usr/bin/dotnet Pond.dll":                                               "/srv/pond/Pond.dll",
		"/usr/bin/wine pond.exe":                                                 "/srv/pond/pond.exe",
		"/usr/bin/nohup /srv/pond/run.sh":                                        "/srv/pond/run.sh",
		"/usr/bin/tail -f /srv/pond/log":                                         "/usr/bin/tail",
		"/usr/local/bin/backup /srv/pond/world":                                  "/usr/local/bin/backup",
		"/bin/sh -c 'cd /srv/pond && exec ./run.sh'":                             "/srv/pond/run.sh",
		"/bin/sh -c '(sleep 1; systemd-notify --ready) & exec /srv/pond/run.sh'": "/srv/pond/run.sh",
		"/bin/sh -c 'tail -f x & exec /srv/pond/run.sh'":                         "tail /srv/pond/run.sh",
		"/bin/sh -c 'java -jar pond.jar | tee log'":                              "/srv/pond/pond.jar tee",
		"/bin/sh -c 'cd /opt && ./run.sh'":                                       "/opt/run.sh",
		"/bin/sh -c 'cd opt && ./run.sh'":                                        "/srv/pond/opt/run.sh",
		"/bin/sh -c 'cd opt; cd ..; exec nohup ./run.sh'":                        "/srv/pond/run.sh",
		"/usr/bin/setsid /usr/bin/nohup /srv/pond/run.sh":                        "/srv/pond/run.sh",
		"pond": "pond",
		"/bin/sh -c '[ -e x ] || exit 1; sh -c \"/srv/pond/a\"'": "",
	} {
		var words []string
		rest := line
		for rest != "" { // in single quotes, or plain
			if strings.HasPrefix(rest, "'") {
				end := strings.Index(rest[1:], "'") + 1
				words, rest = append(words, rest[1:end]), strings.TrimPrefix(rest[end+1:], " ")
				continue
			}
			word, after, _ := strings.Cut(rest, " ")
			words, rest = append(words, word), after
		}
		got, err := Own(words, "/srv/pond")
		switch {
		case want == "":
			assert.Error(t, err, line)
		case strings.HasPrefix(want, "tail "): // a name that is looked for on the search path is no file of the install
			assert.NoError(t, err, line)
			assert.Equal(t, []string{"tail", "/srv/pond/run.sh"}, got, line)
		default:
			assert.NoError(t, err, line)
			assert.Equal(t, want, strings.Join(got, " "), line)
		}
	}
	for _, line := range [][]string{nil, {"/usr/bin/java"}, {"/usr/bin/java", "@args"}, {"/usr/bin/java", "-m", "a/b"}, {"$PROGRAM", "x"},
		{"/bin/sh"}, {"/bin/sh", "-c", "$X"}, {"/bin/sh", "-c", "if"}, {"/bin/sh", "-c", "sleep 1"}, {"/usr/bin/python3", "-m", "pond"},
		{"/usr/bin/python3"}, {"/usr/bin/java", "-jar", "$JAR"}, {"/usr/bin/java", "Main"}, {"/usr/bin/nohup"}, {"/bin/sh", "-c", "cd $X; ./run.sh"}, {"/bin/sh", "-c", "cd; ./run.sh"}, {"/bin/sh", "-c", "cd -; ./run.sh"},
		{"/usr/bin/java", "-cp", "a.jar:$X", "Main"}, {"/usr/bin/java", "-cp", "a.jar"}, {"/bin/sh", "-c", "\"$(cat x)\" y"}} {
		_, err := Own(line, "/srv/pond")
		assert.Error(t, err, "%q", line)
	}
}

// A script is made of a program, its words and a folder, in the quotes that its words need.
func TestAScriptIsMade(t *testing.T) {
	for name, c := range map[string]struct {
		of   Composed
		want string
	}{
		"a.sh":  {Composed{Program: "./pond", Args: []string{"a b", "--x=1"}}, "#!/bin/sh\n# Written by f: w.\ncd \"$(dirname \"$0\")\" || exit 1\nexec ./pond 'a b' --x=1\n"},
		"b.sh":  {Composed{Program: "./pond", Folder: "."}, "#!/bin/sh\n# Written by f: w.\ncd \"$(dirname \"$0\")\" || exit 1\nexec ./pond\n"},
		"c.sh":  {Composed{Program: "java", Folder: "run 1"}, "#!/bin/sh\n# Written by f: w.\ncd \"$(dirname \"$0\")\"'/run 1' || exit 1\nexec java\n"},
		"d.bat": {Composed{Program: "bin/pond.exe", Args: []string{"a b", "50%"}, Folder: "run/x"}, "@echo off\r\nrem Written by f: w.\r\ncd /d \"%~dp0run\\x\"\r\nbin\\pond.exe \"a b\" 50%%\r\n"},
		"e.bat": {Composed{Program: "pond.exe", Args: []string{"a\"b"}}, ""},
		"f.sh":  {Composed{Program: "pond", Folder: "x\x00"}, ""},
		"g.sh":  {Composed{Program: "pond\x00"}, ""},
	} {
		c.of.By, c.of.Why = "f", "w"
		text, err := Compose(name, c.of)
		assert.Equal(t, c.want == "", err != nil, "%s: %v", name, err)
		assert.Equal(t, c.want, string(text), name)
	}
}
