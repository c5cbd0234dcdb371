package tree

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode"
)

// FoldsCase tells whether a file system takes two names for the same that differ by
// case alone: whether the file is found by a name in the other case that its folder
// does not list. A name without letters tells nothing.
func FoldsCase(file string) bool {
	folder, name := filepath.Split(file)
	other := strings.Map(func(r rune) rune {
		if unicode.IsUpper(r) {
			return unicode.ToLower(r)
		}
		return unicode.ToUpper(r)
	}, name)
	if _, err := os.Lstat(folder + other); err != nil || other == name {
		return false
	}
	// Numbers of files would not do: some file systems make them up by the name.
	d, err := os.Open(filepath.Clean(folder))
	if err != nil {
		return false
	}
	defer d.Close()
	names, err := d.Readdirnames(-1)
	return err == nil && !slices.Contains(names, other) // both are there: two files
}

// Spelling gives paths the spelling that a tree has them in, folder by folder, where
// case does not matter. The zero value leaves every path as it is.
type Spelling struct{ as map[string]string } // by the path in lower case

// SpelledAs is the spelling of the paths of a list.
func SpelledAs(l List) Spelling {
	s := Spelling{make(map[string]string, len(l))}
	for _, e := range l {
		s.as[strings.ToLower(e.Path)] = e.Path
	}
	return s
}

// Free tells whether any spelling goes.
func (s Spelling) Free() bool { return s.as == nil }

// Of spells a path. A path that the tree does not have is taken in as it came: a second path that
// differs from it by case alone is spelled like the first.
func (s Spelling) Of(path string) string {
	if s.as == nil {
		return path
	}
	out := ""
	for elem := range strings.SplitSeq(path, "/") {
		if out != "" {
			out += "/"
		}
		out += elem
		if known, ok := s.as[strings.ToLower(out)]; ok {
			out = known
		} else {
			s.as[strings.ToLower(out)] = out
		}
	}
	return out
}

// Like returns the path that a pattern would match if case did not matter, where it
// matches none as it is written, or "".
func (s Spelling) Like(pattern string) string {
	for _, at := range s.as {
		if (Patterns{pattern}).Match(at) {
			return ""
		}
	}
	folded, first := Patterns{strings.ToLower(pattern)}, ""
	for low, at := range s.as { // the first by name: a map has no order
		if folded.Match(low) && (first == "" || at < first) {
			first = at
		}
	}
	return first
}
