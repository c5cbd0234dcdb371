package freshkeel

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/inventory"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
)

// Addon is one add-on as it will stand in the install, and what it says of
// itself.
type Addon struct {
	Path    string   `json:"path"`
	Name    string   `json:"name"` // as it says, else that of its file
	Version string   `json:"version,omitempty"`
	Fits    []string `json:"fits,omitempty"` // ranges of the build's versions, any of which will do
	Layer   string   `json:"layer,omitempty"`
	Lacks   string   `json:"lacks,omitempty"` // why it does not say

	newer bool // a version alone means that one and newer
}

// Addons lists what of some paths is an add-on by the profile, and reads what each says.
func (a *Ahead) Addons(rules profile.Addons, paths []string) (out []Addon) {
	seen := map[string]bool{}
	for _, at := range paths {
		for _, p := range []string{at, path.Dir(at)} {
			if seen[p] || p == "." || !rules.Files.Match(p) {
				continue
			}
			seen[p] = true
			out = append(out, a.addon(rules, p))
		}
	}
	slices.SortFunc(out, func(x, y Addon) int { return strings.Compare(x.Path, y.Path) })
	return out
}

func (a *Ahead) addon(rules profile.Addons, at string) (add Addon) {
	add = Addon{Path: at, Name: path.Base(at), Layer: a.layerOf[at], newer: rules.Bare == profile.BareAtLeast}
	if !a.Brings(at) && a.before.At(at).Kind == tree.Link {
		add.Lacks = "it is a link, and what lies behind it is not looked at"
		return add
	}
	var d needs.Descriptor
	b, err := a.Text(path.Join(at, rules.Descriptor))
	switch {
	case err == nil:
		d, err = needs.ReadDescriptor(rules.Descriptor, b)
	case a.Folder(at):
		err = needs.ErrNoDescriptor
	default:
		r, size, done, cerr := a.Content(at)
		if err = cerr; err == nil {
			d, err = needs.DescriptorIn(r, size, rules.Descriptor)
			done()
		}
	}
	if err != nil {
		add.Lacks = err.Error()
		if errors.Is(err, needs.ErrNoDescriptor) || errors.Is(err, fs.ErrNotExist) {
			add.Lacks = "it has no " + rules.Descriptor
		}
		return add
	}
	if name := d.Field(rules.Name); len(name) > 0 {
		add.Name = name[0]
	}
	if v := d.Field(rules.Version); len(v) > 0 {
		add.Version = v[0]
	}
	if add.Fits = d.Field(rules.Fits); len(add.Fits) == 0 {
		add.Lacks = fmt.Sprintf("%s has no field %s", rules.Descriptor, rules.Fits)
	}
	return add
}

// fits holds the add-on against a version; text is the range that decided.
func (a Addon) fits(ver string) (fits bool, text string, err error) {
	for _, r := range a.Fits {
		ok, e := version.FitsAddon(r, ver, a.newer)
		if ok {
			return true, r, nil
		}
		err = errors.Join(err, e)
	}
	return false, strings.Join(a.Fits, " or "), err
}

func (a Addon) String() string {
	s := a.Path
	if a.Name != path.Base(a.Path) {
		s = fmt.Sprintf("%s (%s)", a.Name, a.Path)
	}
	return s
}

// holdBack leaves add-ons out of this refit, by path, file name or their own
// name: their files go out with the swap, and stand in its backup.
func (k *Keel) holdBack(p *Plan, w Want) error {
	if len(w.Hold) == 0 {
		return nil
	}
	if len(k.in.Profile.Addons.Files) == 0 {
		return tell.Misuse("this profile does not say which files are add-ons", "name them in freshkeel.toml under [addons] files, descriptor and fits")
	}
	all := p.Addons(k.in.Profile.Addons, append(p.before.Paths(), slices.Sorted(maps.Keys(p.files))...))
	for _, name := range w.Hold {
		n := slices.IndexFunc(all, func(a Addon) bool { return a.Path == name || a.Name == name || path.Base(a.Path) == name })
		if n < 0 {
			var have []string
			for _, a := range all {
				have = append(have, path.Base(a.Path))
			}
			return tell.Misuse(fmt.Sprintf("there is no add-on %q", name), "these are here: "+strings.Join(have, ", "))
		}
		p.leaveOut(all[n].Path)
	}
	return nil
}

// tellHeldBack tells how what was left out of a refit comes back.
func (t *transaction) tellHeldBack(p *Plan) {
	for _, at := range p.HeldBack {
		t.e.Told = append(t.e.Told, fmt.Sprintf("held back: %s; once it fits: freshkeel backup restore %s --only '%s'", at, t.e.Backup, p.onlyThat(at)))
	}
}

// onlyThat is the pattern that a restore takes for a path: a folder with all in it.
func (p *Plan) onlyThat(at string) string {
	if p.before.At(at).Kind == tree.Dir {
		return at + "/**"
	}
	return at
}

// leaveOut takes a path, and all below it, out of what will stand in the
// install.
func (p *Plan) leaveOut(top string) {
	below := func(at string) bool { return at == top || strings.HasPrefix(at, top+"/") }
	p.HeldBack = append(p.HeldBack, top)
	p.Steps = slices.DeleteFunc(p.Steps, func(st swap.Step) bool { return below(st.Path) })
	for at, f := range p.files {
		if below(at) {
			p.Bytes -= f.Size
			delete(p.files, at)
		}
	}
	p.owned = slices.DeleteFunc(p.owned, func(o inventory.Owned) bool { return below(o.Path) })
	p.Kept = slices.DeleteFunc(p.Kept, below)
	for _, e := range p.before {
		at := e.Path
		switch {
		case !below(at):
		case e.Kind == tree.Dir:
			p.Steps = append(p.Steps, swap.Step{Do: swap.DropDir, Path: at})
		default:
			p.remove(at)
		}
	}
}
