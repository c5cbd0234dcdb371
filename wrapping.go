package freshkeel

import (
	"fmt"
	"strings"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
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

// mostWrapped bounds how many folders around a build are looked through.
const mostWrapped = 4

// wrapping finds the folders around everything of a build that the install does not
// have: without them, names are those of installed files, and with them none is. has
// tells whether the install has a file of a name. "" is for none.
func wrapping(paths []string, has func(string) bool) string {
	prefix := ""
	for range mostWrapped {
		top := ""
		for _, at := range paths {
			rest := strings.TrimPrefix(at, prefix)
			if has(rest) {
				return strings.TrimSuffix(prefix, "/")
			}
			first, _, below := strings.Cut(rest, "/")
			if !below || (top != "" && first != top) {
				top = "/" // not all lie in one folder
			} else if top == "" {
				top = first
			}
		}
		if top == "" || top == "/" {
			return ""
		}
		prefix += top + "/"
	}
	return ""
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
		at = p.spelling.Of(at)
		e, here := p.before.Get(at)
		o, was := old[at]
		return (here && e.Kind != tree.Dir) || (was && o.Kind != tree.Dir)
	}
	folder := wrapping(paths, has)
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
