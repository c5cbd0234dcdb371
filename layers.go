package freshkeel

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"sort"

	"freshkeel/internal/feed"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Overlaid is a path that two layers bring: the later one's file is used.
type Overlaid struct {
	Path  string `json:"path"`
	Under string `json:"under"` // layer; "": the build
	Over  string `json:"over"`
}

// resolved is all that a refit is to put together: the build and the layers
// over it, each either chosen anew or as it is.
type resolved struct {
	base   *Candidate
	layers []*Candidate
	gone   []gone
}

// gone is a layer that is left out.
type gone struct {
	layer string
	said  bool // by the operator, now or before
	why   string
}

// resolveAll finds the build that is wanted and the layers over it. A layer
// that is not named stays at its version; one that is not laid yet is laid, in
// the newest version that fits.
func (k *Keel) resolveAll(ctx context.Context, w Want) (*resolved, error) {
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	for name := range w.Layers {
		if _, err := k.layer(name); err != nil {
			return nil, err
		}
	}
	for _, name := range w.Without {
		if _, err := k.layer(name); err != nil {
			return nil, err
		}
	}
	r := &resolved{}
	if w.onlyLayers() || (w.Version == "" && w.From == "" && len(w.Without) > 0 && k.in.Profile.Source.Kind() == "") {
		r.base, err = k.staying(ctx, k.base(), Laid{Version: inv.Version, Channel: inv.Channel, Build: inv.Build})
	} else {
		r.base, err = k.resolve(ctx, w)
	}
	if err != nil {
		return nil, err
	}
	return r, k.resolveLayers(ctx, r, w, inv)
}

// resolveLayers finds the layers over a build that is found.
func (k *Keel) resolveLayers(ctx context.Context, r *resolved, w Want, inv *inventory.Inventory) error {
	for _, l := range k.in.Profile.Layers {
		if slices.Contains(w.Without, l.Name) {
			r.gone = append(r.gone, gone{l.Name, true, "as you said"})
			continue
		}
		c, why, err := k.resolveLayer(ctx, origin{l}, w, inv, r.base.Version)
		if err != nil {
			return fmt.Errorf("layer %s: %w", l.Name, err)
		}
		if c == nil {
			r.gone = append(r.gone, gone{l.Name, slices.Contains(inv.Without, l.Name), why})
			continue
		}
		r.layers = append(r.layers, c)
	}
	return nil
}

func (k *Keel) resolveLayer(ctx context.Context, o origin, w Want, inv *inventory.Inventory, base string) (c *Candidate, why string, err error) {
	ver, named := w.Layers[o.Name]
	laid, isLaid := inv.Laid(o.Name)
	if !named && isLaid {
		c, err := k.staying(ctx, o, laid)
		return c, "", err
	}
	f, err := k.list(ctx, o)
	if err != nil {
		return nil, "", err
	}
	suits := func(b feed.Build) bool { return base == "" || version.Fits(cmp.Or(b.Fits, o.Fits), base) }
	if c, err = k.pick(ctx, f, ver, suits); err != nil || c != nil {
		return c, "", err
	}
	if !named {
		return nil, "none of its versions fits " + version.OrUnknown(base), nil
	}
	c, err = k.pick(ctx, f, "", nil) // the checks tell that it does not fit
	return c, "", err
}

// staying is what is installed already, as a candidate. Where the locker does
// not hold it, its source is asked for the same version again.
func (k *Keel) staying(ctx context.Context, o origin, laid Laid) (*Candidate, error) {
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	c := &Candidate{Version: laid.Version, Channel: laid.Channel, Layer: o.Name, Source: "what is installed", Fits: cmp.Or(laid.Fits, o.Fits), src: o.Source, place: o.Place, set: laid.Build, stays: true}
	if laid.Build != "" && l.Has(locker.Builds, laid.Build) {
		return c, nil
	}
	if o.Source.Kind() != "" && laid.Version != "" {
		if f, err := k.list(ctx, o); err == nil {
			if _, ok := f.Find(laid.Version); ok {
				return k.pick(ctx, f, laid.Version, nil)
			}
		}
	}
	if o.Name != "" {
		return nil, tell.Advise(fmt.Errorf("%s %s is neither in the locker nor offered any more", o.Name, laid.Version), fmt.Sprintf("name a version that is: --layer %s=VERSION, or --without %s", o.Name, o.Name))
	}
	c.set, c.place, c.asInstalled = "", nil, true
	return c, nil
}

