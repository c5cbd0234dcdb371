package tree

import (
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
		"gardens": "gardens/**", "gardens/a/b": "gardens/**", "gardens2/a": "", "members.txt": "*.txt", "deep/members.txt": "",
		"conf/a.d/x1": "conf/*.d/x?", "conf/a.d/x12": "", "": "",
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
	assert.Equal(t, []string{"a", "b", "b/.freshkeel", "b/.freshkeel/kept", "b/f", "z"}, paths)
	by := ByPath(list)
	assert.Equal(t, Link, by["z"].Kind)
	assert.Equal(t, "/nowhere", by["z"].Target)
	assert.EqualValues(t, 1, by["a"].Size)
	assert.EqualValues(t, 0o640, by["a"].Mode)
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
