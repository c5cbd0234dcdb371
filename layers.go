package freshkeel

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"sort"

	"freshkeel/internal/acquire"
	"freshkeel/internal/feed"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
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

// compose puts the build and its layers together: every path knows whose file
// it holds, and where two bring one, the later layer's is used.
func (k *Keel) compose(p *Plan, f *acquire.Fetched, old map[string]inventory.Owned) map[string]locker.File {
	build, bad, unfound := placed(f.Set, f.Candidate.Place)
	p.Hidden = hides(f.Set, f.Candidate.Place)
	if !f.Candidate.Stays && len(unfound) == len(f.Candidate.Place) { // no rule speaks of the names as they are
		build = p.unwrap(build, "", "", old)
	}
	build = respelled(build, p.Spelling)
	p.Blocked, p.unfound = bad, unfound
	if !f.Candidate.Stays {
		k.rename(p, build, f.Candidate.Place)
	}
	for _, lf := range f.Layers {
		o, err := k.res.Layer(lf.Layer)
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
			at = p.Spelling.Of(at)
			file.Path = at
			if under, twice := build[at]; twice && (under.Kind != tree.Dir || file.Kind != tree.Dir) {
				p.Overlaid = append(p.Overlaid, Overlaid{at, p.Whose[at], lf.Layer})
			}
			build[at], p.Whose[at] = file, lf.Layer
		}
		p.Layers = append(p.Layers, Laid{Name: lf.Layer, Version: lf.Version, Channel: cmp.Or(lf.Candidate.Channel, lf.Set.Channel), Build: lf.Set.ID, Fits: lf.Candidate.Fits})
	}
	for _, g := range f.Gone {
		p.Without = append(p.Without, g.Layer)
	}
	for at, file := range build {
		for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
			if up, ok := build[dir]; ok && up.Kind != tree.Dir {
				p.Blocked = append(p.Blocked, blocked{at, fmt.Sprintf("%s brings it, and %s brings a file called %s", whose(p.Whose[at]), whose(p.Whose[dir]), dir),
					fmt.Sprintf("ask their makers which of the two is right; [layer] into lays a layer into another folder, and --without %s goes without it", cmp.Or(p.Whose[at], p.Whose[dir]))})
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
			if newer, known := c.Newer(was.Version); known && !newer {
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
	for _, g := range s.fetched.Gone {
		f := Finding{Level: Warn, What: fmt.Sprintf("layer %s is left out: %s", g.Layer, g.Why), Where: "[[layer]] in freshkeel.toml",
			Why: "the server runs without it", Do: fmt.Sprintf("nothing, if that is meant; --layer %s=VERSION lays it on", g.Layer)}
		if !g.Said {
			f.Level, f.Why, f.Do = Stop, "what it brings would be missing", fmt.Sprintf("go without it: --without %s", g.Layer)
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
	o, err := s.k.res.Layer(name)
	if err != nil {
		return without
	}
	f, err := s.k.res.List(ctx, o)
	if err != nil {
		return without
	}
	if b, ok := f.Newest(o.Source.Channel, func(b feed.Build) bool { return version.Fits(cmp.Or(b.Fits, o.Fits), s.plan.To) }); ok {
		return fmt.Sprintf("take %s %s, which fits: --layer %s=%s; or %s", name, b.Version, name, b.Version, without)
	}
	return "none of its versions fits; " + without
}
