package settings

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each format with each fate of a key: «kept» was never touched, «mine» the operator changed,
// «both» the maker and the operator, «maker» the maker alone, «gone» the maker dropped, «own» the
// operator added, «new» the maker did, «out» the operator took out.
var formats = map[string]struct{ file, old, now, mine, want string }{
	"lines": {"pond.conf",
		"# pond\nkept = 1\nmine = 2\nboth = 3\nmaker=4\ngone = 5\nout = 6\n",
		"# pond 2\nnew: yes\nkept = 1\nmine = 2  # how many\n\nboth = 33\nmaker=44\nout = 6\n",
		"# pond\nkept = 1\nmine = two and a half\nown = 9\nboth = three\nmaker=4\ngone = five\n",
		"# pond 2\nnew: yes\nkept = 1\nmine = two and a half  # how many\nown = 9\n\nboth = three\nmaker=44\n"},
	"sections": {"pond.ini",
		"[a]\nkept=1\nmine=2\n[b]\nboth=3\nmaker=4\ngone=5\nout=6\n",
		"; new\n[b]\nboth=33\nmaker=44\nnew=7\nout=6\n[a]\nkept=1\nmine=2\n",
		"[a]\nkept=1\nmine=\"2 3\"\n[b]\nboth=three\nmaker=4\ngone=five\nown=9\n[mods]\nhop=1\n",
		"; new\n[b]\nboth=three\nmaker=44\nown=9\nnew=7\n[a]\nkept=1\nmine=\"2 3\"\n\n[mods]\nhop=1\n"},
	"lines that end as on Windows": {"pond.cfg",
		"kept=1\r\nmine=2\r\nboth=3\r\nmaker=4\r\ngone=5\r\nout=6\r\n",
		"\xef\xbb\xbfkept=1\r\nmine=2\r\nboth=33\r\nmaker=44\r\nnew=7\r\nout=6\r\n",
		"kept=1\nmine=b\nown=9\nboth=c\nmaker=4\ngone=e\n",
		"\xef\xbb\xbfkept=1\r\nmine=b\r\nown=9\r\nboth=c\r\nmaker=44\r\nnew=7\r\n"},
	"toml": {"pond.toml",
		"kept = 1\nmine = [\n  1,\n]\n[a]\nboth = \"x\" # what\nmaker = 'm'\ngone = 5\nout = 6\n",
		"kept = 1\nmine = [ 1 ]\nnew = true\n[a]\n# of both\nboth = \"y\" # what\nmaker = 'n'\nout = 6\n",
		"kept = 1\nmine = [\n  1,\n  2, # two\n]\n[a]\nboth = \"z # z\"\nown = { x = 1 }\nmaker = 'm'\ngone = 7\n",
		"kept = 1\nmine = [\n  1,\n  2, # two\n]\nnew = true\n[a]\n# of both\nboth = \"z # z\" # what\nown = { x = 1 }\nmaker = 'n'\n"},
	"yaml": {"pond.yml",
		"kept: 1\nmine: 2\na:\n  both: 3\n  maker: 4\n  gone: 5\n  out: 6\nlist:\n- x\n- y\n",
		"kept: 1\nmine: 2 # m\na:\n  both: 33\n  new: |\n    one\n    two\n  maker: 44\n  out: 6\nlist:\n- x\n- y\n- z\n",
		"kept: 1\nmine: 'two: 2'\na:\n  both: three\n  own: 9\n  maker: 4\n  gone: five\nlist:\n- x\n- w\n",
		"kept: 1\nmine: 'two: 2' # m\na:\n  both: three\n  own: 9\n  new: |\n    one\n    two\n  maker: 44\nlist:\n- x\n- z\n- w\n"},
	"json": {"pond.json",
		"{\n  \"kept\": 1,\n  \"mine\": 2,\n  \"a\": { \"both\": 3, \"maker\": [4], \"gone\": 5 }\n}\n",
		"{\n  // pond\n  \"kept\": 1,\n  \"mine\": 2, /* m */\n  \"new\": null,\n  \"a\": { \"both\": 33, \"maker\": [44] },\n}\n",
		"{\n  \"kept\": 1,\n  \"mine\": \"b}\",\n  \"own\": {\"x\": 1},\n  \"a\": { \"both\": \"c\", \"maker\": [4], \"gone\": 6, \"o\": 9 }\n}\n",
		"{\n  // pond\n  \"kept\": 1,\n  \"mine\": \"b}\", /* m */\n  \"own\": {\"x\": 1},\n  \"new\": null,\n  \"a\": { \"both\": \"c\", \"maker\": [44], \"o\": 9 },\n}\n"},
	"xml": {"pond.xml",
		"<pond>\n  <kept>1</kept>\n  <p name=\"mine\" value=\"2\"/>\n  <both>3</both>\n  <maker>4</maker>\n  <gone>5</gone>\n</pond>\n",
		"<?xml version=\"1.0\"?>\n<pond>\n  <!-- new -->\n  <kept>1</kept>\n  <p name=\"mine\" value=\"2\"/>\n  <new>7</new>\n  <both>33</both>\n  <maker>44</maker>\n</pond>\n",
		"<pond>\n  <kept>1</kept>\n  <p name=\"mine\" value=\"two\"/>\n  <both>c</both>\n  <own>9</own>\n  <maker>4</maker>\n  <gone>e</gone>\n</pond>\n",
		"<?xml version=\"1.0\"?>\n<pond>\n  <!-- new -->\n  <kept>1</kept>\n  <p name=\"mine\" value=\"two\"/>\n  <new>7</new>\n  <both>c</both>\n  <own>9</own>\n  <maker>44</maker>\n</pond>\n"},
	"xml of another encoding": {"pond.xml",
		"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\n<p><a>gr\xfcn</a><b>1</b></p>\n",
		"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\n<p><a>gr\xfcn</a><c>\xe4</c><b>1</b></p>\n",
		"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\n<p><a>gr\xfcn</a><b>zw\xf6lf</b></p>\n",
		"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\n<p><a>gr\xfcn</a><c>\xe4</c><b>zw\xf6lf</b></p>\n"},
	"blocks": {"pond.cfg",
		"class Pond {\n  kept = 1;\n  mine = 2;\n  class A\n  {\n    both[] = {\"x\"};\n    maker = 4; // m\n    gone = 5;\n    out = 6;\n  };\n};\n",
		"class Pond {\n  kept = 1;\n  new = 7;\n  mine = 2;\n  class A\n  {\n    both[] = {\n      \"y\",\n      \"z\"\n    };\n    maker = 44; // m\n    out = 6;\n  };\n};\n",
		"class Pond {\n  kept = 1;\n  mine = \"b;\";\n  class A\n  {\n    both[] = {\"a\",\"b\"};\n    own = 9;\n    maker = 4; // m\n    gone = 6;\n  };\n};\n",
		"class Pond {\n  kept = 1;\n  new = 7;\n  mine = \"b;\";\n  class A\n  {\n    both[] = {\"a\",\"b\"};\n    own = 9;\n    maker = 44; // m\n  };\n};\n"},
	"a list": {"members.txt",
		"# members\nwren\ntib\nash\n", "# members, one a line\nwren\nash\nelm\n", "# members\nwren\nash\nmoss\n",
		"# members, one a line\nwren\nash\nelm\nmoss\n"},
	"repeated keys": {"bans.conf",
		"ban = a\nban = b\nname = x\n", "ban = a\nban = b\nban = c\nname = x\n", "ban = b\nban = d\nname = y\n",
		"ban = b\nban = c\nban = d\nname = y\n"},
}

