package profile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const byHand = `# my server
[server]
name = "pond"   # its name
keep = ["gardens/**", 'a,b#c.txt']
settings = [
  'pond.conf',   # mine
  # a note of mine
  "run.sh"  # no comma here
]

[place]   # names
'pond-*.jar' = 'pond.jar'
"odd = name" = "x"

[[layer]]
name = "one"
into = "x"

[stop]
wait = '60s' # long
# not found; set it: the line
send = ''
[ready]
fail = [ '^FATAL' ]`

// One key is edited, and every other byte stays: comments, order, quotes, the missing end of
// the last line.
func TestAProfileIsEditedInPlace(t *testing.T) {
	text := Text(byHand)
	for name, c := range map[string]struct {
		edit     func() (Text, error)
		old, new string
	}{
		"a string": {func() (Text, error) { return text.With("server.name", "'lake'", "") },
			`name = "pond"   # its name`, `name = 'lake'   # its name`},
		"with a comment of ours before": {func() (Text, error) { return text.With("stop.send", "'quit'", "# learned from: a stop") },
			"# not found; set it: the line\nsend = ''", "# learned from: a stop\nsend = 'quit'"},
		"a comment of ours goes": {func() (Text, error) { return text.With("stop.send", "'quit'", NoComment) },
			"# not found; set it: the line\nsend = ''", "send = 'quit'"},
		"a new key at its section's end": {func() (Text, error) { return text.With("stop.kill", "false", "") },
			"send = ''\n", "send = ''\nkill = false\n"},
		"a new key behind the last line": {func() (Text, error) { return text.With("ready.steady", "'1s'", "") },
			"fail = [ '^FATAL' ]", "fail = [ '^FATAL' ]\nsteady = '1s'\n"},
		"a table in the one above": {func() (Text, error) { return text.With("stop.inner.deep", "1", "") },
			"send = ''\n", "send = ''\ninner.deep = 1\n"},
		"a new section": {func() (Text, error) { return text.With("runtime.search", "['/opt/*']", "") },
			"fail = [ '^FATAL' ]", "fail = [ '^FATAL' ]\n\n[runtime]\nsearch = ['/opt/*']\n"},
		"a pattern as a key": {func() (Text, error) { return text.With("place.pond-*.jar", "'p.jar'", "") },
			`'pond-*.jar' = 'pond.jar'`, `'pond-*.jar' = 'p.jar'`},
		"a key with the sign in it": {func() (Text, error) { return text.With("place.odd = name", "'y'", "") },
			`"odd = name" = "x"`, `"odd = name" = 'y'`},
		"an item to a list of one line": {func() (Text, error) { return text.WithItem("server.keep", "x.txt", "# learned from: y") },
			`keep = ["gardens/**", 'a,b#c.txt']`, `keep = ["gardens/**", 'a,b#c.txt', 'x.txt']`},
		"an item to a list without a last comma": {func() (Text, error) { return text.WithItem("server.settings", "x.txt", "# learned from: y") },
			"  \"run.sh\"  # no comma here\n]", "  \"run.sh\",  # no comma here\n  'x.txt',   # learned from: y\n]"},
		"an item that is there": {func() (Text, error) { return text.WithItem("server.settings", "run.sh", "") }, "", ""},
		"an item of a line of its own goes": {func() (Text, error) { return text.WithoutItem("server.settings", "pond.conf") },
			"  'pond.conf',   # mine\n", ""},
		"an item of a list of one line goes": {func() (Text, error) { return text.WithoutItem("server.keep", "gardens/**") },
			`["gardens/**", 'a,b#c.txt']`, `['a,b#c.txt']`},
		"a key goes": {func() (Text, error) { return text.Without("stop.send") },
			"# not found; set it: the line\nsend = ''\n", ""},
		"a key of one of several is none": {func() (Text, error) { return text.Without("layer.into") }, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := c.edit()
			require.NoError(t, err)
			assert.Equal(t, strings.Replace(byHand, c.old, c.new, 1), string(got))
			assert.Equal(t, byHand, string(text), "the text that was edited is another")
		})
	}
	value, comment, ok := text.Value("stop.send")
	assert.Equal(t, []any{"''", "# not found; set it: the line", true}, []any{value, comment, ok})
}

func TestARuleIsATextOrAListOfTexts(t *testing.T) {
	for value, why := range map[string]string{"5": ":4: ready.line: it is neither a text", "['a', '(']": ":4: ready.line: \"(\" is not a regular",
		"'('": ":4: ready.line: \"(\" is not", "true": "neither a text", "['a', 'b']": "", "''": "", "[]": ""} {
		_, err := Parse("freshkeel.toml", []byte("[server]\nname = 'x'\n[ready]\nline = "+value+"\n"))
		if why == "" {
			assert.NoError(t, err, value)
			continue
		}
		assert.ErrorContains(t, err, why, value)
	}
}

func TestWordsBecomeWhatAKeyHolds(t *testing.T) {
	for _, c := range []struct {
		key    string
		values []string
		want   string // or the error, behind a !
	}{
		{"server.name", []string{"it's"}, `"it's"`}, {"server.keep", []string{"a", "b/**"}, "['a', 'b/**']"},
		{"stop.kill", []string{"false"}, "false"}, {"backup.last", []string{"7"}, "7"}, {"ready.within", []string{"3m"}, "'3m'"},
		{"ready.line", []string{"^a"}, "'^a'"}, {"ready.line", []string{"^a", "^b"}, "['^a', '^b']"},
		{"ready.ports", []string{"udp/1"}, "['udp/1']"}, {"place.x-*.jar", []string{"x.jar"}, "'x.jar'"},
		{"ready.lin", []string{"x"}, "!there is no such key; did you mean ready.line?"},
		{"stop.kill", []string{"no"}, "!neither true nor false"}, {"backup.last", []string{"many"}, "!not a whole number"},
		{"server.name", []string{"a", "b"}, "!it takes one value, and 2 were given"},
		{"layer.into", []string{"x"}, "!there may be several"},
	} {
		got, err := Literal("freshkeel.toml", c.key, c.values)
		if why, wrong := strings.CutPrefix(c.want, "!"); wrong {
			assert.ErrorContains(t, err, why, c.key)
			continue
		}
		require.NoError(t, err, c.key)
		assert.Equal(t, c.want, got, c.key)
	}
}
