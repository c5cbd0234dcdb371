package ahead

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
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

	Newer bool `json:"-"` // a version alone means that one and newer
}

// FitsVersion holds the add-on against a version; text is the range that decided.
func (a Addon) FitsVersion(ver string) (fits bool, text string, err error) {
	for _, r := range a.Fits {
		ok, e := version.FitsAddon(r, ver, a.Newer)
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
	add = Addon{Path: at, Name: path.Base(at), Layer: a.Whose[at], Newer: rules.Bare == profile.BareAtLeast}
	if !a.Brings(at) && a.Before.At(at).Kind == tree.Link {
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
