// Package change is what changes an install: a refit, a rollback, a restore. Each of them is a list of steps, here, in the order
// in which they come; package run carries lists out, goes back, and settles what a crash left.
package change

import (
	"context"

	"freshkeel/internal/check"
	"freshkeel/internal/logbook"
	"freshkeel/internal/migrate"
	"freshkeel/internal/resolve"
	"freshkeel/internal/run"
)

// refit is the way to a build that was checked. Of a run that a crash left neither of the two is known: what needs them is over
// by then, or is not done again.
func (t *transaction) refit(pre *check.Preflight, w resolve.Want) []run.Step {
	steps := []run.Step{
		{Phase: logbook.Preparing, Name: "stage", Do: func(context.Context) (string, error) { return t.stage(pre) }},
		{Phase: logbook.Preparing, Do: t.awaitEmpty},
		{Phase: logbook.Preparing, Name: "pre-copy", Do: t.preCopy},
		{Phase: logbook.Preparing, Do: t.guard, Heeds: true},

		{Phase: logbook.Stopping, Do: t.stop, Resume: t.callOff},
		{Phase: logbook.Stopping, Name: "backup", Do: t.backUp},
		{Phase: logbook.Stopping, Do: func(context.Context) (string, error) { return "", t.recheck(pre, w) }},
		{Phase: logbook.Stopping, Do: t.stillDown, Heeds: true},

		{Phase: logbook.Swapping, Name: "swap", Do: func(context.Context) (string, error) { return t.swap(pre.Plan) }, Undo: t.unswap},
	}
	if t.E.Phase == logbook.Migrating || len(migrate.Due(t.k.In.Profile, t.E.From, t.E.To)) > 0 {
		steps = append(steps, run.Step{Phase: logbook.Migrating, Do: t.migrate})
	}
	return append(steps,
		run.Step{Phase: logbook.Watching, Notes: t.spawns, Do: func(ctx context.Context) (string, error) { return "", t.comeUp(ctx, w) },
			Resume: t.seeThrough},
		run.Step{Phase: logbook.Watching, Do: func(context.Context) (string, error) { return "", t.seenToRun(pre.Plan) }},

		run.Step{Phase: logbook.Confirming, Do: t.takeNew, Stays: "confirming", Resume: t.upAgain, Again: true},
		run.Step{Phase: logbook.Confirming, Do: t.stopAgain, Stays: "confirming"},
	)
}

// rollback is the way back to before a refit.
func (t *transaction) rollback() []run.Step {
	return append(t.takeDown(),
		run.Step{Phase: logbook.RollingBack, Name: "roll back", Do: t.rollBack, Undo: t.unmove, Heeds: true, Again: true},
		run.Step{Phase: logbook.RollingBack, Do: t.takeOld, Stays: "the rollback"},

		run.Step{Phase: logbook.Returning, Stays: "the rollback", Again: true},
		run.Step{Phase: logbook.Returning, Do: t.comeBackWith},
	)
}

// restore is the way to what a backup holds.
func (t *transaction) restore(live bool) []run.Step {
	steps := t.takeDown()
	if live { // the server runs on
		steps = []run.Step{
			{Phase: logbook.Preparing, Do: t.keepInventory},
			{Phase: logbook.Preparing, Do: t.awaitEmpty},
			{Phase: logbook.Preparing, Name: "pre-copy", Do: t.preCopy},
			{Phase: logbook.Preparing, Name: "backup", Do: t.backUp},
		}
	}
	return append(steps,
		run.Step{Phase: logbook.RollingBack, Name: "put back", Do: t.putBack, Undo: t.unmove, Heeds: !live, Again: true},
		run.Step{Phase: logbook.RollingBack, Do: t.takeRestored, Stays: "the restore"},

		run.Step{Phase: logbook.Returning, Stays: "the restore", Again: true},
		run.Step{Phase: logbook.Returning, Do: t.comeBackWith},
	)
}

// takeDown backs up, stops, and backs up what changed since: what a rollback and a restore begin with.
func (t *transaction) takeDown() []run.Step {
	return []run.Step{
		{Phase: logbook.Preparing, Do: t.keepInventory},
		{Phase: logbook.Preparing, Do: t.awaitEmpty},
		{Phase: logbook.Preparing, Name: "pre-copy", Do: t.preCopy},
		{Phase: logbook.Preparing, Do: t.guard},

		{Phase: logbook.Stopping, Do: t.stop, Resume: t.callOff},
		{Phase: logbook.Stopping, Name: "backup", Do: t.backUp},
	}
}

// way is how each of them goes back.
func (t *transaction) way() run.Way {
	w := run.Way{Phase: logbook.Reverting, Name: "undo", Outcome: logbook.RolledBack, Before: t.lookBack, Down: t.endNew,
		Lines: func() error { return t.writeLines(before) }, Whole: t.toBackup, Runs: t.runsOn, Up: t.oldServer, Ended: t.rolledBack}
	switch t.E.Kind {
	case logbook.Refit:
		w.Phase, w.Name = logbook.RollingBack, "roll back"
	case logbook.Restore:
		w.Nothing = t.nothingPutBack
	}
	return w
}
