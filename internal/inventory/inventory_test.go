package inventory

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"freshkeel/internal/logbook"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Our own files in an install may have been in other hands: none of them leads out
// of it, whatever stands in it.
func FuzzOurOwnFiles(f *testing.F) {
	f.Add(
		[]byte(`{"format":"freshkeel-logbook/1","id":"r0001","kind":"refit","phase":"swapping"}`),
		[]byte(
			"{\"format\":\"freshkeel-inventory/2\",\"version\":\"1\"}\n{\"path\":\"a\",\"kind\":\"file\",\"mode\":420,\"uid\":0,\"gid\":0,\"seen_at\":1}\n{\"end\":1}\n",
		),
	)
	f.Add([]byte(`{"format":"freshkeel-logbook/1","id":"../../r0001"}`),
		[]byte("{\"format\":\"freshkeel-inventory/2\"}\n{\"path\":\"../a\",\"kind\":\"file\"}\n"))
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, entry, text []byte) {
		at := filepath.Join(dir, "r0001.json")
		if err := os.WriteFile(at, entry, 0o600); err != nil {
			t.Fatal(err)
		}
		if e, err := (logbook.Book{Dir: dir}).Get("r0001"); err == nil && e.ID != "r0001" {
			t.Errorf("an entry that calls itself %q", e.ID)
		}
		s, err := scan(bytes.NewReader(text), "inventory.json")
		if err != nil {
			return
		}
		inv, err := s.all()
		if err != nil {
			return
		}
		for _, o := range inv.Files {
			if !tree.Local(o.Path) {
				t.Errorf("the inventory names %q", o.Path)
			}
		}
	})
}

// An inventory is read file by file in the order of paths, copied with what is changed, and
// believed only whole.
func TestAnInventoryIsReadInOrderAndWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "inventory.json")
	inv := &Inventory{Version: "1", Known: true}
	for _, at := range []string{"b", "a/\u2028 \"x\"", "a/b"} {
		inv.Files = append(inv.Files, Owned{Entry: tree.Entry{Path: at, Kind: tree.File, Size: 3, Mtime: 7},
			Sum: tree.SumBytes([]byte(at)), Layer: "l"})
	}
	require.NoError(t, Write(path, inv))
	read, err := Load(path)
	require.NoError(t, err)
	assert.Equal(t, inv, read)
	assert.IsIncreasing(t, []string{read.Files[0].Path, read.Files[1].Path, read.Files[2].Path})

	s, err := Open(path)
	require.NoError(t, err)
	defer s.Close()
	s.Head.Version = "2"
	require.NoError(t, s.CopyTo(path, func(o *Owned) { o.SeenAt = 9 }), "onto itself")
	assert.Nil(t, s.f, "Windows replaces no file that is open")
	read, err = Load(path)
	require.NoError(t, err)
	assert.Equal(t, "2", read.Version)
	for _, o := range read.Files {
		assert.EqualValues(t, 9, o.SeenAt, o.Path)
	}

	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	lines := bytes.SplitAfter(whole, []byte("\n"))
	for why, text := range map[string][][]byte{
		"it is cut short": lines[:len(lines)-2], "does not come after": {lines[0], lines[2], lines[1], lines[4]},
		"not an inventory of format": lines[1:],
	} {
		require.NoError(t, os.WriteFile(path, bytes.Join(text, nil), 0o600))
		_, err := Load(path)
		assert.ErrorContains(t, err, why)
		other := path + ".copy"
		if s, err := Open(path); err == nil {
			assert.ErrorContains(t, s.CopyTo(other, nil), why)
			s.Close()
		}
		assert.NoFileExists(t, other, "nothing half is left")
	}
}
