package freshkeel

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sort"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
)

const inventoryFormat = "freshkeel-inventory/1"

// Inventory is what was put into the install: by the last refit, or found
// there by Adopt.
type Inventory struct {
	Format  string    `json:"format"`
	Version string    `json:"version"` // "" when not known
	Channel string    `json:"channel,omitempty"`
	Build   string    `json:"build,omitempty"` // set in the locker
	Known   bool      `json:"known"`           // Files are exactly the build's; else all that was found
	At      time.Time `json:"at"`
	Layers  []Laid    `json:"layers,omitempty"`  // over the build, in order
	Without []string  `json:"without,omitempty"` // layers that the operator went without
	Files   []Owned   `json:"files"`
}

// Owned is one file of the inventory.
type Owned struct {
	tree.Entry
	Sum    tree.Sum `json:"sum,omitzero"`    // as the build has it
	Layer  string   `json:"layer,omitempty"` // whose file it is; "": the build's
	SeenAt int64    `json:"seen_at"`         // nanoseconds since 1970, when its identity was noted
}

func (inv *Inventory) byPath() map[string]Owned {
	m := make(map[string]Owned, len(inv.Files))
	for _, o := range inv.Files {
		m[o.Path] = o
	}
	return m
}

func (k *Keel) inventory() (*Inventory, error) {
	b, err := os.ReadFile(k.state("inventory.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return &Inventory{Format: inventoryFormat}, nil
	}
	if err != nil {
		return nil, err
	}
	return readInventory(b, k.state("inventory.json"))
}

func readInventory(b []byte, path string) (*Inventory, error) {
	inv := &Inventory{}
	if err := json.Unmarshal(b, inv); err != nil || inv.Format != inventoryFormat {
		return nil, fmt.Errorf("read %s: not an inventory of format %s (%v)", path, inventoryFormat, err)
	}
	return inv, nil
}

func writeInventory(path string, inv *Inventory) error {
	inv.Format = inventoryFormat
	sort.Slice(inv.Files, func(i, j int) bool { return inv.Files[i].Path < inv.Files[j].Path })
	b, err := json.Marshal(inv)
	if err != nil {
		return err
	}
	return tree.WriteFile(path, b, 0o600)
}

// sums tells the content of installed files, reading only those whose times
// don't prove that they are what the inventory says.
type sums struct {
	k    *Keel
	seen map[string]Owned
	read map[string]tree.Sum // what had to be read, once
}

func (k *Keel) sums(seen map[string]Owned) sums { return sums{k, seen, map[string]tree.Sum{}} }

func (s sums) of(e tree.Entry) (tree.Sum, error) {
	if o, ok := s.seen[e.Path]; ok && o.SeenAt != 0 && e.SameIdentity(o.Entry) && e.Settled(o.SeenAt) {
		return o.Sum, nil
	}
	if sum, ok := s.read[e.Path]; ok {
		return sum, nil
	}
	sum, err := tree.SumFile(s.k.path(e.Path))
	if err == nil {
		s.read[e.Path] = sum
	}
	return sum, err
}

// sameAs tells whether an installed entry has the content of a stored file.
func (s sums) sameAs(e tree.Entry, f locker.File) (bool, error) {
	switch {
	case e.Kind != f.Kind:
		return false, nil
	case e.Kind == tree.Dir:
		return true, nil
	case e.Kind == tree.Link:
		return e.Target == f.Target, nil
	case e.Size != f.Size:
		return false, nil
	}
	got, err := s.of(e)
	return got == f.Sum, err
}
