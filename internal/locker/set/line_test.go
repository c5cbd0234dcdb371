package set

import (
	"bufio"
	"bytes"
	"encoding/json"
	"testing"

	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A line is exactly what the JSON package writes, and reads back as the file.
func TestALineIsPlainJSON(t *testing.T) {
	one, two := tree.SumBytes([]byte("one")), tree.SumBytes([]byte("two"))
	var each lines
	for _, f := range []File{
		{Entry: tree.Entry{Path: "gardens", Kind: tree.Dir, Mode: 0o755, UID: tree.NoID, GID: tree.NoID}},
		{Entry: tree.Entry{Path: "gärten/fen <&>", Kind: tree.File, Mode: 0o644, UID: 1000, GID: 1000, Size: 9,
			Mtime: -5, Inode: 7, Ctime: 8}, Sum: one, Pieces: []tree.Sum{one, two}, ReadAt: 3, Moving: true,
			Sparse: true},
		{Entry: tree.Entry{Path: "kept", Kind: tree.Dir}, Xattr: map[string][]byte{"user.keeper": []byte("Ada")}},
		{Entry: tree.Entry{Path: "link", Kind: tree.Link, Target: "../x"}},
		{Entry: tree.Entry{Path: "with \"quotes\"\n", Kind: tree.Link, Target: "\u2028\\"}},
		{Entry: tree.Entry{Path: "not changed since it was made", Kind: tree.File, Size: 3, Mtime: 12, Inode: 7,
			Ctime: 12}, Sum: two, Pieces: []tree.Sum{two}},
		{Entry: tree.Entry{Path: "and with an attribute", Kind: tree.File, Size: 3, Mtime: 12, Inode: 7, Ctime: 12},
			Sum: two, Pieces: []tree.Sum{two}, Xattr: map[string][]byte{"user.x": {1}}},
		{Entry: tree.Entry{Path: "not utf-8 \xff", Kind: tree.File, Size: 1}, Sum: two, Pieces: []tree.Sum{two}},
	} {
		got, err := appendLine(nil, &f)
		require.NoError(t, err)
		read, err := each.parse(bytes.TrimSuffix(got, []byte("\n")))
		require.NoError(t, err)
		if len(f.Pieces) == 1 { // which its own hash tells
			assert.Equal(t, f.Pieces, read.PieceSums())
			f.Pieces = nil
		}
		assert.Equal(t, f, read)
		var line wideLine
		require.NoError(t, json.Unmarshal(got, &line), "%s", got)
		if line.rawNames.Path != nil {
			continue // its JSON name is but a likeness
		}
		var c bytes.Buffer
		enc := json.NewEncoder(&c)
		enc.SetEscapeHTML(false)
		require.NoError(t, enc.Encode(line))
		assert.Equal(t, c.String(), string(got))
	}
}

// Whatever a line holds, both ways of reading it say the same.
func FuzzLine(f *testing.F) {
	one := tree.SumBytes([]byte("one")).String()
	f.Add([]byte(`{"path":"a/b","kind":"file","mode":420,"uid":0,"gid":-1,"size":9,"mtime":1,"inode":7,"ctime":8,"sum":"` + one + `","pieces":["` + one + `","` + one + `"],"read_at":3,"moving":true}`))
	f.Add([]byte(`{"path":"a","kind":"link","mode":511,"uid":0,"gid":0,"target":"b"}`))
	f.Add([]byte(`{"path":"a\u00e4","kind":"dir","mode":1e2,"uid":0,"gid":01,"raw_path":"/w=="}`))
	f.Fuzz(func(t *testing.T, line []byte) {
		var each lines
		var direct File
		if !each.direct(&tree.Line{Rest: line}, &direct) {
			return
		}
		var w wideLine
		if err := json.Unmarshal(line, &w); err != nil {
			t.Fatalf("JSON refuses what was read: %v", err)
		}
		require.Equal(t, w.File, direct)
	})
}

// Whatever a set of a copy holds, it is read within bounds, and no entry of it would
// be laid out outside its folder.
func FuzzDecodeSet(f *testing.F) {
	f.Add([]byte(`{"format":"freshkeel-set/1","owner":"server-1","id":"b0001","files":1}` + "\n" +
		`{"path":"a","kind":"file","mode":420,"uid":0,"gid":0}` + "\n" + `{"end":1}` + "\n"))
	f.Add([]byte(`{"format":"freshkeel-set/1","files":99999999999}` + "\n" +
		`{"path":"../a","kind":"link","target":"/etc"}` + "\n" + `{"end":1}` + "\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := decodeSet(bufio.NewReader(bytes.NewReader(b)), false)
		if err != nil || Contained(s.Entries) != nil {
			return
		}
		for _, e := range s.Entries {
			if !tree.Local(e.Path) {
				t.Errorf("%q got through", e.Path)
			}
		}
	})
}
