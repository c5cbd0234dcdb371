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

	"freshkeel/internal/host"
	"freshkeel/internal/logbook"
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
	// migrations that refits ran which are undone, and whose data stays without World
	Migrated []string `json:"migrated,omitempty"`
	Data     []Dumped `json:"data,omitempty"`   // dumps that are loaded, with World
	Alone    []string `json:"alone,omitempty"`  // parts that are stopped, where others run on
	Paths    []string `json:"paths"`            // of the builds' files that renames bring back
	Edited   []string `json:"edited,omitempty"` // settings and scripts that were edited since, and go back too
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
			return nil, tell.Advise(fmt.Errorf("%s is no refit in effect; these are: %s", b.Refit,
				strings.Join(have, ", ")), "freshkeel logbook")
		}
	}
	p := &BackPlan{To: stack[from], Backup: stack[from].Backup, World: b.World}
	for i := len(stack) - 1; i >= from; i-- {
		p.Undo = append(p.Undo, stack[i])
		for _, m := range stack[i].Migrations {
			p.Migrated = append(p.Migrated, m.Name)
		}
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
	if b.World {
		p.Data = k.outside.In(set)
	}
	if b.World && set.Partial() {
		return nil, tell.Advise(fmt.Errorf("%s stopped %s alone, and its backup %s has the world of no other part", p.To.ID,
			strings.Join(p.To.Alone, ", "), set.ID),
			"freshkeel rollback without --world; freshkeel backup list shows whole ones")
	}
	p.Alone = aloneBack(k, p)
	swapped := map[string]bool{}
	for _, at := range p.Paths {
		swapped[at] = true
	}
	back, err := k.returner.Plan(set, k.returner.ForRollback(set, b.World, swapped))
	if err != nil {
		return nil, err
	}
	p.Edited = slices.DeleteFunc(k.returner.Edited(back.Steps, set), func(at string) bool {
		e, _, err := tree.Describe(k.in.Path(at), at)
		return swapped[at] && err == nil && !time.Unix(0, e.Mtime).After(p.To.Ended) // as the refit put it there
	})
	return p, nil
}

// aloneBack names the parts that going back stops, where others run on: each refit that it undoes
// did so, and the profile still lets them.
func aloneBack(k *Keel, p *BackPlan) []string {
	st := k.in.Host().Status()
	if !st.Running || st.Partly || slices.ContainsFunc(p.Undo, func(e *Entry) bool { return len(e.Alone) == 0 }) {
		return nil
	}
	var lined []string
	for _, e := range p.Undo {
		lined = append(lined, e.Alone...)
	}
	return k.Profile.Alone(p.Paths, lined)
}

// MigratedWords tells of the data that stays migrated.
func (p *BackPlan) MigratedWords() string {
	return fmt.Sprintf(
		"it ran the migration %s, and the data stays as it is now: an older build may not read it, and a later refit does "+
			"not run it again unasked (--world brings the data of then back, with the world)",
		words.Some(p.Migrated, 3),
	)
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
	inv, err := k.inv.Head()
	if err != nil {
		return nil, err
	}
	if err := k.srv.NoneOutside(); err != nil {
		return nil, err
	}
	if len(p.Migrated) > 0 && !b.World {
		k.in.Warn("%s", p.MigratedWords())
	}
	lines, err := linesBack(p.Undo)
	if err != nil {
		return nil, err
	}
	t, err := k.transact(&logbook.Entry{Kind: logbook.Rollback, From: inv.Version, To: p.To.From, Target: p.To.ID,
		World: b.World, Relined: lines, Alone: p.Alone})
	if err != nil {
		return nil, err
	}
	defer t.close()
	if err := t.keepInventory(); err != nil {
		return t.e, t.abandon(err)
	}
	if len(p.Edited) > 0 {
		t.e.Told = append(t.e.Told, fmt.Sprintf("%s edited since %s, and put back as it was before that; your edits "+
			"are in the backup from before this rollback: %s", words.Were(len(p.Edited), "file"), p.To.ID,
			words.Some(p.Edited, 4)))
	}
	if err := t.takeDown(ctx, fmt.Sprintf("before rollback %s: %s → %s", t.e.ID, version.OrUnknown(t.e.From),
		version.OrUnknown(t.e.To))); err != nil {
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
		if err := writeLines(t, after); err != nil {
			return "", err
		}
		swapped := map[string]bool{}
		for _, e := range p.Undo {
			paths, err := reverse(t.k.in.Run(e.ID), t.k.in.Halt)
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
		back := t.k.returner.ForRollback(set, t.e.World, swapped)
		report, err := t.k.returner.Put(t.attempt(), set, back, t.k.in.Halt)
		if err != nil {
			return "", err
		}
		t.e.Told = append(t.e.Told, report.Told()...)
		if t.e.World { // it belongs to the world
			if err := t.loadBack(set); err != nil {
				return "", err
			}
		}
		return fmt.Sprintf("%s put back by renames, %s from backup %s%s", words.Plural(len(swapped), "path"),
			words.Plural(report.Restored, "file"), p.Backup, relined(t.e, after)), nil
	})
	if err != nil {
		return t.revert("the rollback failed: "+err.Error(), nil)
	}
	if hint := worldHint(t, p); hint != "" {
		t.e.Told = append(t.e.Told, "the world was left as it is now; to put it back too: "+hint)
	}
	if err := t.takeInventory(t.k.in.Run(p.To.ID), inventoryBefore); err != nil {
		return stuck(err)
	}
	return t.settle()
}

