package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Item is a file, folder or link of a build or a layer, under the name that the install
// has for it. A build may have hundreds of thousands: an item points to its set's entry
// and to what stands here, and copies neither.
type Item struct {
	At   string
	File *locker.File // as its set has it, with the path that it has there

	here  int32 // where in Plan.Before it stands, if the inventory will say
	owned owned // that of it
}

// owned is from where the inventory takes what it says of a file.
type owned uint8

const (
	unowned  owned = iota // it says nothing of it
	asBuilt               // from the build
	asHere                // from what stands here, which has the build's content
	asEdited              // from what stands here, a line of which is changed: its times prove nothing
	asWas                 // from the inventory before: the operator changed it since
)

// Items are a build's files by their paths, each path once.
type Items []Item

func byPath(it Item, at string) int { return strings.Compare(it.At, at) }

// Find is the item at a path; nil for none.
func (c Items) Find(at string) *Item {
	if i, is := slices.BinarySearchFunc(c, at, byPath); is {
		return &c[i]
	}
	return nil
}

// sorted brings items into the order of their paths. Of several with one path that stays
// which wins prefers, the first of equals.
func (c Items) sorted(prefers func(a, b Item) bool) Items {
	if !slices.IsSortedFunc(c, func(a, b Item) int { return strings.Compare(a.At, b.At) }) {
		slices.SortStableFunc(c, func(a, b Item) int { return strings.Compare(a.At, b.At) })
	}
	out := c[:0]
	for _, it := range c {
		if n := len(out); n == 0 || out[n-1].At != it.At {
			out = append(out, it)
		} else if prefers != nil && prefers(it, out[n-1]) {
			out[n-1] = it
		}
	}
	return out
}

// Respelled names each item as the install spells it.
func (c Items) Respelled(as tree.Spelling) Items {
	if as.Free() {
		return c
	}
	for i := range c {
		c[i].At = as.Of(c[i].At)
	}
	return c.sorted(func(Item, Item) bool { return true })
}

// Placed gives each file of a set the name that the install uses for it, by the rules of
// [place]. unfound are the patterns that match nothing.
func Placed(set *locker.Set, place map[string]string) (out Items, bad []Blocked, unfound []string) {
	out = make(Items, 0, len(set.Entries))
	used, pats := map[string]string{}, slices.Sorted(maps.Keys(place))
	match := tree.NewMatcher(pats)
	for i := range set.Entries {
		f := &set.Entries[i]
		to, by := f.Path, ""
		if f.Kind != tree.File {
			out = append(out, Item{At: to, File: f})
			continue
		}
		for _, pat := range match.All(f.Path) {
			name := place[pat]
			if by != "" && place[by] != name {
				bad = append(bad, Blocked{f.Path,
					fmt.Sprintf("the [place] patterns %s and %s both match it", words.Quote(by), words.Quote(pat)),
					"make one of the two patterns longer, so that one alone matches it"})
			}
			by = pat
			if first, twice := used[pat]; twice {
				bad = append(bad, Blocked{name,
					fmt.Sprintf("the [place] pattern %s matches both %s and %s of the build", words.Quote(pat), first,
						f.Path),
					fmt.Sprintf("make the pattern match the one that is to be %s: a longer one, or the whole name",
						name)})
			}
			used[pat], to = f.Path, name
		}
		out = append(out, Item{At: to, File: f})
	}
	for _, pat := range pats {
		if used[pat] == "" {
			unfound = append(unfound, pat)
		}
	}
	// A file that a rule lays somewhere hides the file that the build has there.
	return out.sorted(func(a, _ Item) bool { return a.At != a.File.Path }), bad, unfound
}

// hides lists the files of a build in whose place [place] lays another: what is laid,
// and what is hidden by it.
func hides(set *locker.Set, place map[string]string) (out []inventory.Move) {
	laid := map[string]*locker.File{} // by the name that it gets
	moved := map[string]bool{}
	match := tree.NewMatcher(slices.Sorted(maps.Keys(place)))
	for i := range set.Entries {
		f := &set.Entries[i]
		if f.Kind != tree.File {
			continue
		}
		for _, pat := range match.All(f.Path) {
			if place[pat] != f.Path {
				laid[place[pat]], moved[f.Path] = f, true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(laid)) {
		if f := set.Find(name); f != nil && f.Kind == tree.File && !moved[name] && f.Sum != laid[name].Sum {
			out = append(out, inventory.Move{From: laid[name].Path, To: name})
		}
	}
	return out
}
