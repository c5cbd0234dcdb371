// Package resolve leads from what is wanted to what is to be had: which build of a
// source, which layers over it, and which builds in between. It asks sources for their
// lists; it fetches nothing.
//
// All is the whole step; the chain of builds to step through is Route.
package resolve

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"freshkeel/internal/feed"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/tell"
	"freshkeel/internal/version"
)

// Resolver finds builds for one install.
type Resolver struct {
	*install.Install
	inv   *inventory.Kept
	asked map[string]*Asked // what sources offer: one command sees one list
	laid  []string          // the layers that lie over the build, and one that is to: the profile need not name them
}

// New is a resolver for an install.
func New(in *install.Install, inv *inventory.Kept) *Resolver {
	return &Resolver{Install: in, inv: inv, asked: map[string]*Asked{}}
}

// Resolved is all that a refit is to put together: the build and the layers
// over it, each either chosen anew or as it is.
type Resolved struct {
	Base   *Candidate
	Layers []*Candidate
	Gone   []Gone
}

// Gone is a layer that is left out.
type Gone struct {
	Layer string
	Said  bool // by the operator, now or before
	Why   string
}

// All finds the build that is wanted and the layers over it. A layer
// that is not named stays at its version; one that is not laid yet is laid, in
// the newest version that fits.
func (rs *Resolver) All(ctx context.Context, w Want) (*Resolved, error) {
	inv, err := rs.inv.Head()
	if err != nil {
		return nil, err
	}
	if err := w.Check(); err != nil {
		return nil, err
	}
	rs.laid = nil
	for _, l := range inv.Layers {
		if l.ByHand { // another one that the profile does not name any more is taken off
			rs.laid = append(rs.laid, l.Name)
		}
	}
	if name := w.layerFrom(); name != "" {
		if !layerName.MatchString(name) {
			return nil, tell.Misuse(fmt.Sprintf("%q is no name of a layer", name),
				"letters, digits, - and _ are: --layer loader")
		}
		rs.laid = append(rs.laid, name)
	}
	for name := range w.Layers {
		if _, err := rs.Layer(name); err != nil {
			return nil, err
		}
	}
	for _, name := range w.Without {
		if _, err := rs.Layer(name); err != nil {
			return nil, err
		}
	}
	r := &Resolved{}
	if w.onlyLayers() || (w.Version == "" && w.From == "" && len(w.Without) > 0 && rs.Profile.Source.Kind() == "") {
		r.Base, err = rs.staying(ctx, rs.Base(), inventory.Laid{Version: inv.Version, Channel: inv.Channel,
			Build: inv.Build})
	} else {
		r.Base, err = rs.Build(ctx, w)
	}
	if err != nil {
		return nil, err
	}
	return r, rs.layers(ctx, r, w, inv)
}

// Build finds the build that is wanted. Nothing is fetched but lists.
func (rs *Resolver) Build(ctx context.Context, w Want) (*Candidate, error) {
	if w.From != "" {
		return rs.FromPlace(w)
	}
	f, err := rs.List(ctx, rs.Base())
	if err == nil {
		_, offered := f.Find(w.Version)
		if offered && f.Stale {
			l, err := rs.Locker()
			if err != nil {
				return nil, err
			}
			offered = l.Has(locker.Builds, f.Memory.Sets[w.Version])
		}
		if !offered && w.Version != "" {
			if c, kerr := rs.keptBuild(w.Version, errors.New("the source does not offer it any more")); c != nil ||
				kerr != nil {
				return c, kerr
			}
		}
		return rs.Pick(ctx, f, w.Version, nil)
	}
	if c, kerr := rs.keptBuild(w.Version, err); c != nil || kerr != nil {
		return c, kerr
	}
	return nil, err
}

// layers finds the layers over a build that is found.
func (rs *Resolver) layers(ctx context.Context, r *Resolved, w Want, inv *inventory.Inventory) error {
	for _, l := range rs.allLayers() {
		if slices.Contains(w.Without, l.Name) {
			r.Gone = append(r.Gone, Gone{l.Name, true, "as you said"})
			continue
		}
		c, why, err := rs.layer(ctx, Origin{l}, w, inv, r.Base.Version)
		if err != nil {
			return fmt.Errorf("layer %s: %w", l.Name, err)
		}
		if c == nil {
			r.Gone = append(r.Gone, Gone{l.Name, slices.Contains(inv.Without, l.Name), why})
			continue
		}
		r.Layers = append(r.Layers, c)
	}
	return nil
}