func read(t *testing.T, name, text string) *Doc {
	d, err := Read(name, []byte(text))
	require.NoError(t, err, text)
	return d
}

func TestEachFormatWithEachFateOfAKey(t *testing.T) {
	for name, c := range formats {
		old, now, mine := read(t, c.file, c.old), read(t, c.file, c.now), read(t, c.file, c.mine)
		m, err := Merge(old, now, mine, Rules{})
		require.NoError(t, err, name)
		assert.Equal(t, c.want, string(m.Text), name)
		for _, d := range []*Doc{old, now, mine} { // merging with itself changes nothing
			self, err := Merge(d, d, d, Rules{})
			require.NoError(t, err, name)
			assert.Equal(t, string(d.Text()), string(self.Text), name)
			assert.Empty(t, self.Changes, name)
		}
		// Carried on to a build that changes nothing, all of it stays.
		again, err := Merge(now, now, read(t, c.file, string(m.Text)), Rules{})
		require.NoError(t, err, name)
		assert.Equal(t, string(m.Text), string(again.Text), name)
	}
}

func TestFatesAndRulesAreTold(t *testing.T) {
	c := formats["lines"]
	old, now, mine := read(t, c.file, c.old), read(t, c.file, c.now), read(t, c.file, c.mine)
	fates := func(m *Merged) string {
		var out []string
		for _, c := range m.Changes {
			out = append(out, fmt.Sprintf("%s %s", c.Key, c.Fate))
		}
		return strings.Join(out, ", ")
	}
	m, err := Merge(old, now, mine, Rules{})
	require.NoError(t, err)
	assert.Equal(t, "mine carried, own added, both both, maker default, gone dropped, out removed, new new", fates(m))
	assert.Len(t, m.Doubts(), 2)
	m, err = Merge(nil, now, mine, Rules{})
	require.NoError(t, err)
	assert.True(t, m.Unsure)
	assert.Equal(t, "mine carried, own added, both carried, maker carried, gone added, new new, out new", fates(m))

	m, err = Merge(old, now, mine, Rules{Always: map[string]string{"mine": "5000"}, Never: tree.Patterns{"bo*"},
		Rename: map[string]string{"gone": "new"}})
	require.NoError(t, err)
	assert.Equal(t, "own added, maker default, new both, out removed, mine set", fates(m))
	assert.Contains(t, string(m.Text), "new: five\n")
	assert.Contains(t, string(m.Text), "mine = 5000  # how many\n")
	assert.Contains(t, string(m.Text), "both = 33\n")

	// What was dropped may have another name now.
	m, err = Merge(read(t, "a.conf", "night-length = 20\n"), read(t, "a.conf", "night_length = 20\nday = 1\n"),
		read(t, "a.conf", "night-length = 30\n"), Rules{})
	require.NoError(t, err)
	require.Len(t, m.Doubts(), 1)
	assert.Equal(t, "night_length", m.Doubts()[0].Like)
}

