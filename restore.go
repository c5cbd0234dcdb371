package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/backups"
	"freshkeel/internal/data"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"
	"freshkeel/internal/putback"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

var errSame = errors.New("nothing differs")

// IsSame tells whether a restore had nothing to do.
func IsSame(err error) bool { return errors.Is(err, errSame) }

// PlanRestore tells what a restore into the install would exchange, as things
// are now. It changes nothing.
func (k *Keel) PlanRestore(r Restore) ([]swap.Step, error) {
	set, err := k.shelf.ReadMeant(r.Backup)
	if err != nil {
		return nil, err
	}
	if err := k.shelf.Told(set, r.Of); err != nil {
		return nil, err
	}
	if r.Only, err = k.shelf.Chosen(set, r.Only); err != nil {
		return nil, err
	}
	p, err := k.returner.Plan(set, putback.ForRestore(set, r.Only))
	if err != nil {
		return nil, err
	}
	return p.Steps, nil
}

// What becomes of the data outside in a whole restore.
const (
	LoadData  = backups.LoadData
	LeaveData = backups.LeaveData
)

// Dumped is a dump of data outside the install, in a backup.
type Dumped = data.Dumped

// DumpsOf are the dumps of a backup that a whole restore could load.
func DumpsOf(k *Keel, backup string) ([]Dumped, error) {
	set, err := k.shelf.ReadMeant(backup)
	if err != nil {
		return nil, err
	}
	return k.outside.In(set), nil
}

// loads tells whether a restore loads data; the error is a tell.Usage where nobody said whether it is to.
func loads(k *Keel, set *locker.Set, r Restore) (bool, error) {
	in := k.outside.In(set)
	switch {
	case len(r.Only) > 0 && r.Data == LoadData:
		return false, tell.Misuse("a part of a backup loads no data", "leave out --only, or --data")
	case len(r.Only) > 0 || len(in) == 0 || r.Data == LeaveData:
		return false, nil
	case r.Data == "":
		return false, tell.Misuse(fmt.Sprintf("%s has a dump of %s: what was written there since %s would be undone", set.ID,
			namesOf(in), in[0].Taken.Local().Format(time.DateTime)),
			"add --data to load it, or --no-data to leave the data as it is")
	}
	return true, nil
}

func namesOf(in []Dumped) string {
	var names []string
	for _, d := range in {
		names = append(names, d.Name)
	}
	return strings.Join(names, ", ")
}

// Restore brings a backup back. Into the install it is a transaction of its
// own: the server stops, what is there is backed up, only what differs is
// exchanged, and what is not in the backup is moved aside. Shelf.LayOut lays a backup
// out in another folder.
func (k *Keel) Restore(ctx context.Context, r Restore) (*logbook.Entry, error) {
	set, err := k.shelf.ReadMeant(r.Backup)
	if err != nil {
		return nil, err
	}
	if err := k.shelf.Told(set, r.Of); err != nil {
		return nil, err
	}
	if r.Only, err = k.shelf.Chosen(set, r.Only); err != nil {
		return nil, err
	}
	r.Backup = set.ID
	unlock, err := k.begin(ctx, "restore")
	if err != nil {
		return nil, err
	}
	defer unlock()
	inv, err := k.inv.Head()
	if err != nil {
		return nil, err
	}
	if err := k.srv.NoneOutside(); err != nil {
		return nil, err
	}
	if err := mayRestoreLive(k, set, r); err != nil {
		return nil, err
	}
	loading, err := loads(k, set, r)
	if err != nil {
		return nil, err
	}
	if some, err := k.returner.Differs(ctx, set, r.Only, loading); err != nil {
		return nil, err
	} else if !some {
		return nil, errSame
	}
	e := &logbook.Entry{Kind: logbook.Restore, From: inv.Version, To: inv.Version, Target: r.Backup,
		TargetTaken: set.Taken, Only: r.Only, NoData: r.Data == LeaveData}
	if len(r.Only) == 0 && !set.Partial() {
		e.To = set.Version
		since, err := k.in.Book.Since(set.Taken)
		if err != nil {
			return nil, err
		}
		if e.Relined, err = linesBack(since); err != nil {
			return nil, err
		}
	}
	t, err := k.transact(e)
	if err != nil {
		return nil, err
	}
	defer t.close()
	if err := t.keepInventory(); err != nil {
		return t.e, t.abandon(err)
	}
	label := "before restore " + t.e.ID + " of " + r.Backup
	if r.Live {
		t.e.EndRunning = false // it is neither stopped nor started
		t.e.Told = append(t.e.Told, "the server ran on: what it has of these files in its memory, it may write over "+
			"them; have the player leave first, and come back afterwards")
		if err := t.preCopy(ctx); err != nil {
			return t.e, t.abandon(err)
		}
		if err := t.backUp(context.WithoutCancel(ctx), label); err != nil {
			return t.e, t.abandon(err)
		}
		return t.e, t.restore()
	}
	if err := t.takeDown(ctx, label); err != nil {
		return t.e, err
	}
	return t.e, t.restore()
}

