package audit

import (
	"fmt"
	"slices"
	"strings"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// attribute tells of each finding what would put it right, and of a file whose content is
// another's, whose: another version's, or that of the layer below.
func (l *looking) attribute(head *inventory.Inventory) error {
	if len(l.out.Findings) == 0 {
		return nil
	}
	store, err := l.Locker()
	if err != nil {
		return err
	}
	kept := (&wanted{store: store, sums: map[tree.Sum]*locker.File{}}).addAll(l.out.Findings)
	if err := kept.find(l.Auditor, head); err != nil {
		return err
	}
	for i := range l.out.Findings {
		f := &l.out.Findings[i]
		if f.Kind == Foreign {
			continue
		}
		l.way(f, kept)
	}
	return l.otherContent(store, head)
}

// way says how a finding is put right.
func (l *looking) way(f *Finding, kept *wanted) {
	switch {
	case f.Kind == Mode || f.Kind == Owner:
		f.Way, f.Do = Now, "freshkeel audit --mend"
	case f.Kind == Unlisted:
		f.Way, f.Do = Refit, l.refit()
	case f.was.Kind == tree.File && kept.sums[f.was.Sum] == nil:
		f.Way, f.Do = Refit, l.refit()
		f.What += "; the locker does not have what was there"
	case f.Kind == OtherKind:
		f.Way, f.Do = ByHand, fmt.Sprintf(
			"give what stands there another name: mv %s %s; then: freshkeel audit --mend",
			words.Shell(l.Path(f.Path)),
			words.Shell(l.Path(f.Path)+".old"),
		)
	case l.uses(f.Path):
		f.Way, f.Do = Stopped, "freshkeel stop; freshkeel audit --mend; freshkeel start"
	default:
		f.Way, f.Do = Now, "freshkeel audit --mend"
	}
}

// refit is the command that brings content which is not here.
func (l *looking) refit() string {
	if l.Profile.Source.Kind() == "" {
		return fmt.Sprintf(
			"with the archive that it came from: freshkeel adopt %s --build PATH; then: freshkeel audit --mend",
			l.Dir,
		)
	}
	return strings.TrimSpace("freshkeel refit --mend " + l.out.Version)
}

// wanted is content that would put findings right, and where the locker has it.
type wanted struct {
	store *locker.Locker
	sums  map[tree.Sum]*locker.File // nil: not found
	open  int
}

func (w *wanted) addAll(list []Finding) *wanted {
	for _, f := range list {
		if _, known := w.sums[f.was.Sum]; !known && f.was.Kind == tree.File {
			w.sums[f.was.Sum] = nil
			w.open++
		}
	}
	return w
}

// find looks for the content in the builds that the install came from, then in every other
// build, then in the backups, newest first.
func (w *wanted) find(a *Auditor, head *inventory.Inventory) error {
	look := func(owner, id string) {
		if w.open == 0 {
			return
		}
		w.store.Each(owner, id, func(f *locker.File) { // a set that can't be read has nothing to offer
			if have, want := w.sums[f.Sum]; want && have == nil && f.Kind == tree.File && w.store.Holds(f) {
				one := *f
				one.Pieces = slices.Clone(f.Pieces)
				w.sums[f.Sum] = &one
				w.open--
			}
		})
	}
	for _, id := range head.Sets() {
		if id != "" {
			look(locker.Builds, id)
		}
	}
	me, err := a.Identity()
	if err != nil {
		return err
	}
	for _, owner := range []string{me, locker.Builds} {
		heads, err := w.store.Heads(owner)
		if err != nil {
			return err
		}
		for _, h := range slices.Backward(heads) {
			look(owner, h.ID)
		}
	}
	return nil
}

// maxOther bounds for how many findings it is looked up whose content they have.
const maxOther = 2000

// otherContent says of what was changed whose content it has now, if a build in the locker
// has that under the same name.
func (l *looking) otherContent(store *locker.Locker, head *inventory.Inventory) error {
	now := map[tree.Sum][]*Finding{}
	for i := range l.out.Findings {
		f := &l.out.Findings[i]
		e, ok := l.list.Get(f.Path)
		if f.Kind != Changed || !ok || e.Kind != tree.File || len(now) > maxOther {
			continue
		}
		if sum, err := l.sum(f.Path); err == nil {
			now[sum] = append(now[sum], f)
		}
	}
	if len(now) == 0 {
		return nil
	}
	layers := map[string]string{}
	for _, laid := range head.Layers {
		layers[laid.Build] = "layer " + laid.Name
	}
	if head.Build != "" {
		layers[head.Build] = "the build"
	}
	heads, err := store.Heads(locker.Builds)
	if err != nil {
		return err
	}
	said := map[*Finding]bool{}
	for _, h := range slices.Backward(heads) {
		store.Each(locker.Builds, h.ID, func(f *locker.File) {
			for _, one := range now[f.Sum] {
				if said[one] || f.Kind != tree.File || f.Size == 0 {
					continue
				}
				said[one] = true
				if whose := layers[h.ID]; whose != "" {
					one.What += fmt.Sprintf("; it is the file that %s has as %s", whose, words.Printable(f.Path))
				} else {
					one.What += fmt.Sprintf("; it is the file of %s", version.OrUnknown(h.Version))
				}
			}
		})
	}
	return nil
}
