package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/putback"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Entry is one record of the logbook.
type Entry = logbook.Entry

// Kinds of runs that go back.
const (
	KindRollback = logbook.Rollback
	KindRestore  = logbook.Restore
)

// Back says how far to go back.
type Back struct {
	Refit string // go back to before this refit; "": the last one in effect
	World bool   // put the world back too
}

// BackPlan is what a rollback would do.
type BackPlan struct {
	To     *logbook.Entry   `json:"to"`     // the refit before which it goes
	Undo   []*logbook.Entry `json:"undo"`   // refits undone, newest first
	Backup string           `json:"backup"` // from which the rest comes back
	World  bool             `json:"world"`
	Paths  []string         `json:"paths"`            // of the builds' files that renames bring back
	Edited []string         `json:"edited,omitempty"` // settings and scripts that were edited since, and go back too
}

// PlanRollback finds what a rollback would undo. It changes nothing.
func (k *Keel) PlanRollback(b Back) (*BackPlan, error) {
	stack, err := k.in.Book.InEffect()
	if err != nil {
		return nil, err
	}
	if len(stack) == 0 {
		return nil, tell.Advise(errors.New("no refit is in effect that could be undone"), "freshkeel logbook")
	}
	from := len(stack) - 1
	if b.Refit != "" {
		for from = len(stack) - 1; from >= 0 && stack[from].ID != b.Refit; from-- {
		}
		if from < 0 {
			var have []string
			for _, e := range stack {
				have = append(have, e.ID)
			}
			return nil, tell.Advise(fmt.Errorf("%s is no refit in effect; these are: %s", b.Refit, strings.Join(have, ", ")), "freshkeel logbook")
		}
	}
	p := &BackPlan{To: stack[from], Backup: stack[from].Backup, World: b.World}
	for i := len(stack) - 1; i >= from; i-- {
		p.Undo = append(p.Undo, stack[i])
		plan, err := k.in.Run(stack[i].ID).Read()
		if err != nil {
			return nil, err
		}
		if err := k.in.Run(stack[i].ID).Mounted(plan); err != nil {
			return nil, tell.Advise(err, "mount it, then try again")
		}
		p.Paths = append(p.Paths, slices.Sorted(maps.Keys(plan.Paths()))...)
	}
	slices.Sort(p.Paths)
	p.Paths = slices.Compact(p.Paths)
	set, err := k.shelf.Of(p.To)
	if err != nil {
		return nil, err
	}
	p.Backup = set.ID
	swapped := map[string]bool{}
	for _, at := range p.Paths {
		swapped[at] = true
	}
	back, err := k.returner.Plan(set, k.returner.ForRollback(b.World, swapped))
	if err != nil {
		return nil, err
	}
	p.Edited = slices.DeleteFunc(k.returner.Edited(back.Steps, set), func(at string) bool {
		e, _, err := tree.Describe(k.in.Path(at), at)
		return swapped[at] && err == nil && !time.Unix(0, e.Mtime).After(p.To.Ended) // as the refit put it there
	})
	return p, nil
}

// Rollback goes back to before a refit. The build's files, the settings and
// the launch script go back; the world stays as it is now, unless World says
// otherwise. What is there now is backed up first in any case.
func (k *Keel) Rollback(ctx context.Context, b Back) (*logbook.Entry, error) {
	unlock, err := k.begin(ctx, "rollback")
	if err != nil {
		return nil, err
	}
	defer unlock()
	p, err := k.PlanRollback(b)
	if err != nil {
		return nil, err
	}
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	if err := k.srv.NoneOutside(); err != nil {
		return nil, err
	}
	t, err := k.transact(&logbook.Entry{Kind: logbook.Rollback, From: inv.Version, To: p.To.From, Target: p.To.ID, World: b.World})
	if err != nil {
		return nil, err
	}
	defer t.close()
	if err := t.keepInventory(); err != nil {
		return t.e, t.abandon(err)
	}
	if len(p.Edited) > 0 {
		t.e.Told = append(t.e.Told, fmt.Sprintf("%s edited since %s, and put back as it was before that; your edits are in the backup from before this rollback: %s", words.Were(len(p.Edited), "file"), p.To.ID, words.Some(p.Edited, 4)))
	}
	if err := t.takeDown(ctx, fmt.Sprintf("before rollback %s: %s → %s", t.e.ID, version.OrUnknown(t.e.From), version.OrUnknown(t.e.To))); err != nil {
		return t.e, err
	}
	return t.e, t.undo()
}

// takeDown backs up, stops, and backs up what changed since: what a rollback
// and a restore begin with. An error has abandoned the transaction.
func (t *transaction) takeDown(ctx context.Context, label string) error {
	if err := t.preCopy(ctx); err != nil {
		return t.abandon(err)
	}
	if err := t.stop(ctx); err != nil {
		return t.abandon(err)
	}
	if err := t.backUp(context.WithoutCancel(ctx), label); err != nil {
		return t.abandon(err)
	}
	if err := ctx.Err(); err != nil {
		return t.abandon(err)
	}
	return nil
}