// mayRestoreLive refuses a restore while the server runs of anything but named files of the operator's own.
func mayRestoreLive(k *Keel, set *Backup, r Restore) error {
	switch {
	case !r.Live:
		return nil
	case len(r.Only) == 0:
		return tell.Misuse("--while-running is for a few files of yours, and none is named",
			"add --only PATH, a player's file say")
	case !k.in.Host().Status().Running:
		return tell.Misuse("the server does not run", "leave --while-running out")
	}
	for _, f := range set.Entries {
		if f.Kind == tree.File && r.Only.Match(f.Path) && !k.Profile.Server.Keep.Match(f.Path) {
			return tell.Misuse(f.Path+" is none of your own files ([server] keep): the running server may be of "+
				"another build",
				"leave --while-running out: the server is then stopped for it")
		}
	}
	return nil
}

// restore is the part of a restore that may be done again after a crash.
func (t *transaction) restore() error {
	stuck := func(err error) error { return t.stuck("the restore", err) }
	if err := t.enter(logbook.RollingBack); err != nil {
		return stuck(err)
	}
	set, err := t.k.targetOf(t.e)
	if err != nil {
		return stuck(err)
	}
	sc := putback.ForRestore(set, t.e.Only)
	for _, f := range set.Entries {
		if !tree.Makeable(f.Path) && (len(t.e.Only) == 0 || tree.Patterns(t.e.Only).Match(f.Path)) {
			t.e.Told = append(t.e.Told, "left out, since this system can't have its name: "+f.Path)
		}
	}
	err = t.step("put back", func() (string, error) {
		if err := writeLines(t, after); err != nil {
			return "", err
		}
		report, err := t.k.returner.Put(t.attempt(), set, sc, t.k.in.Halt)
		if err != nil {
			return "", err
		}
		t.e.Told = append(t.e.Told, report.Told()...)
		if len(t.e.Only) == 0 && !t.e.NoData {
			if err := t.loadBack(set); err != nil {
				return "", err
			}
		}
		return fmt.Sprintf("%s from backup %s, %s moved aside", words.Plural(report.Restored, "file"), t.e.Target,
			words.Plural(report.Aside, "file")), nil
	})
	if err != nil && !t.files && !slices.ContainsFunc(attempts(t.k.in, t.e.ID), swap.Run.Begun) {
		if lerr := writeLines(t, before); lerr != nil {
			return stuck(errors.Join(err, lerr))
		}
		return t.abandon(err)
	}
	if err != nil {
		return t.revert("the restore failed: "+err.Error(), nil)
	}
	if len(t.e.Only) > 0 || len(set.Only)+len(set.Left) > 0 {
		err = t.reckon(set)
	} else {
		err = t.inventoryOf(set.Version)
	}
	if err != nil {
		return stuck(err)
	}
	return t.settle()
}

