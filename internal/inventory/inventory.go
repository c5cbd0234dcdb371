// Package inventory is what was put into an install: by the last refit, or found there
// when it was adopted. It tells which build and which layers are there, and of each
// file what it was, so that what was changed since can be told from it.
//
// An inventory is a file of lines of JSON: a head, a line a file, and a line with
// their number.
package inventory

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"sort"
	"time"

	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
)

// Of is what is installed of a layer, or of the build itself.
func (inv *Inventory) Of(layer string) Laid {
	if layer == "" {
		return Laid{Version: inv.Version, Channel: inv.Channel, Build: inv.Build}
	}
	laid, _ := inv.Laid(layer)
	return laid
}

const format = "freshkeel-inventory/2"

// Kept is the inventory of one install, as it is kept in a file there.
type Kept struct {
	*install.Install
	known   *Inventory // as last read,
	knownAs tree.Entry // from this file
}

// New is the inventory of an install.
func New(in *install.Install) *Kept { return &Kept{Install: in} }

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

// ByPath is the inventory by path, each as the install spells it.
func (inv *Inventory) ByPath(as tree.Spelling) map[string]Owned {
	m := make(map[string]Owned, len(inv.Files))
	for _, o := range inv.Files {
		o.Path = as.Of(o.Path)
		m[o.Path] = o
	}
	return m
}

// Read reads what was put into the install. It is kept as long as its file
// is the same: many steps of one command ask for it.
func (k *Kept) Read() (*Inventory, error) {
	path := k.State("inventory.json")
	is, _, err := tree.Describe(path, "")
	if errors.Is(err, fs.ErrNotExist) {
		return &Inventory{Format: format}, nil
	}
	if k.known == nil || is.Inode == 0 || !is.SameIdentity(k.knownAs) {
		b, err := tree.ReadOwn(path)
		if err != nil {
			return nil, err
		}
		if k.known, err = Parse(b, path); err != nil {
			k.known = nil
			return nil, err
		}
		k.knownAs = is
	}
	inv := *k.known // whoever changes it changes a copy; files are only ever replaced whole
	return &inv, nil
}

// Head is the head of the inventory alone: which version, and from where.
func (k *Kept) Head() (*Inventory, error) {
	f, err := tree.OpenRegular(k.State("inventory.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return &Inventory{Format: format}, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	line, err := bufio.NewReader(f).ReadBytes('\n')
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", f.Name(), err)
	}
	return head(line, f.Name())
}

func head(line []byte, path string) (*Inventory, error) {
	inv := &Inventory{}
	if err := json.Unmarshal(line, inv); err != nil || inv.Format != format {
		return nil, fmt.Errorf("read %s: not an inventory of format %s (%v)", path, format, err)
	}
	return inv, nil
}

func Parse(b []byte, path string) (*Inventory, error) {
	line, rest, _ := bytes.Cut(b, []byte("\n"))
	inv, err := head(line, path)
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

func Write(path string, inv *Inventory) error {
	inv.Format = format
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

// Laid is one layer as it lies over the build.
type Laid struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Channel string `json:"channel,omitempty"`
	Build   string `json:"build"` // set in the locker
	Fits    string `json:"fits,omitempty"`
}

// Laid finds a layer of the inventory.
func (inv *Inventory) Laid(name string) (Laid, bool) {
	for _, l := range inv.Layers {
		if l.Name == name {
			return l, true
		}
	}
	return Laid{}, false
}

// Sets are the builds that the installed files came from.
func (inv *Inventory) Sets() []string {
	out := []string{inv.Build}
	for _, laid := range inv.Layers {
		out = append(out, laid.Build)
	}
	return out
}

// ContentOf finds the files of some builds by their hash. A build that is not
// there, or damaged, is passed over.
func ContentOf(l *locker.Locker, ids []string) map[tree.Sum]locker.File {
	slices.Sort(ids)
	out := map[tree.Sum]locker.File{}
	for _, id := range slices.Compact(ids) {
		s, err := l.Read(locker.Builds, id)
		if err != nil {
			continue // it only saves fetching
		}
		for _, f := range s.Entries {
			if f.Kind == tree.File {
				out[f.Sum] = f
			}
		}
	}
	return out
}

// Move is content that the new build has under another name.
type Move struct {
	From string `json:"from"`
	To   string `json:"to"`
}
