package freshkeel

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
)

// Build is one row of what a source offers.
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

// Changes are differences in content between what is installed and a folder
// that builds are taken from. Paths are the install's.
type Changes struct {
	Changed []string `json:"changed,omitempty"`
	Added   []string `json:"added,omitempty"`
	Removed []string `json:"removed,omitempty"`
	Moved   []Move   `json:"moved,omitempty"`
}

func (c *Changes) none() bool {
	return len(c.Changed)+len(c.Added)+len(c.Removed)+len(c.Moved) == 0
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

// Builds lists what the sources of the build and of its layers offer.
func (k *Keel) Builds(ctx context.Context) (out []*Offer, err error) {
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	for _, o := range k.origins() {
		f, err := k.list(ctx, o)
		if err != nil {
			return nil, err
		}
		offer, err := k.offered(ctx, f, inv)
		if err != nil {
			return nil, err
		}
		out = append(out, offer)
	}
	return out, nil
}

func (k *Keel) origins() []origin {
	out := []origin{k.base()}
	for _, l := range k.in.Profile.Layers {
		out = append(out, origin{l})
	}
	return out
}

func (k *Keel) offered(ctx context.Context, f *offer, inv *inventory.Inventory) (*Offer, error) {
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	here := inv.Of(f.from.Name)
	src := f.from.Source
	out := &Offer{Layer: f.from.Name, Source: fetch.Shown(feed.Where(src, k.in.Dir)), Kind: src.Kind(), Channel: src.Channel, Installed: here.Version, From: here.Channel}
	if out.Layer == "" {
		out.Mixed = inv.Mixed
	}
	if f.stale {
		out.AsOf = f.memory.At
	}
	for _, b := range f.Builds {
		row := Build{Version: b.Version, Channel: b.Channel, Date: b.Date, Notes: b.Notes, Fits: cmp.Or(b.Fits, f.from.Fits),
			InChannel: b.In(src.Channel)}
		for _, v := range b.Variants {
			row.Variants = append(row.Variants, v.String())
		}
		set := f.memory.Sets[b.Version]
		if b.Mark != "" {
			set = f.memory.Marks[b.Mark]
		} else if v, err := b.Choose(feed.Machine(src)); err == nil && !f.stale && len(v.Parts) > 0 {
			c := &Candidate{Version: b.Version, parts: v.Parts, list: v.Listing, src: src}
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
			if row.Changes, err = k.changes(b.Tree, f.from, inv); err != nil {
				return nil, err
			}
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

// cant tells why a build of a list can't be installed here, as far as the list alone
// tells; fits is a layer's range of the build's versions.
func (f *offer) cant(b feed.Build, fits, installed, build string) string {
	if f.from.Name != "" {
		if fits != "" && build != "" && !version.Fits(fits, build) {
			return fmt.Sprintf("it fits %s, and %s is installed", fits, build)
		}
		return ""
	}
	if len(b.Variants) > 0 {
		if _, err := b.Choose(feed.Machine(f.from.Source)); err != nil {
			return "none of its files is for this machine"
		}
	}
	if b.Version == "" || installed == "" || f.MayStep(installed, b) {
		return ""
	}
	if way, err := f.Route(installed, b); err != nil || len(way) == 0 {
		return "no chain of builds leads there from " + installed
	}
	return ""
}

// changes holds a folder's content against what is installed.
func (k *Keel) changes(held map[string]tree.Sum, o origin, inv *inventory.Inventory) (*Changes, error) {
	c := &Changes{}
	cand := &Candidate{place: o.Place, offer: &offer{from: o}}
	old := map[string]tree.Sum{}
	bySum := map[tree.Sum]string{}
	for _, f := range inv.Files {
		if f.Layer == o.Name && f.Kind != tree.Dir {
			old[f.Path] = f.Sum
		}
	}
	// As the plan takes it: without folders around it that the install does not have.
	if folder := wrapping(slices.Sorted(maps.Keys(held)), func(at string) bool { _, is := old[cand.nameOf(at)]; return is }); folder != "" {
		bare := map[string]tree.Sum{}
		for at, sum := range held {
			bare[strings.TrimPrefix(at, folder+"/")] = sum
		}
		held = bare
	}
	now := map[string]bool{}
	for at := range held {
		now[cand.nameOf(at)] = true
	}
	for at, sum := range old {
		if !now[at] {
			bySum[sum] = at
		}
	}
	for _, at := range slices.Sorted(maps.Keys(held)) {
		to := cand.nameOf(at)
		was, had := old[to]
		from, moved := bySum[held[at]]
		switch {
		case k.in.Profile.Server.Own(to) || k.in.Profile.Server.Skip.Match(to):
		case had && was.IsZero(), had && was == held[at]: // a link, or the same
		case had:
			c.Changed = append(c.Changed, to)
		case moved && inv.Known:
			c.Moved = append(c.Moved, Move{From: from, To: to})
			delete(old, from)
		default:
			c.Added = append(c.Added, to)
		}
	}
	if inv.Known {
		for at := range old {
			if !now[at] && !k.in.Profile.Server.Own(at) && at != k.in.Profile.Launch.Script {
				c.Removed = append(c.Removed, at)
			}
		}
		sort.Strings(c.Removed)
	}
	return c, nil
}

// News is something newer than what is installed.
type News struct {
	Layer     string `json:"layer,omitempty"` // "": the build
	Installed string `json:"installed"`
	Version   string `json:"version"`
}

// News tells what newer things the followed channels offer. Where versions do
// not tell, content does: it is fetched then, and a refit finds it here.
func (k *Keel) News(ctx context.Context) (out []News, err error) {
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	for _, o := range k.origins() {
		here := inv.Of(o.Name)
		if o.Name != "" && here.Name == "" {
			continue // not laid
		}
		f, err := k.list(ctx, o)
		if err != nil {
			return nil, err
		}
		c, err := k.pick(ctx, f, "", func(b feed.Build) bool {
			return o.Name == "" || inv.Version == "" || version.Fits(cmp.Or(b.Fits, o.Fits), inv.Version)
		})
		if err != nil {
			return nil, err
		}
		if c == nil {
			continue
		}
		newer, known := c.newer(here.Version)
		if !known || (!newer && c.Version == here.Version && c.build.Mark != "") {
			if newer, err = k.differs(ctx, c, here); err != nil {
				return nil, err
			}
		}
		if newer {
			out = append(out, News{o.Name, here.Version, c.Version})
		}
	}
	return out, nil
}

// differs tells by content whether a candidate is other than what is installed.
func (k *Keel) differs(ctx context.Context, c *Candidate, here Laid) (bool, error) {
	if c.set != "" && c.set == here.Build {
		return false, nil
	}
	if c.offer.stale && c.set == "" {
		return false, nil
	}
	f, err := k.fetch(ctx, c)
	if err != nil {
		return false, err
	}
	if f.Set.ID == here.Build {
		return false, nil
	}
	if c.Layer != "" || here.Build != "" {
		return true, nil
	}
	p, err := k.plan(f, Want{})
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(p.Steps, func(s swap.Step) bool { return s.Do == swap.Replace || s.Do == swap.Add }), nil
}
