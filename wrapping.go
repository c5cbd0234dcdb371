package freshkeel

import (
	"fmt"
	"strings"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tree"
)

// Drop is a folder around everything of a build, or of a layer, that the install does
// not have: what is in it is laid where the install has it.
type Drop struct {
	Layer  string `json:"layer,omitempty"` // "": the build
	Folder string `json:"folder"`
}

func (d Drop) String() string {
	return fmt.Sprintf("everything of %s lies in one folder, %s: its content is taken, since the install has those files without it", whose(d.Layer), d.Folder)
}

// unwrap drops the folders around a build's files that the install does not have. into
// is where a layer is laid.
func (p *Plan) unwrap(files map[string]locker.File, layer, into string, old map[string]inventory.Owned) map[string]locker.File {
	var paths []string
	for at, f := range files {
		if f.Kind != tree.Dir {
			paths = append(paths, at)
		}
	}
	has := func(at string) bool {
		if into != "" {
			at = into + "/" + at
		}
		at = p.Spelling.Of(at)
		e, here := p.Before.Get(at)
		o, was := old[at]
		return (here && e.Kind != tree.Dir) || (was && o.Kind != tree.Dir)
	}
	folder := resolve.Wrapping(paths, has)
	if folder == "" {
		return files
	}
	p.Dropped = append(p.Dropped, Drop{layer, folder})
	out := make(map[string]locker.File, len(files))
	for at, f := range files {
		if f.Path = strings.TrimPrefix(at, folder+"/"); f.Path != at {
			out[f.Path] = f
		}
	}
	return out
}