// targetOf reads the backup that a restore goes back to.
func (k *Keel) targetOf(e *logbook.Entry) (*locker.Set, error) {
	if e.TargetTaken.IsZero() {
		return k.shelf.Read(e.Target)
	}
	is := func(b *locker.Set) bool { return b.Taken.Equal(e.TargetTaken) }
	return k.shelf.Named(e.Target, is, "taken on "+e.TargetTaken.Local().Format(time.DateTime), "")
}

// inventoryOf takes the inventory of a version that was installed before, when
// a whole restore went back to it. One that is not known is said to be so.
func (t *transaction) inventoryOf(ver string) error {
	inv, err := t.k.inv.Head()
	if err != nil || (inv.Version == ver && len(inv.Mixed) == 0) {
		return err
	}
	all, err := t.k.in.Book.All()
	if err != nil {
		return err
	}
	for i := len(all) - 1; i >= 0; i-- {
		if e := all[i]; e.Kind == logbook.Refit && e.From == ver && e.ID != t.e.ID {
			if err := t.takeInventory(t.k.in.Run(e.ID), inventoryBefore); err == nil {
				t.e.Undid = logbook.UndoneBy(all, e.ID, true)
				return nil
			}
		}
		if e := all[i]; e.Kind == logbook.Refit && e.To == ver && e.Outcome == logbook.Confirmed {
			if err := t.takeInventory(t.k.in.Run(e.ID), inventoryAfter); err == nil {
				t.e.Undid = logbook.UndoneBy(all, e.ID, false)
				return nil
			}
		}
	}
	return inventory.Write(t.k.inv.File(), &inventory.Inventory{Version: ver})
}

// A restore may bring back files of another build than the one that the inventory
// names. Which build is recorded afterwards follows what the files are.

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
	t.e.To = r.now.Version
	if len(r.changed) == 0 || r.holds(r.now, r.was) {
		return nil
	}
	of, other := map[string]bool{}, map[string]inventory.Owned{} // versions, and their files by path
	left := slices.Clone(r.changed)                              // files that are of no build so far
	all, err := t.k.in.Book.All()
	if err != nil {
		return err
	}
	for _, e := range slices.Backward(all) {
		if e.Kind != logbook.Refit || e.Outcome != logbook.Confirmed {
			continue
		}
		for _, name := range []string{inventoryAfter, inventoryBefore} {
			run := t.k.in.Run(e.ID)
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
				t.e.To = inv.Version
				t.e.Undid = logbook.UndoneBy(all, e.ID, name == inventoryBefore)
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
	mixed.Build, mixed.Files, t.e.To = "", nil, ""
	mixed.Mixed = slices.Sorted(maps.Keys(of))
	t.e.Told = append(t.e.Told, fmt.Sprintf("the install is %s with %s of %s now; a refit to either makes it whole",
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
	return inventory.Write(t.k.inv.File(), &mixed)
}

// restored compares the build's files before and after the restore.
func (t *transaction) restored(set *locker.Set) (*restored, error) {
	r := &restored{before: map[string]tree.Sum{}, after: map[string]tree.Sum{}}
	var err error
	if r.now, err = t.k.inv.Read(); err != nil {
		return nil, err
	}
	sc := putback.ForRestore(set, t.e.Only)
	ours := func(f locker.File) bool { // of the build, as far as the profile tells
		return f.Kind == tree.File && f.Path != profile.FileName && !tree.Ours(f.Path) &&
			!t.k.in.Profile.Server.Own(f.Path)
	}
	if !slices.ContainsFunc(set.Entries, func(f locker.File) bool { return ours(f) && sc.Within(f.Path) }) {
		return r, nil // the operator's own alone
	}
	was, err := t.k.shelf.Of(t.e)
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
