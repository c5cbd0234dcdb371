// Package proof holds a merge of settings against what it was made of, by readers that the merge does not have: what a
// reader misunderstands it also proves wrongly. It knows no places in a text, only what the text says.
package proof

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"freshkeel/internal/tree"
)

// Values are what a text says: the values of each path, in the order of the text. The values of a list have the path of the
// list with «[]» behind it.
type Values map[string][]string

func (v Values) put(path, value string) { v[path] = append(v[path], value) }

// Rules are what a profile says of the file: see settings.Rules.
type Rules struct {
	Always map[string]string
	Never  tree.Patterns
	Rename map[string]string
}

// Check gives the paths, sorted, at which a merged text is not what three-way says: the operator's change where there is
// one, else the maker's. old is nil where it is not known. The error says that one of the texts can't be read here.
func Check(format string, old, now, mine, merged []byte, r Rules) (wrong []string, err error) {
	o, n, m, got := Values{}, Values{}, Values{}, Values{}
	for _, one := range []struct {
		what string
		text []byte
		v    *Values
	}{{"the old default", old, &o}, {"the new default", now, &n}, {"yours", mine, &m}, {"the merged text", merged, &got}} {
		if one.text == nil && one.v == &o { // it is not known
			continue
		}
		if *one.v, err = Read(format, one.text); err != nil {
			return nil, fmt.Errorf("%s: %w", one.what, err)
		}
	}
	for from, to := range r.Rename {
		for _, one := range []Values{o, m} {
			if list, is := one[from]; is && one[to] == nil {
				one[to] = list
				delete(one, from)
			}
		}
	}
	var paths []string
	for _, one := range []Values{o, n, m, got} {
		paths = slices.AppendSeq(paths, maps.Keys(one))
	}
	slices.Sort(paths)
	for _, path := range slices.Compact(paths) {
		if value, is := r.Always[path]; is && n[path] != nil {
			if len(got[path]) != 1 || plain(got[path][0]) != plain(value) {
				wrong = append(wrong, path)
			}
			continue
		}
		if never(r.Never, path) {
			if !slices.Equal(got[path], n[path]) {
				wrong = append(wrong, path)
			}
			continue
		}
		if !right(o[path], n[path], m[path], got[path], old != nil, strings.HasSuffix(path, "[]")) {
			wrong = append(wrong, path)
		}
	}
	return wrong, nil
}

func never(list tree.Patterns, path string) bool {
	path = strings.TrimSuffix(path, "[]")
	return list.Match(strings.ReplaceAll(path, ".", "/")) || list.Match(path)
}

// plain is a value without its kind and quotes.
func plain(s string) string {
	s = s[strings.IndexByte(s, ' ')+1:]
	return strings.Trim(s, `"'`)
}

// right tells whether a path has the values that it must have.
func right(o, n, m, got []string, known, list bool) bool {
	switch {
	case !known && m == nil:
		return slices.Equal(got, n)
	case !known && (len(m) > 1 || list):
		return slices.Equal(got, m) || sameSet(got, union(n, m))
	case !known:
		return slices.Equal(got, m)
	case slices.Equal(m, o):
		return slices.Equal(got, n)
	case slices.Equal(n, o), slices.Equal(n, m):
		return slices.Equal(got, m) || len(m) > 1 && sameSet(got, m)
	case n == nil: // the maker has it no more: told
		return got == nil || slices.Equal(got, m)
	case m == nil: // taken out
		return got == nil
	case len(o) > 1 || len(n) > 1 || len(m) > 1 || list:
		return slices.Equal(got, m) || sameSet(got, union(without(n, without(o, m)), without(m, o)))
	}
	return slices.Equal(got, m)
}

// without are the values of one list that another has not, each as often as it stands there more.
func without(a, b []string) (out []string) {
	rest := slices.Clone(b)
	for _, v := range a {
		if i := slices.Index(rest, v); i >= 0 {
			rest = slices.Delete(rest, i, i+1)
			continue
		}
		out = append(out, v)
	}
	return out
}

// union are the values of a list, and those of another that it has not.
func union(a, b []string) []string { return append(slices.Clone(a), without(b, a)...) }

func sameSet(a, b []string) bool {
	a, b = slices.Clone(a), slices.Clone(b)
	slices.Sort(a)
	slices.Sort(b)
	return slices.Equal(a, b)
}
