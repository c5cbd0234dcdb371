package plan

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/acquire"
	"freshkeel/internal/inventory"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// compose puts the build and its layers together into the plan's items: every path knows
// whose file it holds, and where two bring one, the later layer's is used.
func (pr *Planner) compose(p *Plan, f *acquire.Fetched) error {
	build, bad, unfound := Placed(f.Set, f.Candidate.Place)
	p.Hidden = hides(f.Set, f.Candidate.Place)
	p.Blocked, p.Unfound = bad, unfound
	var err error
	if !f.Candidate.Stays && len(unfound) == len(f.Candidate.Place) { // no rule speaks of the names as they are
		if build, err = pr.unwrap(p, build, "", ""); err != nil {
			return err
		}
	}
	build = build.Respelled(p.Spelling)
	if !f.Candidate.Stays {
		if build, err = pr.relaid(p, build); err != nil {
			return err
		}
		build = pr.rename(p, build, f.Candidate.Place)
	}
	for _, lf := range f.Layers {
		o, err := pr.res.Layer(lf.Layer)
		if err != nil {
			return err
		}
		files, bad, unfound := Placed(lf.Set, o.Place)
		p.Hidden = append(p.Hidden, hides(lf.Set, o.Place)...)
		p.Blocked, p.Unfound = append(p.Blocked, bad...), append(p.Unfound, unfound...)
		if len(unfound) == len(o.Place) {
			if files, err = pr.unwrap(p, files, lf.Layer, o.Into); err != nil {
				return err
			}
		}
		for i := range files {
			if o.Into != "" {
				files[i].At = o.Into + "/" + files[i].At
			}
		}
		build = p.lay(files.Respelled(p.Spelling), build, lf.Layer)
		p.Layers = append(p.Layers, inventory.Laid{Name: lf.Layer, Version: lf.Version,
			Channel: cmp.Or(lf.Candidate.Channel,
				lf.Set.Channel), Build: lf.Set.ID, Fits: lf.Candidate.Fits, ByHand: lf.Candidate.ByHand})
	}
	for _, g := range f.Gone {
		p.Without = append(p.Without, g.Layer)
	}
	p.items = p.withoutFilesAbove(build)
	return nil
}

// lay lays the files of a layer over what lies there: of each path one is left.
func (p *Plan) lay(over, under Items, layer string) Items {
	out := append(under, over...).sorted(func(o, u Item) bool {
		if u.File.Kind != tree.Dir || o.File.Kind != tree.Dir {
			p.Overlaid = append(p.Overlaid, Overlaid{o.At, p.Whose[o.At], layer})
		}
		return true
	})
	for _, it := range over {
		p.Whose[it.At] = layer
	}
	return out
}

// withoutFilesAbove leaves out what would lie below a file of another one's, and tells.
func (p *Plan) withoutFilesAbove(build Items) Items {
	above := map[string]*Item{".": nil} // folder → the file that stands in its place, or above it
	var fileAt func(dir string) *Item
	fileAt = func(dir string) *Item {
		up, known := above[dir]
		if !known {
			if up = build.Find(dir); up == nil || up.File.Kind == tree.Dir {
				up = fileAt(path.Dir(dir))
			}
			above[dir] = up
		}
		return up
	}
	blocked := map[string]bool{}
	for _, it := range build {
		if up := fileAt(path.Dir(it.At)); up != nil {
			blocked[it.At] = true
			p.Blocked = append(p.Blocked, Blocked{it.At,
				fmt.Sprintf("%s brings it, and %s brings a file called %s", Whose(p.Whose[it.At]),
					Whose(p.Whose[up.At]), up.At),
				fmt.Sprintf(
					"ask their makers which of the two is right; [layer] into lays a layer into another folder, and "+
						"--without %s goes without it",
					cmp.Or(p.Whose[it.At], p.Whose[up.At]),
				)})
		}
	}
	if len(blocked) == 0 {
		return build
	}
	return slices.DeleteFunc(build, func(it Item) bool { return blocked[it.At] })
}

// Drop is a folder of a build, or of a layer, that the install does not have: what is in it is laid
// where the install has it. It is around everything, or (By) around some.
type Drop struct {
	Layer  string `json:"layer,omitempty"` // "": the build
	Folder string `json:"folder"`
	To     string `json:"to,omitempty"`    // the folder of the install that its content is laid in; ".": the top
	By     string `json:"by,omitempty"`    // a file of it that stands there
	Files  int    `json:"files,omitempty"` // how many of them
}

func (d Drop) String() string {
	if d.By != "" {
		to := "the install's own folder"
		if d.To != "." {
			to = d.To
		}
		return fmt.Sprintf("the folder %s has %s of %s: laid in %s, where %s stands", d.Folder, words.Plural(d.Files, "file"),
			Whose(d.Layer), to, d.By)
	}
	return fmt.Sprintf("everything of %s lies in one folder, %s: its content is taken, since the install has those "+
		"files without it", Whose(d.Layer), d.Folder)
}

// unwrap drops the folders around a build's files that the install does not have. into
// is where a layer is laid.
func (pr *Planner) unwrap(p *Plan, files Items, layer, into string) (Items, error) {
	var deleted map[string]bool // files of the inventory that are not here
	var err error
	has := func(at string) bool {
		if into != "" {
			at = into + "/" + at
		}
		at = p.Spelling.Of(at)
		if e, here := p.Before.Get(at); here && e.Kind != tree.Dir {
			return true
		}
		if deleted == nil && err == nil {
			deleted, err = pr.deleted(p)
		}
		return deleted[at]
	}
	var paths []string
	for _, it := range files {
		if it.File.Kind != tree.Dir {
			paths = append(paths, it.At)
		}
	}
	folder := resolve.Wrapping(paths, has)
	if folder == "" || err != nil {
		return files, err
	}
	p.Dropped = append(p.Dropped, Drop{Layer: layer, Folder: folder})
	out := files[:0]
	for _, it := range files {
		if rest, in := strings.CutPrefix(it.At, folder+"/"); in {
			it.At = rest
			out = append(out, it)
		}
	}
	return out.sorted(nil), nil
}

// deleted lists the files of the inventory that do not stand in the install any more.
func (pr *Planner) deleted(p *Plan) (map[string]bool, error) {
	s, err := pr.inv.Scan()
	if err != nil {
		return nil, err
	}
	defer s.Close()
	out := map[string]bool{}
	for o := s.Next(); o != nil; o = s.Next() {
		at := p.Spelling.Of(o.Path)
		if e, here := p.Before.Get(at); o.Kind != tree.Dir && !(here && e.Kind != tree.Dir) {
			out[at] = true
		}
	}
	return out, s.Err()
}

// Whose is a layer as it is told; "" is the build.
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
	slices.Sort(out)
	return out
}
