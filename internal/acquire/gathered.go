package acquire

import (
	"slices"
	"strings"

	"freshkeel/internal/locker"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
)

// gathered are the files of a build while its parts are brought together: of each path the
// last that came. A build may have hundreds of thousands, so that each is held once.
type gathered struct {
	files []locker.File  // those that were taken out again have no path
	at    map[string]int // path → place in files; nil until somebody asks by path
	used  *unpack.Used   // which patterns of the profile's source have matched something
	said  []string       // what signatures of it say, which is signed too
}

// index makes ready to be asked by path.
func (g *gathered) index() {
	if g.at != nil {
		return
	}
	g.at = make(map[string]int, len(g.files))
	for i := range g.files {
		g.at[g.files[i].Path] = i
	}
}

// get is the file at a path; nil for none. It holds until the next put.
func (g *gathered) get(path string) *locker.File {
	g.index()
	if i, is := g.at[path]; is {
		return &g.files[i]
	}
	return nil
}

// put takes a file, in place of one of its path.
func (g *gathered) put(f locker.File) {
	g.index()
	if i, is := g.at[f.Path]; is {
		g.files[i] = f
		return
	}
	g.at[f.Path] = len(g.files)
	g.files = append(g.files, f)
}

// drop takes out what matches.
func (g *gathered) drop(match func(path string) bool) {
	g.index()
	for i := range g.files {
		if at := g.files[i].Path; at != "" && match(at) {
			delete(g.at, at)
			g.files[i].Path = ""
		}
	}
}

// over lays files over what is there: what was a folder may be a file now, and the other
// way round.
func (g *gathered) over(fresh *gathered, removed func(path string) bool) {
	if len(g.files) == 0 {
		g.files, g.at = fresh.files, fresh.at
		return
	}
	fresh.index()
	if removed != nil {
		g.drop(func(at string) bool { _, again := fresh.at[at]; return !again && removed(at) })
	}
	for _, f := range fresh.files {
		if f.Path == "" {
			continue
		}
		if old := g.get(f.Path); old != nil && old.Kind == tree.Dir && f.Kind != tree.Dir {
			g.drop(func(at string) bool { return strings.HasPrefix(at, f.Path+"/") })
		}
		g.put(f)
	}
}

// all gives the files in the order of their paths. Nothing can be put any more.
func (g *gathered) all() []locker.File {
	g.at = nil
	out := slices.DeleteFunc(g.files, func(f locker.File) bool { return f.Path == "" })
	if !slices.IsSortedFunc(out, byPath) {
		slices.SortFunc(out, byPath)
	}
	return out
}

func byPath(a, b locker.File) int { return strings.Compare(a.Path, b.Path) }

// watch notes which patterns of the profile's source match something: of a feed's parts those that it lays over what
// the feed says, which see tells of; of another source's, the rule by which an archive is opened.
func (g *gathered) watch(c *resolve.Candidate, rule *unpack.Rule, over unpack.Rule) (see func(path string)) {
	if c.Src.Kind() == "feed" {
		if g.used == nil {
			g.used = over.Watch()
		}
		return g.used.See
	}
	if g.used == nil {
		g.used = rule.Watch()
	}
	rule.Used = g.used
	return func(string) {}
}
