package change

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/data"
	"freshkeel/internal/logbook"
	"freshkeel/internal/run"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
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
	Migrated []string      `json:"migrated,omitempty"`
	Data     []data.Dumped `json:"data,omitempty"`   // dumps that are loaded, with World
	Alone    []string      `json:"alone,omitempty"`  // parts that are stopped, where others run on
	Paths    []string      `json:"paths"`            // of the builds' files that renames bring back
	Edited   []string      `json:"edited,omitempty"` // settings and scripts that were edited since, and go back too
}

// PlanRollback finds what a rollback would undo. It changes nothing.
func (k *Changer) PlanRollback(b Back) (*BackPlan, error) {
	stack, err := k.In.Book.InEffect()
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
		plan, err := k.In.Run(stack[i].ID).Read()
		if err != nil {
			return nil, err
		}
		if err := k.In.Run(stack[i].ID).Mounted(plan); err != nil {
			return nil, tell.Advise(err, "mount it, then try again")
		}
		p.Paths = append(p.Paths, slices.Sorted(maps.Keys(plan.Paths()))...)
	}
	slices.Sort(p.Paths)
	p.Paths = slices.Compact(p.Paths)
	set, err := k.Shelf.Of(p.To)
	if err != nil {
		return nil, err
	}
	p.Backup = set.ID
	if b.World {
		p.Data = k.Outside.In(set)
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
	back, err := k.Returner.Plan(set, k.Returner.ForRollback(set, b.World, swapped))
	if err != nil {
		return nil, err
	}
	p.Edited = slices.DeleteFunc(k.Returner.Edited(back.Steps, set), func(at string) bool {
		e, _, err := tree.Describe(k.In.Path(at), at)
		return swapped[at] && err == nil && !time.Unix(0, e.Mtime).After(p.To.Ended) // as the refit put it there
	})
	return p, nil
}

// aloneBack names the parts that going back stops, where others run on: each refit that it undoes
// did so, and the profile still lets them.
func aloneBack(k *Changer, p *BackPlan) []string {
	st := k.In.Host().Status()
	if !st.Running || st.Partly || slices.ContainsFunc(p.Undo, func(e *logbook.Entry) bool { return len(e.Alone) == 0 }) {
		return nil
	}
	var lined []string
	for _, e := range p.Undo {
		lined = append(lined, e.Alone...)
	}
	return k.In.Profile.Alone(p.Paths, lined)
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
func (k *Changer) Rollback(ctx context.Context, b Back) (*logbook.Entry, error) {
	p, err := k.PlanRollback(b)
	if err != nil {
		return nil, err
	}
	inv, err := k.Inv.Head()
	if err != nil {
		return nil, err
	}
	if err := k.Srv.NoneOutside(); err != nil {
		return nil, err
	}
	if len(p.Migrated) > 0 && !b.World {
		k.In.Warn("%s", p.MigratedWords())
	}
	lines, err := linesBack(p.Undo)
	if err != nil {
		return nil, err
	}
	t := k.begin(&logbook.Entry{Kind: logbook.Rollback, From: inv.Version, To: p.To.From, Target: p.To.ID,
		World: b.World, Relined: lines, Alone: p.Alone})
	defer t.close()
	if len(p.Edited) > 0 {
		t.E.Told = append(t.E.Told, fmt.Sprintf("%s edited since %s, and put back as it was before that; your edits "+
			"are in the backup from before this rollback: %s", words.Were(len(p.Edited), "file"), p.To.ID,
			words.Some(p.Edited, 4)))
	}
	if err := t.Begin(); err != nil {
		return nil, err
	}
	return t.E, t.Go(ctx)
}

// rollBack takes the refits back by renames, and has the rest be as it was in the backup of the first of them. It may be done
// again from its beginning after a crash.
func (t *transaction) rollBack(context.Context) (note string, err error) {
	p, err := t.undone()
	if err != nil {
		return "", err
	}
	defer func() {
		if err != nil {
			err = &run.Cause{Why: "the rollback failed: " + err.Error(), Err: err}
		}
	}()
	if err := t.writeLines(after); err != nil {
		return "", err
	}
	swapped := map[string]bool{}
	for _, e := range p.Undo {
		paths, err := reverse(t.In.Run(e.ID), t.In.Halt)
		if err != nil {
			return "", err
		}
		for at := range paths {
			swapped[at] = true
		}
	}
	set, err := t.k.Shelf.Of(p.To)
	if err != nil {
		return "", err
	}
	back := t.k.Returner.ForRollback(set, t.E.World, swapped)
	report, err := t.k.Returner.Put(t.Attempt(), set, back, t.In.Halt)
	if err != nil {
		return "", err
	}
	t.E.Told = append(t.E.Told, report.Told()...)
	if t.E.World { // it belongs to the world
		if err := t.loadBack(set); err != nil {
			return "", err
		}
	}
	if hint := worldHint(t, p); hint != "" {
		t.E.Told = append(t.E.Told, "the world was left as it is now; to put it back too: "+hint)
	}
	return fmt.Sprintf("%s put back by renames, %s from backup %s%s", words.Plural(len(swapped), "path"),
		words.Plural(report.Restored, "file"), p.Backup, relined(t.E, after)), nil
}

// undone is the plan of a rollback whose entry is all that is left of it.
func (t *transaction) undone() (*BackPlan, error) {
	return t.k.PlanRollback(Back{Refit: t.E.Target, World: t.E.World})
}
