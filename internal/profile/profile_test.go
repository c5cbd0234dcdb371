package profile

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestProfileErrorsNameLineKeyAndNearestKey(t *testing.T) {
	for name, c := range map[string]struct {
		text, want string
	}{
		"unknown key":      {"[server]\nname = 'x'\nkeeps = []\n", "f.toml:3: server.keeps: there is no such key; did you mean server.keep?"},
		"wrong section":    {"[server]\nname = 'x'\nscript = 'a.sh'\n", "f.toml:3: server.script: there is no such key; did you mean launch.script?"},
		"bad duration":     {"[server]\nname = 'x'\n[stop]\nwait = 'soon'\n", "f.toml:4"},
		"bad regexp":       {"[server]\nname = 'x'\n[ready]\nline = '('\n", "f.toml:4"},
		"bad port":         {"[server]\nname = 'x'\n[ready]\nport = '27750'\n", "not a port"},
		"version no group": {"[server]\nname = 'x'\n[ready]\nversion = 'v'\n", "f.toml:4: ready.version: it needs a group"},
		"no name":          {"[server]\nkeep = []\n", "f.toml:1: server.name: it is missing"},
		"absolute keep":    {"[server]\nname = 'x'\nkeep = ['/etc/**']\n", "f.toml:3: server.keep"},
		"escaping script":  {"[server]\nname = 'x'\n[launch]\nscript = '../x.sh'\n", "f.toml:4: launch.script"},
		"not toml":         {"[server\n", "f.toml:1"},
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
