package change

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"
	"freshkeel/internal/putback"
	"freshkeel/internal/run"
	"freshkeel/internal/server"
	"freshkeel/internal/swap"
	"freshkeel/internal/words"
)

// ranMixed tells of a server that somebody, or a boot, started while its files may have been of two
// builds. What it wrote since is moved aside by going back, and not lost.
func ranMixed(t *transaction) (ran bool) {
	if t.E.Mixed.IsZero() || t.E.Spawned.After(t.E.Mixed) || len(t.E.Migrations) > 0 { // which may need parts up
		return false
	}
	st := t.In.Host().Status()
	when := st.Since
	if !st.Running && st.Last != nil {
		when = st.Last.Began
	}
	if st.Silent || !when.After(t.E.Mixed) {
		return false
	}
	told := fmt.Sprintf("the server was started %s at %s, while its files were of two builds: what it wrote since is not in "+
		"place any more, and is kept below %s", st.How(), when.Format("15:04:05"), t.Dir.Dir)
	if !slices.Contains(t.E.Told, told) {
		t.E.Told = append(t.E.Told, told)
		t.In.Warn("%s", told)
	}
	return true
}

// untouched tells whether nothing but this run can have changed data outside since the backup: neither the
// new build nor a migration ever ran, and nobody can have started a server unseen.
func untouched(t *transaction) bool {
	byCommands := slices.ContainsFunc(t.In.Parts(), func(part *install.Install) bool {
		return !part.Outside() && part.Profile.Host.Kind == profile.ByCommands
	})
	return t.E.Phase == logbook.Swapping && len(t.E.Migrations) == 0 && !(byCommands && rebooted(t))
}

// lookBack looks at how things stand as the run begins to go back.
func (t *transaction) lookBack() {
	mixed := ranMixed(t)
	if t.E.Kind == logbook.Refit {
		t.early = t.E.Phase == logbook.Swapping || t.E.Phase == logbook.Migrating
		t.E.Intact = (t.E.Intact || untouched(t)) && !mixed
	}
}

// endNew ends the server that runs: the new one, or one that did not come up with what was put back.
func (t *transaction) endNew() error {
	name := "stop new server"
	if t.E.Kind != logbook.Refit {
		name = "stop server"
	}
	return t.Step(name, func() (string, error) {
		exit, err := t.k.Srv.HalfStop()
		if exit == nil {
			return "it had ended", err
		}
		return exit.Status, err
	})
}

// toBackup makes the whole install, skip aside, what the run's backup holds; of one whose other parts ran on, the files of those
// that did not. trusted are paths that renames have just brought back. Data outside and the inventory follow, as far as the run
// changed them.
func (t *transaction) toBackup(trusted map[string]bool) (note string, err error) {
	set, err := t.k.Shelf.Of(t.E)
	if err != nil {
		return "", err
	}
	back, err := t.k.Returner.Put(t.Attempt(), set, putback.AllOf(set, trusted), t.In.Halt)
	if err != nil {
		return "", err
	}
	t.E.Told = append(t.E.Told, back.Told()...)
	if t.changedData() {
		if err := t.loadBack(back.Set); err != nil {
			return "", err
		}
	}
	if err := t.inventoryBack(); err != nil {
		return "", err
	}
	return fmt.Sprintf(", %s from backup %s%s", words.Plural(back.Restored, "file"), t.E.Backup, relined(t.E, before)), nil
}

// changedData tells whether the run may have changed data outside the install.
func (t *transaction) changedData() bool {
	switch t.E.Kind {
	case logbook.Refit:
		return !t.E.Intact
	case logbook.Rollback:
		return t.E.World // to which it belongs
	}
	return len(t.E.Only) == 0 && !t.E.NoData
}

// nothingPutBack tells whether a restore has put nothing back yet.
func (t *transaction) nothingPutBack() bool {
	return t.E.Phase == logbook.RollingBack && !slices.ContainsFunc(t.Attempts(), swap.Run.Begun) &&
		!(t.changedData() && len(t.In.Profile.Data) > 0)
}

// oldServer has the server run again that ran before the run, or not run.
func (t *transaction) oldServer() error {
	if t.E.WasRunning {
		return t.comeBack(t.E.From)
	}
	if t.In.Host().Status().Running && !rebooted(t) { // else it is the boot's to start it
		_, _, err := t.k.Srv.Stop(context.Background())
		return err
	}
	return nil
}

// rolledBack is what the command returns whose run has gone back.
func (t *transaction) rolledBack() error {
	return &run.RolledBack{Kind: t.E.Kind, Refit: t.E.ID, From: t.E.From, To: t.E.To, Why: t.E.Why, Lines: t.E.Lines,
		Told: t.E.Told, Running: t.E.WasRunning, Early: t.early, Asked: t.E.Why == server.WhyInterrupted}
}

// loadBack loads the data outside the install back from a backup.
func (t *transaction) loadBack(set *locker.Set) error {
	if len(t.In.Profile.Data) == 0 {
		return nil
	}
	loaded, err := t.k.Outside.Load(context.Background(), set)
	if len(loaded) > 0 {
		t.E.Told = append(t.E.Told, fmt.Sprintf("loaded back from backup %s: %s", set.ID, strings.Join(loaded, ", ")))
	}
	return err
}

// notUp says that the server does not come up with what was put back.
type notUp struct {
	hands *run.NeedsHands
	v     *server.Verdict
}

func (n *notUp) Error() string { return n.hands.What }

// wontRun is how a rollback or restore ends whose server does not come up: all goes
// back to where it began, and what would help is told.
func (t *transaction) wontRun(n *notUp) error {
	lines := n.v.Lines
	if tail, err := t.In.Host().Tail(40); err == nil && len(worldIn(t.In, lines)) == 0 {
		lines = append(slices.Clone(lines), tail...)
	}
	world := worldIn(t.In, lines)
	to := cmp.Or(t.E.To, "the version before")
	t.E.Told = nil // notes about a state that is undone now
	if t.E.Kind == logbook.Rollback && !t.E.World {
		if len(world) > 0 {
			t.E.Told = append(t.E.Told, fmt.Sprintf("%s can't read %s as the newer version left it", to,
				strings.Join(world, ", ")))
		}
		then := "then"
		if target, err := t.In.Book.Get(t.E.Target); err != nil {
			t.In.Note("%v", err)
		} else if set, err := t.k.Shelf.Of(target); err == nil {
			then = fmt.Sprintf("on %s, %s ago, without what was played since",
				set.Taken.Local().Format("2006-01-02 15:04"),
				words.Age(time.Since(set.Taken)))
		}
		t.E.Told = append(t.E.Told, fmt.Sprintf("to go back with the world as it was %s: freshkeel rollback %s "+
			"--world", then,
			t.E.Target))
	}
	return &run.Cause{Why: fmt.Sprintf("%s did not come up with what was put back: %s", to, n.v.Why), Lines: n.v.Lines}
}
