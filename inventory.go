package freshkeel

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"sort"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
)

const inventoryFormat = "freshkeel-inventory/2"

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
	Names   []Move    `json:"names,omitempty"`   // pattern of a build's file → name that it was given, since the launch script runs that
	Mixed   []string  `json:"mixed,omitempty"`   // versions that some of the files are of, after a restore of a part
	Files   []Owned   `json:"-"`                 // a line each, after the head's
}

// Owned is one file of the inventory.
type Owned struct {
	tree.Entry
	Sum    tree.Sum `json:"sum,omitzero"`    // as the build has it
	Layer  string   `json:"layer,omitempty"` // whose file it is; "": the build's
	SeenAt int64    `json:"seen_at"`         // nanoseconds since 1970, when its identity was noted
}

// byPath is the inventory by path, each as the install spells it.
func (inv *Inventory) byPath(as tree.Spelling) map[string]Owned {
	m := make(map[string]Owned, len(inv.Files))
	for _, o := range inv.Files {
		o.Path = as.Of(o.Path)
		m[o.Path] = o
	}
	return m
}

// inventory reads what was put into the install. It is kept as long as its file
// is the same: many steps of one command ask for it.
func (k *Keel) inventory() (*Inventory, error) {
	path := k.in.State("inventory.json")
	is, _, err := tree.Describe(path, "")
	if errors.Is(err, fs.ErrNotExist) {
		return &Inventory{Format: inventoryFormat}, nil
	}
	if k.known == nil || is.Inode == 0 || !is.SameIdentity(k.knownAs) {
		b, err := tree.ReadOwn(path)
		if err != nil {
			return nil, err
		}
		if k.known, err = readInventory(b, path); err != nil {
			k.known = nil
			return nil, err
		}
		k.knownAs = is
	}
	inv := *k.known // whoever changes it changes a copy; files are only ever replaced whole
	return &inv, nil
}

// installed is the head of the inventory alone: which version, and from where.
func (k *Keel) installed() (*Inventory, error) {
	f, err := tree.OpenRegular(k.in.State("inventory.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return &Inventory{Format: inventoryFormat}, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	line, err := bufio.NewReader(f).ReadBytes('\n')
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", f.Name(), err)
	}
	return inventoryHead(line, f.Name())
}

func inventoryHead(line []byte, path string) (*Inventory, error) {
	inv := &Inventory{}
	if err := json.Unmarshal(line, inv); err != nil || inv.Format != inventoryFormat {
		return nil, fmt.Errorf("read %s: not an inventory of format %s (%v)", path, inventoryFormat, err)
	}
	return inv, nil
}

func readInventory(b []byte, path string) (*Inventory, error) {
	line, rest, _ := bytes.Cut(b, []byte("\n"))
	inv, err := inventoryHead(line, path)
	if err != nil {
		return nil, err
	}
	inv.Files = make([]Owned, 0, bytes.Count(rest, []byte("\n")))
	for n := 2; ; n++ {
		if line, rest, _ = bytes.Cut(rest, []byte("\n")); len(line) == 0 {
			return nil, fmt.Errorf("read %s: line %d: it is cut short", path, n)
		}
		if bytes.HasPrefix(line, []byte(`{"end":`)) {
			return inv, nil
		}
		o, err := readOwned(line)
		if err != nil {
			return nil, fmt.Errorf("read %s: line %d: %w", path, n, err)
		}
		if !tree.Local(o.Path) {
			return nil, fmt.Errorf("read %s: line %d: %q is no path of the install", path, n, o.Path)
		}
		inv.Files = append(inv.Files, o)
	}
}

// readOwned reads the line of one file: of the shape that writeInventory writes,
// else by the JSON package.
func readOwned(line []byte) (o Owned, err error) {
	c := tree.Line{Rest: line}
	if c.Entry(&o.Entry) {
		if c.Is(`,"sum":"`) {
			c.Sum(&o.Sum)
		}
		if c.Is(`,"layer":"`) {
			o.Layer = c.Text()
		}
		if c.Is(`,"seen_at":`) {
			o.SeenAt = c.Signed()
		}
		if c.End() {
			return o, nil
		}
	}
	o = Owned{}
	return o, json.Unmarshal(line, &o)
}

func writeInventory(path string, inv *Inventory) error {
	inv.Format = inventoryFormat
	sort.Slice(inv.Files, func(i, j int) bool { return inv.Files[i].Path < inv.Files[j].Path })
	b, err := json.Marshal(inv)
	if err != nil {
		return err
	}
	b = append(b, '\n')
	for i := range inv.Files {
		o := &inv.Files[i]
		if !tree.Plain(o.Path) || !tree.Plain(o.Target) || !tree.Plain(o.Layer) {
			line, err := json.Marshal(o)
			if err != nil {
				return err
			}
			b = append(append(b, line...), '\n')
			continue
		}
		b = tree.AppendEntry(b, &o.Entry)
		if !o.Sum.IsZero() {
			b = tree.AppendSum(append(b, `,"sum":`...), &o.Sum)
		}
		if o.Layer != "" {
			b = append(append(append(b, `,"layer":"`...), o.Layer...), '"')
		}
		b = append(tree.AppendNumber(b, `,"seen_at":`, o.SeenAt), "}\n"...)
	}
	return tree.WriteFile(path, fmt.Appendf(b, "{\"end\":%d}\n", len(inv.Files)), 0o600)
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
	f, err := s.k.in.Open(e.Path)
	if err != nil {
		return tree.Sum{}, err
	}
	defer f.Close()
	sum, err := tree.SumOf(f)
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
