package proof

import (
	"strings"
	"testing"

	"freshkeel/internal/settings"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// merged is what the merge makes of three texts.
func merged(t *testing.T, name, old, now, mine string) (format string, text []byte) {
	t.Helper()
	read := func(s string) *settings.Doc {
		d, err := settings.Read(name, []byte(s))
		require.NoError(t, err, name)
		return d
	}
	m, err := settings.Merge(read(old), read(now), read(mine), settings.Rules{})
	require.NoError(t, err)
	return m.Format, m.Text
}

// What the merge makes rightly another reader finds right.
func TestARightMergeIsProven(t *testing.T) {
	for name, c := range map[string][3]string{
		"pond.conf": {"kept = 1\nmine = 2\nmaker=4\nout = 6\n", "kept = 1\nnew = x # n\nmine = 2  # how\nmaker=44\nout = 6\n", "kept = 1\nmine = two\nown = 9\nmaker=4\n"},
		"pond.ini":  {"[a]\nx=1\n[b]\ny=2\n", "[b]\ny=22\n[a]\nx=1\nz=3\n", "[a]\nx=\"1 1\"\n[b]\ny=2\n[mods]\nhop=1\n"},
		"pond.toml": {"a = [1]\n[t]\nb = \"x\"\n", "a = [1]\nn = true\n[t]\nb = \"y\"\n", "a = [1, 2]\n[t]\nb = \"x\"\nown = 1\n"},
		"pond.yml":  {"a: 1\nl:\n- x\n", "a: 2\nl:\n- x\n- z\n", "a: 1\nl:\n- x\n- w\nown: '3'\n"},
		"pond.json": {"{\n \"a\": 1,\n \"b\": [1]\n}\n", "{\n // c\n \"a\": 1,\n \"b\": [1],\n \"n\": null,\n}\n", "{\n \"a\": 2,\n \"b\": [1],\n \"own\": 5\n}\n"},
		"pond.xml":  {"<p><a>1</a><b>2</b></p>", "<p>\n<a>1</a>\n<n>3</n>\n<b>2</b>\n</p>", "<p><a>one</a><b>2</b></p>"},
	} {
		format, text := merged(t, name, c[0], c[1], c[2])
		wrong, err := Check(format, []byte(c[0]), []byte(c[1]), []byte(c[2]), text, Rules{})
		require.NoError(t, err, name)
		assert.Empty(t, wrong, "%s:\n%s", name, text)
	}
}

// A merged text that lost, kept, doubled or retyped a value is not proven, whatever the merge says.
func TestAWrongMergeIsNotProven(t *testing.T) {
	for name, c := range map[string]struct {
		format, old, now, mine, merged string
		wrong                          []string
	}{
		"a list was replaced":       {"toml", "a = [1]", "a = [1, 3]", "a = [1, 2]", "a = [1, 3]", []string{"a[]"}},
		"taken out, and back":       {"json", `{"a": 1, "b": 2}`, `{"a": 1, "b": 2}`, `{"a": 1}`, `{"a": 1, "b": 2}`, []string{"b"}},
		"another type":              {"yaml", "a: 123", "a: 123\nb: 1", `a: "0123"`, "a: 0123\nb: 1", []string{"a"}},
		"a bare line is gone":       {"lines", "a=1\n", "a=2\n", "a=1\ninclude pond.d\n", "a=2\n", []string{"bare[]"}},
		"a line that went on":       {"lines", "a=1\n", "a=1\nb=2\n", "a=1 \\\n  2\n", "a=1 \\\nb=2\n  2\n", []string{"a"}},
		"two sections became one":   {"lines", "[a]\nx=1\n", "[a]\nx=1\ny=1\n", "[a]\nx=1\n[a]\nx=2\n", "[a]\nx=1\nx=2\ny=1\n", []string{"a#2.x", "a.x"}},
		"into another section":      {"lines", "[a] ; one\nx=1\n[b]\nx=1\n", "[a] ; one\nx=1\n[b]\nx=2\n", "[a] ; one\nx=5\n[b]\nx=1\n", "[a] ; one\nx=1\n[b]\nx=5\n", []string{"a.x", "b.x"}},
		"a block's own line":        {"blocks", "a {\n x = 1;\n}\n", "a {\n x = 2;\n}\n", "a {\n x = 1;\n include \"z\";\n}\n", "a {\n x = 2;\n}\n", []string{"a.bare[]"}},
		"an element was filled":     {"xml", "<p><a></a></p>", "<p><a>x</a></p>", "<p><a></a><b/></p>", "<p><a>x</a></p>", []string{"p.b element"}},
		"a name that stands twice":  {"json", `{"a": 1}`, `{"a": 1, "c": 1}`, `{"a": 2}`, `{"a": 2, "a": 1, "c": 1}`, []string{"a"}},
		"a value of the operator's": {"list", "ada\n", "ada\nlin\n", "grace\n", "ada\nlin\n", []string{"line[]"}},
	} {
		wrong, err := Check(c.format, []byte(c.old), []byte(c.now), []byte(c.mine), []byte(c.merged), Rules{})
		require.NoError(t, err, name)
		assert.Subset(t, wrong, c.wrong[:1], "%s: %v", name, wrong)
		assert.NotEmpty(t, wrong, name)
	}
	_, err := Check("json", []byte("{}"), []byte("{}"), []byte("{}"), []byte("{"), Rules{})
	assert.ErrorContains(t, err, "the merged text")
	wrong, err := Check("lines", []byte("a=1\nb=1\n"), []byte("a=2\nb=2\n"), []byte("a=1\nb=9\n"), []byte("a=7\nb=2\n"),
		Rules{Always: map[string]string{"a": "7"}, Never: []string{"b"}})
	require.NoError(t, err)
	assert.Empty(t, wrong, "what the profile says counts")
}

// What counts as right, case by case: the old default, the new one, the operator's, and what came of it.
func TestWhatIsRight(t *testing.T) {
	rules := Rules{Always: map[string]string{"set": "5", "gone": "1"}, Never: []string{"a/never", "b.never", "list"}, Rename: map[string]string{"was": "is", "x": "y"}}
	for _, c := range []struct{ format, old, now, mine, merged, wrong string }{
		{"lines", "", "a=1\nb=2\n", "a=1\n", "a=1\nb=2\n", ""}, // no old default is known from here on
		{"lines", "", "a=1\n", "a=2\nc=3\n", "a=2\nc=3\n", ""},
		{"lines", "", "a=1\n", "a=2\nc=3\n", "a=2\n", "c"},
		{"lines", "", "a=1\n", "a=2\n", "a=1\n", "a"},
		{"lines", "", "d=1\nd=2\n", "d=2\nd=3\n", "d=2\nd=3\n", ""},
		{"lines", "", "d=1\nd=2\n", "d=2\nd=3\n", "d=1\nd=2\nd=3\n", ""},
		{"lines", "", "d=1\nd=2\n", "d=2\nd=3\n", "d=3\n", "d"},
		{"list", "", "m\nn\n", "n\no\n", "m\nn\no\n", ""},
		{"list", "", "m\nn\n", "o\n", "o\nm\nn\n", ""},
		{"list", "", "m\n", "m\n", "m\nm\n", "line[]"},
		{"lines", "a=1\n", "a=2\n", "a=1\n", "a=2\n", ""}, // and is from here on
		{"lines", "a=1\n", "a=2\n", "a=1\n", "a=1\n", "a"},
		{"lines", "a=1\n", "a=1\n", "a=2\n", "a=2\n", ""},
		{"lines", "a=1\n", "a=2\n", "a=2\n", "a=2\n", ""},
		{"lines", "a=1\n", "b=2\n", "a=3\n", "b=2\n", ""}, // its makers have it no more
		{"lines", "a=1\n", "b=2\n", "a=3\n", "a=3\nb=2\n", ""},
		{"lines", "a=1\n", "b=2\n", "a=3\n", "a=1\nb=2\n", "a"},
		{"lines", "a=1\n", "a=2\n", "b=3\n", "b=3\n", ""}, // taken out
		{"lines", "a=1\n", "a=2\n", "b=3\n", "a=2\nb=3\n", "a"},
		{"lines", "a=1\n", "a=2\n", "a=3\n", "a=3\n", ""},
		{"lines", "a=1\n", "a=2\n", "a=3\n", "a=2\n", "a"},
		{"lines", "d=1\nd=2\n", "d=1\nd=2\n", "d=2\nd=1\nd=3\n", "d=1\nd=2\nd=3\n", ""}, // several, in no order
		{"lines", "d=1\nd=2\n", "d=1\nd=2\nd=4\n", "d=2\nd=3\n", "d=2\nd=4\nd=3\n", ""},
		{"lines", "d=1\nd=2\n", "d=1\nd=2\nd=4\n", "d=2\nd=3\n", "d=1\nd=2\nd=4\nd=3\n", "d"},
		{"lines", "d=1\nd=2\n", "d=1\nd=2\nd=4\n", "d=2\nd=3\n", "d=2\nd=3\n", ""},
		{"lines", "d=1\n", "d=2\n", "d=1\nd=1\n", "d=2\nd=1\n", ""},
		{"list", "m\nn\n", "m\nn\no\n", "m\np\n", "m\no\np\n", ""},
		{"list", "m\nn\n", "m\nn\no\n", "m\np\n", "m\nn\no\np\n", "line[]"},
		{"lines", "set=1\n", "set=1\n", "set=2\n", "set=5\n", ""}, // by the profile's rules
		{"lines", "set=1\n", "set=1\n", "set=2\n", "set = \"5\"\n", ""},
		{"lines", "set=1\n", "set=1\n", "set=2\n", "set=2\n", "set"},
		{"lines", "set=1\n", "set=1\n", "set=2\n", "set=5\nset=5\n", "set"},
		{"lines", "gone=0\n", "a=1\n", "gone=0\n", "a=1\n", ""},
		{"lines", "[a]\nnever=1\n", "[a]\nnever=2\n", "[a]\nnever=3\n", "[a]\nnever=2\n", ""},
		{"lines", "[a]\nnever=1\n", "[a]\nnever=2\n", "[a]\nnever=3\n", "[a]\nnever=3\n", "a.never"},
		{"lines", "[b]\nnever=1\n", "[b]\nnever=2\n", "[b]\nnever=3\n", "[b]\nnever=2\n", ""},
		{"json", `{"list":[1]}`, `{"list":[2]}`, `{"list":[3]}`, `{"list":[2]}`, ""},
		{"json", `{"list":[1]}`, `{"list":[2]}`, `{"list":[3]}`, `{"list":[3]}`, "list[]"},
		{"lines", "was=1\n", "is=1\n", "was=2\n", "is=2\n", ""},
		{"lines", "was=1\n", "is=1\n", "was=2\n", "is=1\n", "is"},
		{"lines", "x=1\n", "y=1\n", "x=2\ny=3\n", "y=3\n", "x"}, // which stands there already
		{"lines", "x=1\n", "y=1\n", "x=2\ny=3\n", "y=2\n", "x y"},
	} {
		var old []byte
		if c.old != "" {
			old = []byte(c.old)
		}
		wrong, err := Check(c.format, old, []byte(c.now), []byte(c.mine), []byte(c.merged), rules)
		require.NoError(t, err, c)
		assert.Equal(t, c.wrong, strings.Join(wrong, " "), "%+v", c)
	}
	for i, texts := range [][4]string{{"{", "{}", "{}", "{}"}, {"{}", "{", "{}", "{}"}, {"{}", "{}", "{", "{}"}} {
		_, err := Check("json", []byte(texts[0]), []byte(texts[1]), []byte(texts[2]), []byte(texts[3]), Rules{})
		assert.ErrorContains(t, err, [...]string{"the old default", "the new default", "yours"}[i])
	}
	_, err := Check("no such", nil, nil, nil, nil, Rules{})
	assert.Error(t, err)
}
