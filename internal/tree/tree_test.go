package tree

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPatternsMatchWholePaths(t *testing.T) {
	p := Patterns{"gardens/**", "*.txt", "conf/*.d/x?"}
	for path, want := range map[string]string{
		"gardens": "gardens/**", "gardens/a/b": "gardens/**", "gardens2/a": "", "members.txt": "*.txt",
		"deep/members.txt": "",
		"conf/a.d/x1":      "conf/*.d/x?", "conf/a.d/x12": "", "": "",
	} {
		assert.Equal(t, want, p.Which(path), path)
	}
	for _, bad := range []string{"", "/etc/**", `a\b`, "[", "{a"} {
		assert.Error(t, Patterns{bad}.Check(), bad)
	}
}

func TestWalkDescribesAndLeavesOut(t *testing.T) {
	dir := t.TempDir()
	for _, at := range []string{"b/f", "a", "logs/x", ".freshkeel/state", "b/.freshkeel/kept"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, at)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, at), []byte(at), 0o640))
	}
	require.NoError(t, os.Symlink("/nowhere", filepath.Join(dir, "z")))
	sock, err := net.Listen("unix", filepath.Join(dir, "s.sock"))
	require.NoError(t, err)
	defer sock.Close()
	list, err := Walk(dir, Patterns{"logs/**"})
	require.NoError(t, err)
	var paths []string
	for _, e := range list {
		paths = append(paths, e.Path)
	}
	assert.Equal(t, []string{"a", "b", "b/f", "z"}, paths)
	by := List(list)
	assert.Equal(t, Link, by.At("z").Kind)
	assert.Equal(t, "/nowhere", by.At("z").Target)
	assert.EqualValues(t, 1, by.At("a").Size)
	assert.EqualValues(t, 0o640, by.At("a").Mode)
	_, err = Walk(filepath.Join(dir, "a"), nil)
	assert.ErrorContains(t, err, "is not a folder")
}

// Times prove that a file was not written to only when it was read well after
// its last change: a clock has ticks.
func TestTimesProveNothingWithinATick(t *testing.T) {
	at := filepath.Join(t.TempDir(), "f")
	require.NoError(t, os.WriteFile(at, []byte("a"), 0o644))
	e, ok, err := Describe(at, "f")
	require.NoError(t, err)
	require.True(t, ok)
	assert.False(t, e.Settled(time.Now().UnixNano()))
	assert.True(t, e.Settled(time.Now().Add(time.Minute).UnixNano()))

	require.NoError(t, os.Rename(at, at+"2"))
	moved, _, _ := Describe(at+"2", "f")
	assert.True(t, moved.SameContentTimes(e), "a rename leaves all but the change time")
	require.NoError(t, os.WriteFile(at+"2", []byte("b"), 0o644))
	require.NoError(t, os.Chtimes(at+"2", time.Unix(0, e.Mtime), time.Unix(0, e.Mtime)))
	forged, _, _ := Describe(at+"2", "f")
	assert.False(t, forged.SameIdentity(e), "the change time can't be forged")
}

func TestWriteFileReplacesWholeOrNotAtAll(t *testing.T) {
	dir := t.TempDir()
	at := filepath.Join(dir, "f")
	require.NoError(t, WriteFile(at, []byte("old"), 0o600))
	require.NoError(t, WriteFile(at, []byte("new"), 0o640))
	b, _ := os.ReadFile(at)
	assert.Equal(t, "new", string(b))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "d"), 0o755))
	assert.Error(t, WriteFile(filepath.Join(dir, "d"), []byte("x"), 0o600))
	list, _ := os.ReadDir(dir)
	assert.Len(t, list, 2, "no temporary file stays")
}

func TestSumsReadAndWriteThemselves(t *testing.T) {
	at := filepath.Join(t.TempDir(), "f")
	require.NoError(t, os.WriteFile(at, []byte("moss"), 0o600))
	s, err := SumFile(at)
	require.NoError(t, err)
	assert.Equal(t, SumBytes([]byte("moss")), s)
	// The hash of nothing, from the BLAKE3 paper's test vectors.
	assert.Equal(t, "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262", SumBytes(nil).String())
	text, _ := s.MarshalText()
	var back Sum
	require.NoError(t, back.UnmarshalText(text))
	assert.Equal(t, s, back)
	for _, bad := range []string{"", "zz", string(text[:62])} {
		assert.Error(t, back.UnmarshalText([]byte(bad)))
	}
}