func (rs *Resolver) layer(ctx context.Context, o Origin, w Want, inv *inventory.Inventory, base string) (c *Candidate,
	why string, err error) {
	ver, named := w.Layers[o.Name]
	laid, isLaid := inv.Laid(o.Name)
	if named && w.layerFrom() == o.Name {
		c, err := rs.FromPlace(Want{From: w.From, As: cmp.Or(ver, w.As), Lay: true})
		if err != nil {
			return nil, "", err
		}
		c.Layer, c.Place, c.Fits, c.ByHand = o.Name, o.Place, o.Fits, true
		return c, "", nil
	}
	if named && isLaid && o.Source.Kind() == "" {
		return nil, "", tell.Misuse(fmt.Sprintf("layer %s has no source that its versions come from", o.Name),
			"take it from a file: --layer "+o.Name+" --from PATH")
	}
	if !named && isLaid {
		c, err := rs.staying(ctx, o, laid)
		return c, "", err
	}
	f, err := rs.List(ctx, o)
	if err != nil {
		return nil, "", err
	}
	suits := func(b feed.Build) bool { return base == "" || version.Fits(cmp.Or(b.Fits, o.Fits), base) }
	if c, err = rs.Pick(ctx, f, ver, suits); err != nil || c != nil {
		return c, "", err
	}
	if !named {
		return nil, "none of its versions fits " + version.OrUnknown(base), nil
	}
	c, err = rs.Pick(ctx, f, "", nil) // the checks tell that it does not fit
	return c, "", err
}

// staying is what is installed already, as a candidate. Where the locker does
// not hold it, its source is asked for the same version again.
func (rs *Resolver) staying(ctx context.Context, o Origin, laid inventory.Laid) (*Candidate, error) {
	l, err := rs.Locker()
	if err != nil {
		return nil, err
	}
	c := &Candidate{Version: laid.Version, Channel: laid.Channel, Layer: o.Name, Source: "what is installed",
		Fits: cmp.Or(laid.Fits,
			o.Fits), Src: o.Source, Place: o.Place, Set: laid.Build, Stays: true, ByHand: laid.ByHand}
	if laid.Build != "" && l.Has(locker.Builds, laid.Build) {
		return c, nil
	}
	if o.Source.Kind() != "" && laid.Version != "" {
		if f, err := rs.List(ctx, o); err == nil {
			if _, ok := f.Find(laid.Version); ok {
				return rs.Pick(ctx, f, laid.Version, nil)
			}
		}
	}
	if o.Name != "" {
		return nil, tell.Advise(fmt.Errorf("%s %s is neither in the locker nor offered any more", o.Name, laid.Version),
			fmt.Sprintf("name a version that is: --layer %s=VERSION, or --without %s", o.Name, o.Name))
	}
	c.Set, c.Place, c.AsInstalled = "", nil, true
	return c, nil
}

// Route is the chain of builds to the one that is wanted: that one alone, where
// the maker lets the installed version step to it.
func (rs *Resolver) Route(ctx context.Context, r *Resolved, w Want) ([]*Resolved, error) {
	inv, err := rs.inv.Head()
	if err != nil {
		return nil, err
	}
	c := r.Base
	if c.Offer == nil || inv.Version == "" || c.Version == "" || slices.Contains(w.Accept, "steps") ||
		c.Offer.MayStep(inv.Version, c.Build) {
		return []*Resolved{r}, nil
	}
	if newer, known := c.Newer(inv.Version); known && !newer {
		return []*Resolved{r}, nil
	}
	way, err := c.Offer.Route(inv.Version, c.Build)
	if err != nil {
		return nil, err
	}
	if len(way) < 2 {
		return []*Resolved{r}, nil
	}
	var out []*Resolved
	for _, b := range way[:len(way)-1] {
		hop := &Resolved{}
		if hop.Base, err = rs.candidate(ctx, c.Offer, b); err != nil {
			return nil, err
		}
		if err := rs.layers(ctx, hop, w, inv); err != nil {
			return nil, err
		}
		out = append(out, hop)
	}
	return append(out, r), nil
}