// installedSet is the build as the inventory has it, where the locker holds
// none: good for being left as it is, and for nothing else.
func (k *Keel) installedSet() (*locker.Set, error) {
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	s := &locker.Set{ID: inv.Build, Version: inv.Version, Channel: inv.Channel}
	for _, o := range inv.Files {
		if o.Layer == "" && k.in.Exists(o.Path) {
			s.Entries = append(s.Entries, locker.File{Entry: o.Entry, Sum: o.Sum})
		}
	}
	s.Tally()
	return s, nil
}

// fetchAll brings the build and its layers into the locker.
func (k *Keel) fetchAll(ctx context.Context, r *resolved) (f *Fetched, err error) {
	if r.base.asInstalled {
		s, err := k.installedSet()
		if err != nil {
			return nil, err
		}
		f = &Fetched{Set: s, Version: r.base.Version, Bytes: s.Bytes, Files: s.Files, Cached: true, Candidate: r.base}
	} else if f, err = k.fetch(ctx, r.base); err != nil {
		return nil, err
	}
	for _, c := range r.layers {
		lf, err := k.fetch(ctx, c)
		if err != nil {
			return nil, fmt.Errorf("layer %s: %w", c.Layer, err)
		}
		f.Layers = append(f.Layers, lf)
	}
	f.gone = r.gone
	return f, nil
}

// compose puts the build and its layers together: every path knows whose file
// it holds, and where two bring one, the later layer's is used.
func (k *Keel) compose(p *Plan, f *Fetched, old map[string]inventory.Owned) map[string]locker.File {
	build, bad, unfound := placed(f.Set, f.Candidate.place)
	p.Hidden = hides(f.Set, f.Candidate.place)
	if !f.Candidate.stays && len(unfound) == len(f.Candidate.place) { // no rule speaks of the names as they are
		build = p.unwrap(build, "", "", old)
	}
	build = respelled(build, p.spelling)
	p.Blocked, p.unfound = bad, unfound
	p.layerOf = map[string]string{}
	if !f.Candidate.stays {
		k.rename(p, build, f.Candidate.place)
	}
	for _, lf := range f.Layers {
		o, err := k.layer(lf.Layer)
		if err != nil {
			continue // the profile's own list led here
		}
		files, bad, unfound := placed(lf.Set, o.Place)
		p.Hidden = append(p.Hidden, hides(lf.Set, o.Place)...)
		p.Blocked, p.unfound = append(p.Blocked, bad...), append(p.unfound, unfound...)
		if len(unfound) == len(o.Place) {
			files = p.unwrap(files, lf.Layer, o.Into, old)
		}
		for _, at := range slices.Sorted(maps.Keys(files)) {
			file := files[at]
			if o.Into != "" {
				at = o.Into + "/" + at
			}
			at = p.spelling.Of(at)
			file.Path = at
			if under, twice := build[at]; twice && (under.Kind != tree.Dir || file.Kind != tree.Dir) {
				p.Overlaid = append(p.Overlaid, Overlaid{at, p.layerOf[at], lf.Layer})
			}
			build[at], p.layerOf[at] = file, lf.Layer
		}
		p.Layers = append(p.Layers, Laid{Name: lf.Layer, Version: lf.Version, Channel: cmp.Or(lf.Candidate.Channel, lf.Set.Channel), Build: lf.Set.ID, Fits: lf.Candidate.Fits})
	}
	for _, g := range f.gone {
		p.Without = append(p.Without, g.layer)
	}
	for at, file := range build {
		for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
			if up, ok := build[dir]; ok && up.Kind != tree.Dir {
				p.Blocked = append(p.Blocked, blocked{at, fmt.Sprintf("%s brings it, and %s brings a file called %s", whose(p.layerOf[at]), whose(p.layerOf[dir]), dir),
					fmt.Sprintf("ask their makers which of the two is right; [layer] into lays a layer into another folder, and --without %s goes without it", cmp.Or(p.layerOf[at], p.layerOf[dir]))})
				delete(build, file.Path)
				break
			}
		}
	}
	return build
}

// respelled names each file as the install spells it.
func respelled(files map[string]locker.File, as tree.Spelling) map[string]locker.File {
	if as.Free() {
		return files
	}
	out := make(map[string]locker.File, len(files))
	for _, at := range slices.Sorted(maps.Keys(files)) {
		f := files[at]
		f.Path = as.Of(at)
		out[f.Path] = f
	}
	return out
}

