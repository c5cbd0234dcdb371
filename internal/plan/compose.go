package plan

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"sort"

	"freshkeel/internal/acquire"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Placed gives each file of a build the name that the install uses for it.
func Placed(set *locker.Set, place map[string]string) (map[string]locker.File, []blocked, []string) {
	out := map[string]locker.File{}
	var bad []blocked
	used, pats := map[string]string{}, slices.Sorted(maps.Keys(place))
	for _, f := range set.Entries {
		to, by := f.Path, ""
		for _, pat := range pats {
			name := place[pat]
			if f.Kind == tree.File && (tree.Patterns{pat}).Match(f.Path) {
				if by != "" && place[by] != name {
					bad = append(bad, blocked{f.Path, fmt.Sprintf("the [place] patterns %s and %s both match it", words.Quote(by), words.Quote(pat)),
						"make one of the two patterns longer, so that one alone matches it"})
				}
				by = pat
				if first, twice := used[pat]; twice {
					bad = append(bad, blocked{name, fmt.Sprintf("the [place] pattern %s matches both %s and %s of the build", words.Quote(pat), first, f.Path),
						fmt.Sprintf("make the pattern match the one that is to be %s: a longer one, or the whole name", name)})
				}
				used[pat], to = f.Path, name
			}
		}
		if to != f.Path || out[to].Path == "" {
			f.Path = to
			out[to] = f
		}
	}
	var unfound []string
	for pat := range place {
		if used[pat] == "" {
			unfound = append(unfound, pat)
		}
	}
	sort.Strings(unfound)
	return out, bad, unfound
}

// hides lists the files of a build in whose place [place] lays another: what is laid,
// and what is hidden by it.
func hides(set *locker.Set, place map[string]string) (out []inventory.Move) {
	laid := map[string]*locker.File{} // by the name that it gets
	moved := map[string]bool{}
	pats := slices.Sorted(maps.Keys(place))
	for i := range set.Entries {
		f := &set.Entries[i]
		for _, pat := range pats {
			if f.Kind == tree.File && place[pat] != f.Path && (tree.Patterns{pat}).Match(f.Path) {
				laid[place[pat]], moved[f.Path] = f, true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(laid)) {
		if f := set.Find(name); f != nil && f.Kind == tree.File && !moved[name] && f.Sum != laid[name].Sum {
			out = append(out, inventory.Move{From: laid[name].Path, To: name})
		}
	}
	return out
}

// compose puts the build and its layers together: every path knows whose file
// it holds, and where two bring one, the later layer's is used.
func (k *Planner) compose(p *Plan, f *acquire.Fetched, old map[string]inventory.Owned) map[string]locker.File {
	build, bad, unfound := Placed(f.Set, f.Candidate.Place)
	p.Hidden = hides(f.Set, f.Candidate.Place)
	if !f.Candidate.Stays && len(unfound) == len(f.Candidate.Place) { // no rule speaks of the names as they are
		build = p.unwrap(build, "", "", old)
	}
	build = Respelled(build, p.Spelling)
	p.Blocked, p.Unfound = bad, unfound
	if !f.Candidate.Stays {
		k.rename(p, build, f.Candidate.Place)
	}
	for _, lf := range f.Layers {
		o, err := k.res.Layer(lf.Layer)
		if err != nil {
			continue // the profile's own list led here
		}
		files, bad, unfound := Placed(lf.Set, o.Place)
		p.Hidden = append(p.Hidden, hides(lf.Set, o.Place)...)
		p.Blocked, p.Unfound = append(p.Blocked, bad...), append(p.Unfound, unfound...)
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
		p.Layers = append(p.Layers, inventory.Laid{Name: lf.Layer, Version: lf.Version, Channel: cmp.Or(lf.Candidate.Channel, lf.Set.Channel), Build: lf.Set.ID, Fits: lf.Candidate.Fits})
	}
	for _, g := range f.Gone {
		p.Without = append(p.Without, g.Layer)
	}
	for at, file := range build {
		for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
			if up, ok := build[dir]; ok && up.Kind != tree.Dir {
				p.Blocked = append(p.Blocked, blocked{at, fmt.Sprintf("%s brings it, and %s brings a file called %s", Whose(p.Whose[at]), Whose(p.Whose[dir]), dir),
					fmt.Sprintf("ask their makers which of the two is right; [layer] into lays a layer into another folder, and --without %s goes without it", cmp.Or(p.Whose[at], p.Whose[dir]))})
				delete(build, file.Path)
				break
			}
		}
	}
	return build
}

// Respelled names each file as the install spells it.
func Respelled(files map[string]locker.File, as tree.Spelling) map[string]locker.File {
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

func Whose(layer string) string {
	if layer == "" {
		return "the build"
	}
	return "layer " + layer
}

// LayerChanges tells what becomes of each layer.
func LayerChanges(old, now []inventory.Laid) (out []string) {
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

// Drop is a folder around everything of a build, or of a layer, that the install does
// not have: what is in it is laid where the install has it.
type Drop struct {
	Layer  string `json:"layer,omitempty"` // "": the build
	Folder string `json:"folder"`
}

func (d Drop) String() string {
	return fmt.Sprintf("everything of %s lies in one folder, %s: its content is taken, since the install has those files without it", Whose(d.Layer), d.Folder)
}
