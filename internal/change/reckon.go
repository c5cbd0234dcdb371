package change

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"
	"freshkeel/internal/putback"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// restored is what a restore made of the build's files. It is told from two backups, the
// one that was put back and the one that the restore took before: so that it is the same
// after a crash.
type restored struct {
	now     *inventory.Inventory
	was     map[string]inventory.Owned // of now
	before  map[string]tree.Sum        // of the build's files, as the restore found them
	after   map[string]tree.Sum        // and as it left them
	changed []string                   // where those differ
}

// reckon records which build is installed after part of a backup was put back: the one
// whose files they all are, or none of them as a whole. It sets the version that the
// server is expected to say.
func (t *transaction) reckon(set *locker.Set) error {
	r, err := t.restored(set)
	if err != nil {
		return err
	}
	t.E.To = r.now.Version
	if len(r.changed) == 0 || r.holds(r.now, r.was) {
		return nil
	}
	of, other := map[string]bool{}, map[string]inventory.Owned{} // versions, and their files by path
	left := slices.Clone(r.changed)                              // files that are of no build so far
	all, err := t.In.Book.All()
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(all) {
		if e.Kind != logbook.Refit || e.Outcome != logbook.Confirmed {
			continue
		}
		for _, name := range []string{inventoryAfter, inventoryBefore} {
			run := t.In.Run(e.ID)
			path := filepath.Join(run.Dir, name)
			inv, err := inventory.Load(path)
			if errors.Is(err, fs.ErrNotExist) {
				continue // of an old run, or one of version 0.1
			}
			if err != nil {
				return err
			}
			files := inv.ByPath(tree.Spelling{})
			if inv.Version != r.now.Version && r.holds(inv, files) {
				t.E.To = inv.Version
				t.E.Undid = logbook.UndoneBy(all, e.ID, name == inventoryBefore)
				return t.takeInventory(run, name)
			}
			left = slices.DeleteFunc(left, func(at string) bool {
				o, has := files[at]
				sum, stands := r.after[at]
				if inv.Version == r.now.Version || !has || !stands || o.Sum != sum {
					return false
				}
				other[at], of[version.OrUnknown(inv.Version)] = o, true
				return true
			})
		}
	}
	if len(of) == 0 {
		return nil // none of a build that is known: files that the operator changed
	}
	mixed := *r.now
	mixed.Build, mixed.Files, t.E.To = "", nil, ""
	mixed.Mixed = slices.Sorted(maps.Keys(of))
	t.E.Told = append(t.E.Told, fmt.Sprintf("the install is %s with %s of %s now; a refit to either makes it whole",
		version.OrUnknown(r.now.Version), words.Plural(len(r.changed)-len(left), "file"),
		strings.Join(mixed.Mixed, ", ")))
	for _, o := range r.now.Files {
		if _, changed := slices.BinarySearch(r.changed, o.Path); changed {
			o.SeenAt = 0 // it is read when next it is compared
		}
		if _, is := other[o.Path]; !is {
			mixed.Files = append(mixed.Files, o)
		}
	}
	for _, at := range slices.Sorted(maps.Keys(other)) {
		o := other[at]
		o.SeenAt = 0
		mixed.Files = append(mixed.Files, o)
	}
	return inventory.Write(t.k.Inv.File(), &mixed)
}

// restored compares the build's files before and after the restore.
func (t *transaction) restored(set *locker.Set) (*restored, error) {
	r := &restored{before: map[string]tree.Sum{}, after: map[string]tree.Sum{}}
	var err error
	if r.now, err = t.k.Inv.Read(); err != nil {
		return nil, err
	}
	sc := putback.ForRestore(set, t.E.Only)
	ours := func(f locker.File) bool { // of the build, as far as the profile tells
		return f.Kind == tree.File && f.Path != profile.FileName && !tree.Ours(f.Path) &&
			!t.In.Profile.Server.Own(f.Path)
	}
	if !slices.ContainsFunc(set.Entries, func(f locker.File) bool { return ours(f) && sc.Within(f.Path) }) {
		return r, nil // the operator's own alone
	}
	was, err := t.k.Shelf.Of(t.E)
	if err != nil {
		return nil, err
	}
	for _, f := range was.Entries {
		if ours(f) {
			r.before[f.Path] = f.Sum
			if !sc.TakeAway(f.Path) {
				r.after[f.Path] = f.Sum
			}
		}
	}
	for _, f := range set.Entries {
		if ours(f) && sc.Within(f.Path) {
			r.after[f.Path] = f.Sum
		}
	}
	r.was = r.now.ByPath(tree.Spelling{})
	for at, sum := range r.after {
		if r.before[at] != sum {
			r.changed = append(r.changed, at)
		}
	}
	for at := range r.before {
		if _, stands := r.after[at]; !stands {
			r.changed = append(r.changed, at)
		}
	}
	slices.Sort(r.changed)
	return r, nil
}

// holds tells whether the files are those of an inventory: every one that the restore
// changed, and every one in which it differs from the inventory before. What somebody
// had changed before the restore, and the restore left, speaks for no build.
func (r *restored) holds(inv *inventory.Inventory, files map[string]inventory.Owned) bool {
	is := func(at string) bool {
		o, has := files[at]
		sum, stands := r.after[at]
		return has == stands && (!has || o.Sum == sum)
	}
	if !slices.ContainsFunc(r.changed,
		func(at string) bool { _, has := files[at]; return has || r.was[at].Path != "" }) {
		return inv == r.now // no file of either build
	}
	for _, at := range r.changed {
		if _, has := files[at]; (has || r.was[at].Path != "") && !is(at) {
			return false
		}
	}
	for at, o := range r.was {
		p, has := files[at]
		drifted := r.before[at] != o.Sum
		if o.Kind == tree.File && !drifted && (!has || p.Sum != o.Sum) && !is(at) {
			return false
		}
	}
	for at, o := range files {
		if _, had := r.was[at]; !had && o.Kind == tree.File && !is(at) {
			return false
		}
	}
	return true
}
