package resolve

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
)

// Build is one row of a source's offers.
type Build struct {
	Version   string   `json:"version"`
	Channel   string   `json:"channel,omitempty"`
	Date      string   `json:"date,omitempty"`
	Notes     string   `json:"notes,omitempty"`
	Variants  []string `json:"variants,omitempty"` // the files that it comes as, where there are several
	Fits      string   `json:"fits,omitempty"`
	Bytes     int64    `json:"bytes,omitempty"` // to download, 0: not told
	Installed bool     `json:"installed"`
	Newer     bool     `json:"newer"`
	Fetched   bool     `json:"fetched"`
	InChannel bool     `json:"in_channel"`
	Cant      string   `json:"cant,omitempty"`    // why it can't be installed over what is installed
	Changes   *Changes `json:"changes,omitempty"` // of a folder: what differs from what is installed
}

// Offer is what one source offers, oldest first, and how it stands to what is
// installed.
type Offer struct {
	Layer     string    `json:"layer,omitempty"` // "": the build
	Source    string    `json:"source"`
	Kind      string    `json:"kind"`
	Channel   string    `json:"channel,omitempty"` // that is followed; "": any
	Installed string    `json:"installed"`         // version; "" when not known
	From      string    `json:"installed_channel,omitempty"`
	Mixed     []string  `json:"mixed,omitempty"` // other versions that some of the installed files are of
	AsOf      time.Time `json:"as_of,omitzero"`  // when the source was last reached, if it can't be now
	Builds    []Build   `json:"builds"`
}

// Changes are differences in content between what is installed and a folder
// that builds are taken from. Paths are the install's.
type Changes struct {
	Changed []string         `json:"changed,omitempty"`
	Added   []string         `json:"added,omitempty"`
	Removed []string         `json:"removed,omitempty"`
	Moved   []inventory.Move `json:"moved,omitempty"`
}

func (c *Changes) none() bool {
	return len(c.Changed)+len(c.Added)+len(c.Removed)+len(c.Moved) == 0
}

// Builds lists what the sources of the build and of its layers offer.
func (rs *Resolver) Builds(ctx context.Context) (out []*Offer, err error) {
	inv, err := rs.inv.Read()
	if err != nil {
		return nil, err
	}
	for _, o := range rs.Origins() {
		f, err := rs.List(ctx, o)
		if err != nil {
			return nil, err
		}
		offer, err := rs.offered(f, inv)
		if err != nil {
			return nil, err
		}
		out = append(out, offer)
	}
	return out, nil
}

func (rs *Resolver) offered(f *Asked, inv *inventory.Inventory) (*Offer, error) {
	l, err := rs.Locker()
	if err != nil {
		return nil, err
	}
	here := inv.Of(f.from.Name)
	src := f.from.Source
	out := &Offer{Layer: f.from.Name, Source: fetch.Shown(feed.Where(src, rs.Dir)), Kind: src.Kind(),
		Channel: src.Channel, Installed: here.Version, From: here.Channel}
	if out.Layer == "" {
		out.Mixed = inv.Mixed
	}
	if f.Stale {
		out.AsOf = f.Memory.At
	}
	for _, b := range f.Builds {
		row := Build{Version: b.Version, Channel: b.Channel, Date: b.Date, Notes: b.Notes,
			Fits:      cmp.Or(b.Fits, f.from.Fits),
			InChannel: b.In(src.Channel)}
		for _, v := range b.Variants {
			row.Variants = append(row.Variants, v.String())
		}
		set := f.Memory.Sets[b.Version]
		if b.Mark != "" {
			set = f.Memory.Marks[b.Mark]
		} else if v, err := b.Choose(feed.Machine(src)); err == nil && !f.Stale && len(v.Parts) > 0 {
			c := &Candidate{Version: b.Version, Parts: v.Parts, List: v.Listing, Src: src}
			set = c.setID()
			for _, p := range v.Parts {
				row.Bytes += p.Size
			}
		}
		row.Fetched = set != "" && l.Has(locker.Builds, set)
		switch {
		case b.Mark == "" || (b.Version != "" && b.Version != here.Version):
			row.Installed = b.Version != "" && b.Version == here.Version && len(out.Mixed) == 0
			row.Newer = here.Version != "" && !row.Installed && f.Newer(here.Version, b.Version)
		case b.Tree != nil:
			row.Changes = rs.changes(b.Tree, f.from, inv)
			row.Installed = row.Changes.none()
			row.Newer = !row.Installed
		default: // content that only its mark tells from other content
			row.Installed = set != "" && set == here.Build
			row.Newer = !row.Installed
		}
		out.Builds = append(out.Builds, row)
	}
	for i := len(out.Builds) - 1; i >= 0; i-- { // down to the newest that can be taken
		row := &out.Builds[i]
		if !row.Newer || !row.InChannel {
			continue
		}
		if row.Cant = f.cant(f.Builds[i], row.Fits, here.Version, inv.Version); row.Cant == "" {
			break
		}
	}
	return out, nil
}

// changes holds a folder's content against what is installed.
func (rs *Resolver) changes(held map[string]tree.Sum, o Origin, inv *inventory.Inventory) *Changes {
	c := &Changes{}
	cand := &Candidate{Place: o.Place, Offer: &Asked{from: o}}
	old := map[string]tree.Sum{}
	bySum := map[tree.Sum]string{}
	for _, f := range inv.Files {
		if f.Layer == o.Name && f.Kind != tree.Dir {
			old[f.Path] = f.Sum
		}
	}
	// As the plan takes it: without folders around it that the install does not have.
	if folder := Wrapping(slices.Sorted(maps.Keys(held)),
		func(at string) bool { _, is := old[cand.NameOf(at)]; return is }); folder != "" {
		bare := map[string]tree.Sum{}
		for at, sum := range held {
			bare[strings.TrimPrefix(at, folder+"/")] = sum
		}
		held = bare
	}
	now := map[string]bool{}
	for at := range held {
		now[cand.NameOf(at)] = true
	}
	for at, sum := range old {
		if !now[at] {
			bySum[sum] = at
		}
	}
	for _, at := range slices.Sorted(maps.Keys(held)) {
		to := cand.NameOf(at)
		was, had := old[to]
		from, moved := bySum[held[at]]
		switch {
		case rs.Profile.Server.Own(to) || rs.Profile.Server.Skip.Match(to):
		case had && was.IsZero(), had && was == held[at]: // a link, or the same
		case had:
			c.Changed = append(c.Changed, to)
		case moved && inv.Known:
			c.Moved = append(c.Moved, inventory.Move{From: from, To: to})
			delete(old, from)
		default:
			c.Added = append(c.Added, to)
		}
	}
	if inv.Known {
		for at := range old {
			if !now[at] && !rs.Profile.Server.Own(at) && !rs.Profile.Starts(at) {
				c.Removed = append(c.Removed, at)
			}
		}
		sort.Strings(c.Removed)
	}
	return c
}
