package tree

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// Elsewhere are folders that belong to a tree and stand outside of it, on another
// disk most often: the name at the tree's top under which each is part of the tree,
// and its full path.
type Elsewhere map[string]string

// elsewhere is this program's own table of mounts: the Elsewhere of each tree, by the
// folder in which the tree begins. It is kept here, and not handed from room to room,
// since it has to hold for everybody who walks, opens or exchanges a path of the tree:
// one who did not know of it would find a file missing there.
var elsewhere sync.Map

// Graft makes folders that stand elsewhere part of the tree at root, from now on. What
// stands in the tree under their names, a link that leads there most often, is not seen
// any more. None takes them off.
func Graft(root string, e Elsewhere) {
	if len(e) == 0 {
		elsewhere.Delete(filepath.Clean(root))
		return
	}
	elsewhere.Store(filepath.Clean(root), e)
}

// Grafted are the folders that are part of the tree at root and stand elsewhere.
func Grafted(root string) Elsewhere {
	e, _ := elsewhere.Load(filepath.Clean(root))
	out, _ := e.(Elsewhere)
	return out
}

// Names are the names under which the folders are part of the tree, sorted.
func (e Elsewhere) Names() []string {
	return slices.Sorted(maps.Keys(e))
}

// split tells under which of the names a path of the tree lies, and its path there, ""
// for the folder itself. ok is false where it lies in the tree's own folder.
func (e Elsewhere) split(rel string) (name, rest string, ok bool) {
	if len(e) == 0 {
		return "", "", false
	}
	name, rest, _ = strings.Cut(rel, "/")
	_, ok = e[name]
	return name, rest, ok
}

// Full is the full path of a path of the tree at root.
func Full(root, rel string) string {
	e := Grafted(root)
	if name, rest, ok := e.split(rel); ok {
		return filepath.Join(e[name], filepath.FromSlash(rest))
	}
	return filepath.Join(root, filepath.FromSlash(rel))
}

// Same tells whether both have the same folders under the same names.
func (e Elsewhere) Same(o Elsewhere) bool { return maps.Equal(e, o) }

// String is the folders as a person reads them.
func (e Elsewhere) String() string {
	if len(e) == 0 {
		return "none"
	}
	var all []string
	for _, name := range e.Names() {
		all = append(all, fmt.Sprintf("%s at %s", name, e[name]))
	}
	return strings.Join(all, ", ")
}