// worldHint is the command that puts the world back that a rollback left, as far as its backup has
// it; "" for none.
func worldHint(t *transaction, p *BackPlan) string {
	set, err := t.k.shelf.Of(p.To)
	if err != nil || t.e.World {
		return ""
	}
	hint := onlyWorld(t.k.in, set)
	if hint == "" {
		return ""
	}
	return "freshkeel backup restore " + p.Backup + hint
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
	if t.files {
		return nil
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

// Logbook lists every run, oldest first.
func (k *Keel) Logbook() ([]*logbook.Entry, error) { return k.in.Book.All() }

// LogbookEntry is one run in full.
func (k *Keel) LogbookEntry(id string) (*logbook.Entry, error) { return k.in.Book.Get(id) }

// RunDir is where a run keeps what it displaced.
func (k *Keel) RunDir(id string) string { return filepath.Clean(k.in.Run(id).Dir) }

// before and after are the two ends of what a run does to a service's line.
func before(l logbook.Lined) []string { return l.Was }

func after(l logbook.Lined) []string { return l.Now }

// writeLines has services run one end of what the run does to their lines. It comes before
// files move, and may be done again after a crash.
func writeLines(t *transaction, end func(logbook.Lined) []string) error {
	for _, l := range t.e.Relined {
		if err := t.k.in.Halt("line"); err != nil {
			return err
		}
		sv := host.OpenService(l.Unit, l.User, "", nil, nil, t.k.in.Dir)
		if err := sv.Write(end(l)); err != nil {
			return err
		}
		if err := t.k.in.Halt("lined"); err != nil {
			return err
		}
	}
	return nil
}

// linesBack is what taking runs back, newest first, does to the lines of services.
func linesBack(undo []*logbook.Entry) (out []logbook.Lined, err error) {
	for _, e := range undo {
		for _, l := range e.Relined {
			i := slices.IndexFunc(out, func(o logbook.Lined) bool { return o.Unit == l.Unit && o.User == l.User })
			if i >= 0 {
				out[i].Now = l.Was
				continue
			}
			now, err := host.OpenService(l.Unit, l.User, "", nil, nil, "").Over()
			if err != nil {
				return nil, err
			}
			out = append(out, logbook.Lined{Unit: l.Unit, User: l.User, File: l.File, Was: now.Words, Now: l.Was})
		}
	}
	return out, nil
}

// relined tells of services whose line one end of the run says.
func relined(e *logbook.Entry, end func(logbook.Lined) []string) (told string) {
	for _, l := range e.Relined {
		if end(l) == nil {
			told += "; " + l.Unit + " has its own line again"
		} else {
			told += fmt.Sprintf("; %s has its line from %s", l.Unit, l.File)
		}
	}
	return told
}
