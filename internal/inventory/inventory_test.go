package inventory

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"freshkeel/internal/logbook"
	"freshkeel/internal/tree"
)

// Our own files in an install may have been in other hands: none of them leads out
// of it, whatever stands in it.
func FuzzOurOwnFiles(f *testing.F) {
	f.Add([]byte(`{"format":"freshkeel-logbook/1","id":"r0001","kind":"refit","phase":"swapping"}`), []byte("{\"format\":\"freshkeel-inventory/2\",\"version\":\"1\"}\n{\"path\":\"a\",\"kind\":\"file\",\"mode\":420,\"uid\":0,\"gid\":0,\"seen_at\":1}\n{\"end\":1}\n"))
	f.Add([]byte(`{"format":"freshkeel-logbook/1","id":"../../r0001"}`), []byte("{\"format\":\"freshkeel-inventory/2\"}\n{\"path\":\"../a\",\"kind\":\"file\"}\n"))
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
