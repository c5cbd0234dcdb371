package profile

import (
	"strings"
	"testing"
	"time"

	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestProfileErrorsNameLineKeyAndNearestKey(t *testing.T) {
	for name, c := range map[string]struct {
		text, want string
	}{
		"unknown key": {"[server]\nname = 'x'\nkeeps = []\n",
			"f.toml:3: server.keeps: there is no such key; did you mean server.keep?"},
		"wrong section": {"[server]\nname = 'x'\nscript = 'a.sh'\n",
			"f.toml:3: server.script: there is no such key; did you mean launch.script?"},
		"bad duration": {"[server]\nname = 'x'\n[stop]\nwait = 'soon'\n", "f.toml:4"},
		"bad regexp":   {"[server]\nname = 'x'\n[ready]\nline = '('\n", "f.toml:4"},
		"bad port":     {"[server]\nname = 'x'\n[ready]\nport = '27750'\n", "not a port"},
		"version no group": {"[server]\nname = 'x'\n[ready]\nversion = 'v'\n",
			"f.toml:4: ready.version: it needs a group"},
		"no name":         {"[server]\nkeep = []\n", "f.toml:1: server.name: it is missing"},
		"absolute keep":   {"[server]\nname = 'x'\nkeep = ['/etc/**']\n", "f.toml:3: server.keep"},
		"escaping script": {"[server]\nname = 'x'\n[launch]\nscript = '../x.sh'\n", "f.toml:4: launch.script"},
		"relative copy": {"[server]\nname = 'x'\n[copy]\nto = 'usb'\n",
			"f.toml:4: copy.to: \"usb\" is neither a folder with its whole path nor an object store"},
		"copy no bucket": {"[server]\nname = 'x'\n[copy]\nto = 's3+https://store.example'\n",
			"f.toml:4: copy.to: an object store is written as s3+https://HOST/BUCKET/PREFIX"},
		"keys in address": {"[server]\nname = 'x'\n[copy]\nto = 's3+https://k:w@store.example/b'\n",
			"f.toml:4: copy.to: no keys in an address"},
		"no recipient": {"[server]\nname = 'x'\n[copy]\nrecipients = ['me']\n",
			"f.toml:4: copy.recipients: me… is not an age recipient"},
		"not toml": {"[server\n", "f.toml:1"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Parse("f.toml", []byte(c.text))
			var e *Error
			require.ErrorAs(t, err, &e)
			assert.Contains(t, err.Error(), c.want)
			assert.NotContains(t, strings.TrimSpace(err.Error()), "\n", "one line")
		})
	}
}

func TestProfileReadsEveryKeyAndFillsDefaults(t *testing.T) {
	p, err := Parse("f.toml", []byte(`
[server]
name = "east"
keep = ["gardens/**"]
settings = ["m.conf"]
[place]
"m-*.jar" = "m.jar"
[ready]
line = '^open'
port = "udp/27750"
[stop]
kill = false
`))
	require.NoError(t, err)
	assert.True(t, p.Server.Own("gardens/a/b") && p.Server.Own("m.conf") && p.Server.Own(FileName))
	assert.False(t, p.Server.Own("m.jar"))
	assert.Equal(t, Port{"udp", 27750}, p.Ready.Port)
	assert.Equal(t, time.Minute, p.Stop.Wait.Std())
	assert.False(t, p.Stop.MayKill())
	assert.True(t, p.Ready.Line.Given() && !p.Ready.Version.Given())
}