func TestWhatIsNoSettingsIsNotGuessedAt(t *testing.T) {
	for name, c := range map[string][3]string{
		"json that does not end":  {"a.json", "{\n \"a\": 1,\n", "line 3, column 1"},
		"json without a colon":    {"a.json", "{\n \"a\" 1 }", "line 2, column 6"},
		"xml that does not end":   {"a.xml", "<a>\n<b>1</b>\n", "line 3"},
		"toml with a bad value":   {"a.toml", "a = 1\nb = = 2\n", "line 2, column 5"},
		"a block that ends twice": {"a.cfg", "class A {\n a = 1;\n};\n};\nclass B {\n};\n", "line 4, column 1"},
		"yaml that is none":       {"a.yml", "a: [1\nb: }", "it is no YAML"},
		"a script":                {"a.conf", "#!/bin/sh\nA=1\nB=2\nrun\n", "it is a script"},
		"sixteen bits":            {"a.ini", "\xff\xfea\x00=\x001\x00", "line 1"},
		"prose":                   {"a.txt", "Once: upon a time\nthere was a pond\nand so on\n", "no format"},
	} {
		_, err := Read(c[0], []byte(c[1]))
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), c[2], name)
	}
}

// A line of the operator's that is no setting would be lost: then nothing is merged.
func TestALineThatIsNoSettingIsNeverLost(t *testing.T) {
	old, now := "a = 1\nb = 2\nc = 3\ninclude more\n", "a = 1\nb = 3\nc = 3\ninclude more\n"
	_, err := Merge(
		read(t, "x.conf", old),
		read(t, "x.conf", now),
		read(t, "x.conf", "a = 1\nb = 2\nc = 4\ninclude mine\n"),
		Rules{},
	)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "line 4, column 1: 'include mine'")
	m, err := Merge(
		read(t, "x.conf", old),
		read(t, "x.conf", now),
		read(t, "x.conf", "a = 1\nb = 2\nc = 4\ninclude more\n"),
		Rules{},
	)
	require.NoError(t, err)
	assert.Equal(t, "a = 1\nb = 3\nc = 4\ninclude more\n", string(m.Text))
}

// Twenty thousand keys in a megabyte are no work.
func TestAFileOfAMegabyteMergesQuickly(t *testing.T) {
	var old, now, mine bytes.Buffer
	for i := range 20_000 {
		fmt.Fprintf(&old, "key.number.%05d = value of the old default %d\n", i, i)
		fmt.Fprintf(&now, "key.number.%05d = value of the new default %d\n", i, i/2*2)
		fmt.Fprintf(&mine, "key.number.%05d = value of the operator's own %d\n", i, i%3)
	}
	began := time.Now()
	m, err := Merge(
		read(t, "a.conf", old.String()),
		read(t, "a.conf", now.String()),
		read(t, "a.conf", mine.String()),
		Rules{},
	)
	require.NoError(t, err)
	assert.Equal(t, mine.String(), string(m.Text))
	if os.Getenv("FRESHKEEL_BENCH") != "" {
		t.Log(time.Since(began))
	}
}

// Reading any text of any format gives back every byte, and merging it with itself changes none.
func FuzzReadAndMergeWithItself(f *testing.F) {
	for _, c := range formats {
		for _, text := range []string{c.old, c.now, c.mine, c.want} {
			f.Add(c.file, []byte(text))
		}
	}
	f.Fuzz(func(t *testing.T, name string, text []byte) {
		d, err := Read(name, text)
		if err != nil {
			return
		}
		for _, it := range d.Items {
			require.True(
				t,
				0 <= it.from && it.from <= it.start && it.start <= it.end && it.end <= it.to && it.to <= len(text),
			)
			require.Equal(t, string(text[it.start:it.end]), it.Value)
		}
		m, err := Merge(d, d, d, Rules{})
		require.NoError(t, err)
		require.Equal(t, string(text), string(m.Text))
		if m, err = Merge(nil, d, d, Rules{}); err == nil {
			require.Equal(t, string(text), string(m.Text))
		}
	})
}