// A walk on every core finds what a look at each path finds, in order.
func TestAWalkFindsWhatALookAtEachPathFinds(t *testing.T) {
	dir := t.TempDir()
	for i := range 300 {
		full := filepath.Join(dir, fmt.Sprintf("d%02d/e%d", i%17, i%5), fmt.Sprint("f", i))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(fmt.Sprint(i)), 0o640))
	}
	require.NoError(t, os.Symlink("d00", filepath.Join(dir, "link")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "d01"), 0o755|os.ModeSticky|os.ModeSetgid))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, StateFolder, "x"), 0o755))
	list, err := Walk(dir, Patterns{"d02/**"})
	require.NoError(t, err)
	seen := map[string]bool{}
	for i, e := range list {
		if i > 0 {
			assert.Less(t, list[i-1].Path, e.Path)
		}
		seen[e.Path] = true
		at, ok, err := Describe(filepath.Join(dir, e.Path), e.Path)
		require.NoError(t, err)
		require.True(t, ok)
		assert.Equal(t, at, e)
	}
	assert.Len(t, seen, len(list))
	assert.True(t, seen["d03/e0/f20"] && seen["link"] && !seen["d02/e0/f70"] && !seen[StateFolder])
	_, err = Walk(filepath.Join(dir, "link-to-nothing"), nil)
	assert.Error(t, err)
}

// What can't be written whole is not there at all: the old file stays.
func TestWritingByHalvesLeavesTheOldFile(t *testing.T) {
	at := filepath.Join(t.TempDir(), "f")
	require.NoError(t, WriteFile(at, []byte("old"), 0o600))
	err := WriteBy(at, 0o600, func(w io.Writer) error {
		io.WriteString(w, "half of the n")
		return errors.New("the pen broke")
	})
	assert.EqualError(t, err, "the pen broke")
	b, err := os.ReadFile(at)
	require.NoError(t, err)
	assert.Equal(t, "old", string(b))
	list, err := os.ReadDir(filepath.Dir(at))
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing is left beside it")
}

// The keys of an entry are what the JSON package writes, and any other line is left
// to it.
func TestAnEntrysLineIsPlainJSON(t *testing.T) {
	for _, e := range []Entry{
		{Path: "a", Kind: Dir, Mode: 0o755, UID: NoID, GID: NoID},
		{Path: "b <&> ä", Kind: File, Mode: 0o4755, UID: 1, GID: 2, Size: 1 << 40, Mtime: -1, Inode: 1 << 60, Ctime: 7},
		{Path: "c", Kind: Link, Target: "../d"},
	} {
		require.True(t, Plain(e.Path))
		text := append(AppendEntry(nil, &e), '}')
		var read Entry
		require.NoError(t, json.Unmarshal(text, &read))
		assert.Equal(t, e, read)
		c := Line{Rest: text}
		read = Entry{}
		assert.True(t, c.Entry(&read) && c.End())
		assert.Equal(t, e, read)
	}
	for _, s := range []string{"a\"b", "a\\b", "a\nb", "a\u2028b", "a\xffb", "a\x7fb"} {
		assert.False(t, Plain(s), "%q", s)
	}
	for _, line := range []string{`{"path":"a"}`, `{"kind":"file","path":"a"}`,
		`{"path":"a","kind":"pipe","mode":1,"uid":0,"gid":0}`, `{"path":"a","kind":"file","mode":01,"uid":0,"gid":0}`,
		`{"path":"a","kind":"file","mode":9999999999,"uid":0,"gid":0}`,
		`{"path":"a\u0041","kind":"file","mode":1,"uid":0,"gid":0}`} {
		c := Line{Rest: []byte(line)}
		assert.False(t, c.Entry(&Entry{}) && c.End(), line)
	}
}

// Hashes are those of the BLAKE3 paper's test vectors, in one go or in pieces.
func TestAHashIsBLAKE3(t *testing.T) {
	b := make([]byte, 102400)
	for i := range b {
		b[i] = byte(i % 251)
	}
	for n, want := range map[int]string{
		1:      "2d3adedff11b61f14c886e35afa036736dcd87a74d27b5c1510225d0f592e213",
		1024:   "42214739f095a406f3fc83deb889744ac00df831c10daa55189b5d121c855af7",
		1025:   "d00278ae47eb27b34faecf67b4fe263f82d5412916c1ffd97c8cb7fb814b8444",
		2048:   "e776b6028c7cd22a4d0ba182a8bf62205d2ef576467e838ed6f2529b85fba24a",
		len(b): "bc3e3d41a1146b069abffad3c0d44860cf664390afce4d9661f7902e7943e085",
	} {
		assert.Equal(t, want, SumBytes(b[:n]).String(), "%d bytes", n)
		h := NewHash()
		for at, step := 0, 1; at < n; at, step = at+step, step*3 {
			step = min(step, n-at)
			h.Write(b[at : at+step])
		}
		assert.Equal(t, want, h.Sum().String(), "%d bytes", n)
	}
}