func whose(layer string) string {
	if layer == "" {
		return "the build"
	}
	return "layer " + layer
}

// layerChanges tells what becomes of each layer.
func layerChanges(old, now []Laid) (out []string) {
	was := map[string]string{}
	for _, l := range old {
		was[l.Name] = version.OrUnknown(l.Version)
	}
	for _, l := range now {
		v, had := was[l.Name]
		delete(was, l.Name)
		switch {
		case !had:
			out = append(out, fmt.Sprintf("%s: %s laid", l.Name, version.OrUnknown(l.Version)))
		case v != version.OrUnknown(l.Version):
			out = append(out, fmt.Sprintf("%s: %s → %s", l.Name, v, version.OrUnknown(l.Version)))
		}
	}
	for name, v := range was {
		out = append(out, fmt.Sprintf("%s: %s taken off", name, v))
	}
	sort.Strings(out)
	return out
}

// checkLayers holds every layer to the versions of the build that it fits, and
// tells where two bring one file.
func checkLayers(ctx context.Context, s *situation) (out []Finding) {
	for _, lf := range s.fetched.Layers {
		c := lf.Candidate
		where := c.Source
		if was, ok := s.inv.Laid(lf.Layer); ok && was.Version != "" && lf.Version != "" && was.Version != lf.Version && !s.want.Back {
			if newer, known := c.newer(was.Version); known && !newer {
				out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s %s is older than the installed %s", lf.Layer, lf.Version, was.Version), Where: where,
					Why: "a step back is never an accident", Do: "add --back if it is meant"})
			}
		}
		switch {
		case c.Fits == "":
		case s.plan.To == "":
			out = append(out, Finding{Level: Warn, What: fmt.Sprintf("%s %s fits %s, and the build's version is not known", lf.Layer, lf.Version, c.Fits), Where: where,
				Why: "an add-on for another version often keeps the server from coming up", Do: "say the version with --as"})
		case !version.Fits(c.Fits, s.plan.To):
			f := Finding{Level: Stop, What: fmt.Sprintf("layer %s %s fits %s, not %s", lf.Layer, lf.Version, c.Fits, s.plan.To), Where: where,
				Why: "it says so itself; a layer that does not fit often keeps the server from coming up", Do: s.otherLayer(ctx, lf.Layer)}
			out = append(out, f)
		default:
			out = append(out, ok("layer %s %s fits %s", lf.Layer, lf.Version, s.plan.To)...)
		}
	}
	for _, g := range s.fetched.gone {
		f := Finding{Level: Warn, What: fmt.Sprintf("layer %s is left out: %s", g.layer, g.why), Where: "[[layer]] in freshkeel.toml",
			Why: "the server runs without it", Do: fmt.Sprintf("nothing, if that is meant; --layer %s=VERSION lays it on", g.layer)}
		if !g.said {
			f.Level, f.Why, f.Do = Stop, "what it brings would be missing", fmt.Sprintf("go without it: --without %s", g.layer)
		}
		out = append(out, f)
	}
	if n := len(s.plan.Overlaid); n > 0 {
		var list []string
		for _, o := range s.plan.Overlaid {
			list = append(list, fmt.Sprintf("%s (%s over %s)", o.Path, whose(o.Over), whose(o.Under)))
		}
		out = append(out, Finding{Level: Warn, What: fmt.Sprintf("%s brought twice: %s", words.Plural(n, "path"), words.Some(list, 4)), Where: "the order of [[layer]] in freshkeel.toml",
			Why: "the later layer's file is used", Do: "change the order of the layers if the other one is meant"})
	}
	return out
}

// otherLayer advises a version of a layer that fits, or going without it.
func (s *situation) otherLayer(ctx context.Context, name string) string {
	without := fmt.Sprintf("go without it: --without %s", name)
	o, err := s.k.layer(name)
	if err != nil {
		return without
	}
	f, err := s.k.list(ctx, o)
	if err != nil {
		return without
	}
	if b, ok := f.Newest(o.Source.Channel, func(b feed.Build) bool { return version.Fits(cmp.Or(b.Fits, o.Fits), s.plan.To) }); ok {
		return fmt.Sprintf("take %s %s, which fits: --layer %s=%s; or %s", name, b.Version, name, b.Version, without)
	}
	return "none of its versions fits; " + without
}
