// Package inventory is what was put into an install: by the last refit, or found there
// when it was adopted. It tells which build and which layers are there, and of each
// file what it was, so that what was changed since can be told from it.
//
// An inventory is a file of lines of JSON: a head, a line a file, and a line with
// their number.
package inventory

import (
	"slices"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
)

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
	// pattern of a build's file → name that it was given, since the launch script runs that
	Names []Move   `json:"names,omitempty"`
	Mixed []string `json:"mixed,omitempty"` // versions that some of the files are of, after a restore of a part
	Files []Owned  `json:"-"`               // a line each, after the head's
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

// Laid is one layer as it lies over the build.
type Laid struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Channel string `json:"channel,omitempty"`
	Build   string `json:"build"` // set in the locker
	Fits    string `json:"fits,omitempty"`
	ByHand  bool   `json:"by_hand,omitempty"` // it was laid from a file, and the profile need not name it
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

// Of is what is installed of a layer, or of the build itself.
func (inv *Inventory) Of(layer string) Laid {
	if layer == "" {
		return Laid{Version: inv.Version, Channel: inv.Channel, Build: inv.Build}
	}
	laid, _ := inv.Laid(layer)
	return laid
}