// undo is the part of a manual rollback after which only forward leads to a
// whole tree. It may be done again from its beginning after a crash.
func (t *transaction) undo() error {
	stuck := func(err error) error { return t.stuck("the rollback", err) }
	if err := t.enter(logbook.RollingBack); err != nil {
		return stuck(err)
	}
	p, err := t.undone()
	if err != nil {
		return t.revert(err.Error(), nil)
	}
	err = t.step("roll back", func() (string, error) {
		swapped := map[string]bool{}
		for _, e := range p.Undo {
			paths, err := t.reverse(t.k.in.Run(e.ID))
			if err != nil {
				return "", err
			}
			for at := range paths {
				swapped[at] = true
			}
		}
		set, err := t.k.shelf.Of(p.To)
		if err != nil {
			return "", err
		}
		report, err := t.k.returner.Put(t.attempt(), set, t.k.returner.ForRollback(t.e.World, swapped), t.k.in.Halt)
		if err != nil {
			return "", err
		}
		t.e.Told = append(t.e.Told, report.Told()...)
		if t.e.World { // it belongs to the world
			if err := t.loadBack(set); err != nil {
				return "", err
			}
		}
		return fmt.Sprintf("%s put back by renames, %s from backup %s", words.Plural(len(swapped), "path"), words.Plural(report.Restored, "file"), p.Backup), nil
	})
	if err != nil {
		return t.revert("the rollback failed: "+err.Error(), nil)
	}
	if keep := t.k.in.Profile.Server.Keep; !t.e.World && len(keep) > 0 {
		hint := "freshkeel backup restore " + p.Backup
		for _, pat := range keep {
			hint += " --only '" + pat + "'"
		}
		t.e.Told = append(t.e.Told, "the world was left as it is now; to put it back too: "+hint)
	}
	if err := t.takeInventory(t.k.in.Run(p.To.ID), inventoryBefore); err != nil {
		return stuck(err)
	}
	return t.settle()
}

// undone is the plan of a rollback whose entry is all that is left of it.
func (t *transaction) undone() (*BackPlan, error) {
	return t.k.PlanRollback(Back{Refit: t.e.Target, World: t.e.World})
}

// settle ends a rollback or restore: its files are in place, and the server
// comes up again where it ran.
func (t *transaction) settle() error {
	if err := t.enter(logbook.Returning); err != nil {
		return t.stuck("the "+string(t.e.Kind), err)
	}
	if t.e.EndRunning {
		err := t.comeBack(t.e.To)
		if n := (*notUp)(nil); errors.As(err, &n) {
			return t.wontRun(n)
		}
		if err != nil {
			return err
		}
	}
	t.dropStaging()
	if err := t.finish(logbook.Confirmed); err != nil {
		return t.stuck("the "+string(t.e.Kind), err)
	}
	return nil
}

var errSame = errors.New("nothing differs")

// IsSame tells whether a restore had nothing to do.
func IsSame(err error) bool { return errors.Is(err, errSame) }

// PlanRestore tells what a restore into the install would exchange, as things
// are now. It changes nothing.
func (k *Keel) PlanRestore(r Restore) ([]swap.Step, error) {
	set, err := k.shelf.Read(r.Backup)
	if err != nil {
		return nil, tell.Advise(err, "freshkeel backup list")
	}
	p, err := k.returner.Plan(set, putback.ForRestore(set, r.Only))
	if err != nil {
		return nil, err
	}
	return p.Steps, nil
}

// Restore brings a backup back. Into the install it is a transaction of its
// own: the server stops, what is there is backed up, only what differs is
// exchanged, and what is not in the backup is moved aside. Shelf.LayOut lays a backup
// out in another folder.
func (k *Keel) Restore(ctx context.Context, r Restore) (*logbook.Entry, error) {
	if err := r.Only.Check(); err != nil {
		return nil, tell.Misuse(err.Error(), "")
	}
	set, err := k.shelf.Read(r.Backup)
	if err != nil {
		return nil, tell.Advise(err, "freshkeel backup list")
	}
	unlock, err := k.begin(ctx, "restore")
	if err != nil {
		return nil, err
	}
	defer unlock()
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	if err := k.srv.NoneOutside(); err != nil {
		return nil, err
	}
	if some, err := k.returner.Differs(ctx, set, r.Only); err != nil {
		return nil, err
	} else if !some {
		return nil, errSame
	}
	e := &logbook.Entry{Kind: logbook.Restore, From: inv.Version, To: inv.Version, Target: r.Backup, TargetTaken: set.Taken, Only: r.Only}
	if len(r.Only) == 0 && !set.Partial() {
		e.To = set.Version
	}
	t, err := k.transact(e)
	if err != nil {
		return nil, err
	}
	defer t.close()
	if err := t.keepInventory(); err != nil {
		return t.e, t.abandon(err)
	}
	if err := t.takeDown(ctx, "before restore "+t.e.ID+" of "+r.Backup); err != nil {
		return t.e, err
	}
	return t.e, t.restore()
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
		report, err := t.k.returner.Put(t.attempt(), set, sc, t.k.in.Halt)
		if err != nil {
			return "", err
		}
		t.e.Told = append(t.e.Told, report.Told()...)
		if len(t.e.Only) == 0 {
			if err := t.loadBack(set); err != nil {
				return "", err
			}
		}
		return fmt.Sprintf("%s from backup %s, %s moved aside", words.Plural(report.Restored, "file"), t.e.Target, words.Plural(report.Aside, "file")), nil
	})
	if err != nil && !t.moved() {
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
	inv, err := t.k.inv.Read()
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
	return inventory.Write(t.k.in.State("inventory.json"), &inventory.Inventory{Version: ver})
}

// Logbook lists every run, oldest first.
func (k *Keel) Logbook() ([]*logbook.Entry, error) { return k.in.Book.All() }

// LogbookEntry is one run in full.
func (k *Keel) LogbookEntry(id string) (*logbook.Entry, error) { return k.in.Book.Get(id) }

// RunDir is where a run keeps what it displaced.
func (k *Keel) RunDir(id string) string { return filepath.Clean(k.in.Run(id).Dir) }
