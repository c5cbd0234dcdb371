package tree

import (
	"fmt"
	"iter"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// Chosen makes the patterns that a person typed those of a list of paths: a folder's name alone, with or without
// a slash behind it, means all that is in it, and a path in root is one of the install. A pattern that matches
// nothing is an error, which names what is spelled like it; list gives paths, and whether each is a folder; like
// gives the nearest of some words to one, or "".
func Chosen(typed []string, root string, list iter.Seq2[string, bool], like func(word string,
	of []string) string) (Patterns, error) {
	if len(typed) == 0 {
		return nil, nil
	}
	folders, names := map[string]bool{}, map[string]bool{}
	for at, dir := range list {
		if Ours(at) {
			continue
		}
		names[at] = true
		if dir {
			folders[at] = true
		}
		for dir := path.Dir(at); dir != "." && !folders[dir]; dir = path.Dir(dir) {
			folders[dir], names[dir] = true, true
		}
	}
	var out Patterns
	for _, was := range typed {
		pat := was
		if filepath.IsAbs(pat) && root != "" && Inside(root, pat) {
			pat = Rel(root, pat)
		}
		if filepath.Separator == '\\' {
			pat = strings.ReplaceAll(pat, `\`, "/")
		}
		pat = strings.TrimSuffix(strings.TrimPrefix(pat, "./"), "/")
		if err := (Patterns{pat}).Check(); err != nil {
			return nil, err
		}
		if folders[pat] {
			out = append(out, Literally(pat)+"/**")
			continue
		}
		if names[pat] { // a name may have signs in it
			out = append(out, Literally(pat))
			continue
		}
		one, found := Patterns{pat}, false
		for at := range names {
			if !(Patterns{pat}).Match(at) {
				continue
			}
			if found = true; folders[at] {
				one = append(one, Literally(at)+"/**")
			}
		}
		if !found {
			return nil, unmatched(was, pat, names, folders, like)
		}
		out = append(out, one...)
	}
	return out, nil
}

// unmatched says that a pattern matches nothing, and what is spelled like it.
func unmatched(was, pat string, names, folders map[string]bool, like func(string, []string) string) error {
	of := make([]string, 0, len(names))
	for name := range names {
		if strings.Count(name, "/") == strings.Count(strings.TrimSuffix(pat, "/**"), "/") {
			of = append(of, name)
		}
	}
	slices.Sort(of)
	near := ""
	for _, name := range slices.Sorted(maps.Keys(names)) { // in another folder, or with other letters
		if strings.EqualFold(path.Base(name), path.Base(pat)) {
			near = name
			break
		}
	}
	if near == "" {
		near = like(strings.TrimSuffix(pat, "/**"), of)
	}
	switch {
	case near != "" && folders[near]:
		return fmt.Errorf("nothing matches %q; there is a folder %s/", was, near)
	case near != "":
		return fmt.Errorf("nothing matches %q; there is %s", was, near)
	}
	var top []string
	for name := range names {
		if !strings.Contains(name, "/") {
			if folders[name] {
				name += "/"
			}
			top = append(top, name)
		}
	}
	slices.Sort(top)
	if len(top) > 8 {
		top = append(top[:8], "…")
	}
	return fmt.Errorf("nothing matches %q; there are %s", was, strings.Join(top, ", "))
}

// Each gives the paths of a list as Chosen takes them.
func (l List) Each() iter.Seq2[string, bool] {
	return func(yield func(string, bool) bool) {
		for _, e := range l {
			if !yield(e.Path, e.Kind == Dir) {
				return
			}
		}
	}
}
