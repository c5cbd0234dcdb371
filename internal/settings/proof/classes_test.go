package proof

import (
	"testing"

	"freshkeel/internal/settings"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each class of what operators do to their settings, once, with what must come of it; "" for what can't be set into one text:
// then the merge says so, or another reader does.
var classes = map[string]struct{ file, old, now, mine, want string }{
	"a list that is the whole text": {"members.json", "[\n  \"a\",\n  \"b\"\n]\n", "[\n  \"a\",\n  \"c\"\n]\n", "[\n  \"a\",\n  \"b\",\n  \"d\"\n]\n",
		"[\n  \"a\",\n  \"c\",\n  \"d\"\n]\n"},
	"elements of a list, by each of both": {"a.json", `{"l": ["a", "b", "c"]}`, `{"l": ["a", "b", "c", "n"]}`, `{"l": ["b", "c", "m"]}`,
		`{"l": ["b", "c", "n", "m"]}`},
	"elements with names": {"a.json",
		"{\"l\": [\n  {\"name\": \"a\", \"p\": 1},\n  {\"name\": \"b\", \"p\": 1}\n]}", "{\"l\": [\n  {\"name\": \"n\", \"p\": 1},\n  {\"name\": \"a\", \"p\": 1},\n  {\"name\": \"b\", \"p\": 1}\n]}",
		"{\"l\": [\n  {\"name\": \"a\", \"p\": 1},\n  {\"name\": \"b\", \"p\": 5}\n]}",
		"{\"l\": [\n  {\"name\": \"n\", \"p\": 1},\n  {\"name\": \"a\", \"p\": 1},\n  {\"name\": \"b\", \"p\": 5}\n]}"},
	"an element that both changed":       {"a.yml", "l:\n- name: a\n  p: 1\n- name: b\n  p: 1\n", "l:\n- name: a\n  p: 2\n- name: b\n  p: 1\n", "l:\n- name: a\n  p: 3\n- name: b\n  p: 1\n", ""},
	"a word of a list that both changed": {"a.yml", "l:\n- a\n- b\n- c\n", "l:\n- a\n- x\n- c\n", "l:\n- a\n- y\n- c\n", ""},
	"taken out of the middle, and at the end": {"a.json", "{\n  \"a\": 1,\n  \"b\": 2,\n  \"c\": 3\n}\n", "{\n  \"a\": 1,\n  \"b\": 2,\n  \"n\": 0,\n  \"c\": 3\n}\n", "{\n  \"a\": 1\n}\n",
		"{\n  \"a\": 1,\n  \"n\": 0\n}\n"},
	"all taken out":             {"a.json", `{"a": {"x": 1, "y": 2}, "b": 1}`, `{"a": {"x": 1, "y": 2}, "b": 2}`, `{"a": {}, "b": 1}`, `{"a": {}, "b": 2}`},
	"an empty object is filled": {"a.json", "{\"a\": {}, \"b\": 1}", "{\"a\": {}, \"b\": 2}", "{\"a\": {\"x\": 1, \"y\": 2}, \"b\": 1}", "{\"a\": {\"x\": 1, \"y\": 2}, \"b\": 2}"},
	"an object of the operator's": {"a.json", "{\n  \"a\": 1\n}\n", "{\n  \"a\": 2\n}\n", "{\n  \"a\": 1,\n  \"own\": {\n    \"x\": [1],\n    \"y\": {\"z\": 2}\n  }\n}\n",
		"{\n  \"a\": 2,\n  \"own\": {\n    \"x\": [1],\n    \"y\": {\"z\": 2}\n  }\n}\n"},
	"a section is taken out":                        {"a.yml", "a:\n  x: 1\n  y: 2\nb: 1\n", "a:\n  x: 1\n  y: 2\nb: 2\n", "b: 1\n", "b: 2\n"},
	"a section of the operator's, set in otherwise": {"a.yml", "a:\n  x: 1\n", "a:\n    x: 2\n", "a:\n  x: 1\n  own:\n    y: 2\n    l:\n    - 1\n", "a:\n    x: 2\n    own:\n      y: 2\n      l:\n      - 1\n"},
	"an empty list is filled":                       {"a.yml", "l: []\nb: 1\n", "l: []\nb: 2\n", "l:\n  - x\n  - y\nb: 1\n", "l:\n  - x\n  - y\nb: 2\n"},
	"a list is emptied":                             {"a.yml", "l:\n  - x\n  - y\nb: 1\n", "l:\n  - x\n  - y\nb: 2\n", "l: []\nb: 1\n", "l: []\nb: 2\n"},
	"a text of several lines":                       {"a.yml", "a: |\n  one\n  # two\nb: 1\n", "a: |\n  one\n  # two\n# of b\nb: 2\n", "a: |\n  one\n\n  # three\nb: 1\n", "a: |\n  one\n\n  # three\n# of b\nb: 2\n"},
	"a number in quotes":                            {"a.yml", "a: 123\nb: 1\n", "a: 123\nb: 2\n", "a: \"0123\"\nb: 1\n", "a: \"0123\"\nb: 2\n"},
	"an anchor":                                     {"a.yml", "base: &b\n  x: 1\nc:\n  <<: *b\n  y: 1\n", "base: &b\n  x: 1\nc:\n  <<: *b\n  y: 2\n", "base: &b\n  x: 5\nc:\n  <<: *b\n  y: 1\n", "base: &b\n  x: 5\nc:\n  <<: *b\n  y: 2\n"},
	"keys in quotes, with colons and dots":          {"a.yml", "\"a: b\": 1\n'c.d': 1\n", "\"a: b\": 1\n'c.d': 2\n", "\"a: b\": 5\n'c.d': 1\n", "\"a: b\": 5\n'c.d': 2\n"},
	"lines that end as on Windows":                  {"a.yml", "l:\n- x\n- y\na: 1\n", "l:\n- x\n- y\n- z\na: 2\n", "l:\r\n- x\r\n- y  \r\na: 1\r\n", "l:\n- x\n- y\n- z\na: 2\n"},
	"tables of several, by name": {"a.toml", "[[s]]\nname = \"a\"\nport = 1\n[[s]]\nname = \"b\"\nport = 2\n", "[[s]]\nname = \"n\"\nport = 9\n[[s]]\nname = \"a\"\nport = 1\n[[s]]\nname = \"b\"\nport = 2\n",
		"[[s]]\nname = \"a\"\nport = 1\n[[s]]\nname = \"b\"\nport = 22\n", "[[s]]\nname = \"n\"\nport = 9\n[[s]]\nname = \"a\"\nport = 1\n[[s]]\nname = \"b\"\nport = 22\n"},
	"a table with one below it":                            {"a.toml", "a = 1\n", "a = 2\n", "a = 1\n\n[own]\nx = 1\n[own.in]\ny = 2\n", "a = 2\n\n[own]\nx = 1\n[own.in]\ny = 2\n"},
	"a table is taken out":                                 {"a.toml", "a = 1\n[t]\nx = 1\n[u]\n", "a = 2\n[t]\nx = 1\n[u]\n", "a = 1\n", "a = 2\n"},
	"keys with dots and quotes":                            {"a.toml", "a.b = 1\n\"c.d\" = 1\n", "a.b = 1\n\"c.d\" = 2\n", "a.b = 3\n\"c.d\" = 1\n", "a.b = 3\n\"c.d\" = 2\n"},
	"an array by each of both":                             {"a.toml", "a = [\n  1,\n  2, # two\n]\n", "a = [\n  1,\n  2, # two\n  4,\n]\n", "a = [\n  1,\n  2, # two\n  3,\n]\n", "a = [\n  1,\n  2, # two\n  4,\n  3,\n]\n"},
	"a section twice":                                      {"a.ini", "[peer]\nkey=a\nto=1\n[peer]\nkey=b\nto=1\n", "[peer]\nkey=a\nto=1\n[peer]\nkey=b\nto=1\n[x]\ny=1\n", "[peer]\nkey=a\nto=1\n[peer]\nkey=b\nto=7\n", "[peer]\nkey=a\nto=1\n[peer]\nkey=b\nto=7\n[x]\ny=1\n"},
	"a head with a comment behind it":                      {"a.ini", "[a] ; one\nx=1\n[b] # two\nx=1\n", "[a] ; one\nx=2\n[b] # two\nx=1\n", "[a] ; one\nx=1\n[b] # two\nx=5\n", "[a] ; one\nx=2\n[b] # two\nx=5\n"},
	"a head alone is filled":                               {"a.ini", "[a]\n;x=1\n[b]\ny=1\n", "[a]\n;x=1\n[b]\ny=2\n", "[a]\nx=1\n[b]\ny=1\n", "[a]\nx=1\n;x=1\n[b]\ny=2\n"},
	"a value that goes on":                                 {"a.properties", "a=1 \\\n  2\nb=1\n", "a=1 \\\n  2\nb=2\n", "a=1 \\\n  3 \\\n  4\nb=1\n", "a=1 \\\n  3 \\\n  4\nb=2\n"},
	"a flag by itself is taken out":                        {"a.conf", "fast\nport 1\nname a\ntime 2\n", "fast\nport 1\nname b\ntime 2\n", "port 1\nname a\ntime 2\n", "port 1\nname b\ntime 2\n"},
	"a line that is no key":                                {"a.ini", "[a]\nx=1\ny=1\n", "[a]\nx=2\ny=1\n", "[a]\nx=1\ny=1\ninclude mine\n", ""},
	"comments of the operator's":                           {"a.conf", "# what a is\na=1\nb=1\n", "# what a does\na=1\nb=2\n", "# what a is\n# mine: for tuesdays\na=5 # by hand\nb=1\n", "# what a does\n# mine: for tuesdays\na=5 # by hand\nb=2\n"},
	"an element is filled":                                 {"a.xml", "<p><a></a><b/><c>1</c></p>", "<p><a></a><b/><c>2</c></p>", "<p><a>x</a><b>y</b><c>1</c></p>", "<p><a>x</a><b>y</b><c>2</c></p>"},
	"an element with others in it":                         {"a.xml", "<p>\n  <a>1</a>\n</p>", "<p>\n  <a>2</a>\n</p>", "<p>\n  <a>1</a>\n  <own>\n    <x>1</x>\n  </own>\n</p>", "<p>\n  <a>2</a>\n  <own>\n    <x>1</x>\n  </own>\n</p>"},
	"elements that have one name":                          {"a.xml", "<p>\n  <m><t>a</t><q>1</q></m>\n  <m><t>b</t><q>1</q></m>\n</p>", "<p>\n  <m><t>n</t><q>1</q></m>\n  <m><t>a</t><q>1</q></m>\n  <m><t>b</t><q>1</q></m>\n</p>", "<p>\n  <m><t>a</t><q>1</q></m>\n  <m><t>b</t><q>5</q></m>\n</p>", "<p>\n  <m><t>n</t><q>1</q></m>\n  <m><t>a</t><q>1</q></m>\n  <m><t>b</t><q>5</q></m>\n</p>"},
	"a section that its makers took out, with yours in it": {"a.yml", "a:\n  x: 1\nb: 1\n", "b: 2\n", "a:\n  x: 1\n  own: 5\nb: 1\n", ""},
}

func TestEachClassOfEdit(t *testing.T) {
	for name, c := range classes {
		now, err := settings.Read(c.file, []byte(c.now))
		require.NoError(t, err, name)
		old, err := settings.ReadAs(now.Format, []byte(c.old))
		require.NoError(t, err, name)
		mine, err := settings.ReadAs(now.Format, []byte(c.mine))
		require.NoError(t, err, name)
		m, err := settings.Merge(old, now, mine, settings.Rules{})
		if err != nil {
			assert.Empty(t, c.want, "%s: %v", name, err)
			continue
		}
		wrong, err := Check(now.Format, []byte(c.old), []byte(c.now), []byte(c.mine), m.Text, Rules{})
		require.NoError(t, err, name)
		if c.want == "" {
			assert.NotEmpty(t, wrong, "%s: is said to be right:\n%s", name, m.Text)
			continue
		}
		assert.Empty(t, wrong, "%s:\n%s", name, m.Text)
		assert.Equal(t, c.want, string(m.Text), name)
	}
}