// What a new key can't mean is told with its line.
func TestKeysOfBackupsAddonsAndDataAreChecked(t *testing.T) {
	for text, says := range map[string]string{
		"[backup]\nbefore = [\"a\\nb\"]\n":                                                     "is not one line",
		"[[part]]\nname = 'a'\nlaunch = { script = 'a.sh' }\nstop = { tell = 'bye' }\n":        "warned once for the whole server",
		"[[part]]\nname = 'a'\nlaunch = { script = 'a.sh' }\nfiles = ['[']\n":                  "part.files",
		"[host]\nrestart = 'after-crash'\n[[part]]\nname = 'a'\nlaunch = { script = 'a' }\n":   "each has a script, or a host, of its own",
		"[[part]]\nname = 'a'\noutside = true\nfiles = ['a']\nhost = { unit = 'a.service' }\n": "has no files in it",
		"[backup]\nbefore = [\"\"]\n":                                                          "is not one line",
		"[backup]\nsaved = '('\n":                                                              "is not a regular expression",
		"[backup]\nlast = 'many'\n":                                                            "p:4",
		"[backup]\nlats = 5\n":                                                                 "did you mean backup.last",
		"[[data]]\nname = 'songs'\ndump = ['x']\n":                                             "dump and load are both needed",
		"[[data]]\nname = 'a/b'\ndump = ['x']\nload = ['y']\n":                                 "each needs a name of its own",
		"[[data]]\ndump = ['x']\nload = ['y']\n":                                               "each needs a name of its own",
		"[addons]\nfiles = ['a/*']\n":                                                          "descriptor and fits are missing",
		"[addons]\nfiles = ['[']\ndescriptor = 'a'\nfits = 'b'\n":                              "addons.files",
		"[stop]\nwait = 'long'\n":                                                              "is not a length of time",
	} {
		_, err := Parse("p", []byte("[server]\nname = 'x'\n"+text))
		assert.ErrorContains(t, err, says, text)
	}
	_, err := Parse("p", []byte("[server]\nname = 'x'\nconsent = ['a/b.txt']\n"))
	assert.ErrorContains(t, err, "is not a file at the top of the install")
	p, err := Parse(
		"p",
		[]byte(
			"[server]\nname = 'x'\nconsent = ['terms.txt']\n[backup]\nbefore = ['save']\nsaved = '^saved'\n[[data]]\nname = 'songs'\ndump = ['a']\nload = ['b']\nlimit = '5m'\n",
		),
	)
	require.NoError(t, err)
	assert.Equal(t, "5m0s", p.Data[0].Limit.String())
	assert.Equal(t, "10s", p.Backup.Wait.String())
}

// A refit stops the parts whose files change and those after them; all of them where a file is
// nobody's alone, or a part that stops does not say what it reads and writes.
func TestTheFilesOfPartsSayWhichStop(t *testing.T) {
	part := func(name string, files string, after ...string) Part {
		return Part{Name: name, Files: tree.Patterns(strings.Fields(files)), After: after}
	}
	p := &Profile{Parts: []Part{part("login", "login/** shared"), part("world", "world/** shared"),
		part("web", "", "login"), part("map", "map/**", "world"), {Name: "songs", Outside: true}}}
	for paths, want := range map[string]string{
		"map/a":           "map",
		"map":             "map", // the folder itself
		"world/a":         "world map",
		"map/a map/b/c":   "map",
		"login/a":         "", // the web comes after it, and has no files
		"shared":          "",
		"map/a README":    "",
		"world/a other/a": "",
		"web/a":           "",
		"world/a map/a":   "world map",
		"mapped/a":        "",
	} {
		assert.Equal(t, strings.Fields(want), append([]string{}, p.Alone(strings.Fields(paths), nil)...), paths)
	}
	assert.Equal(t, []string{"world", "map"}, p.Alone(nil, []string{"world"}), "a service's line")
	p.Parts[2].Files = tree.Patterns{"web/**"}
	assert.Equal(t, []string{"login", "web"}, p.Alone([]string{"login/a"}, nil))
	assert.Nil(t, p.Alone([]string{"login/a", "world/a"}, nil), "all of them are no part")
	assert.Equal(t, tree.Patterns{"login/**", "shared", "web/**"}, p.FilesOf([]string{"login", "web"}))
}
