package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/data"
	"freshkeel/internal/guard"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/migrate"
	"freshkeel/internal/plan"
	"freshkeel/internal/server"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// transaction is one run that changes the install: a refit, a rollback or a
// restore. Its logbook entry is on disk from the beginning and says how far it
// got; recover reads it.
type transaction struct {
	k   *Keel
	e   *logbook.Entry
	dir swap.Run

	writer *locker.Writer
	copied *locker.Taken // the first backup pass
	told   time.Time     // when the server was told to stop
	gone   time.Time     // when its last process ended
	early  bool          // it goes back from before the new server was started
	files  bool          // it makes files whole, and starts and stops nothing
}

// transact opens a transaction: from here on a crash is something to recover.
func (k *Keel) transact(e *logbook.Entry) (*transaction, error) {
	e.Phase = logbook.Preparing
	k = only(k, e.Alone)
	st := k.in.Host().Status()
	e.WasRunning, e.RanSince = st.Running, st.Since
	e.EndRunning = e.EndRunning || e.WasRunning
	e.Boot = host.BootID()
	if err := k.in.Book.Begin(e); err != nil {
		return nil, err
	}
	t := k.resume(e)
	if err := tree.MakeDirs(t.dir.Dir, 0o700); err != nil {
		return nil, t.abandon(err)
	}
	return t, k.in.Halt("begun")
}

// resume is transact for an entry that a crash left.
func (k *Keel) resume(e *logbook.Entry) *transaction {
	return &transaction{k: only(k, e.Alone), e: e, dir: k.in.Run(e.ID)}
}

func (t *transaction) close() {
	if t.writer != nil {
		t.writer.Close()
	}
	t.writer, t.copied = nil, nil
}

// step runs a step, tells of it, and records its time.
func (t *transaction) step(name string, run func() (sum string, err error)) error {
	var sum string
	took, err := t.k.in.Step(name, func() (s string, err error) { sum, err = run(); return sum, err })
	if err != nil {
		if sum = err.Error(); errors.Is(err, context.Canceled) {
			sum = "interrupted"
		}
		t.k.in.Tell(tell.Event{Kind: tell.StepFailed, Step: name, Text: sum, Took: took})
	}
	t.e.Steps = append(t.e.Steps, logbook.Step{Name: name, Took: took, Note: sum})
	return err
}

// enter makes the next phase durable before anything of it is done. The guard's marks stand before a
// phase in which files move, and go after it.
func (t *transaction) enter(p logbook.Phase) error {
	if p.Mixes() {
		if err := mixes(t); err != nil {
			return err
		}
	}
	t.e.Phase = p
	if err := t.k.in.Book.Save(t.e); err != nil {
		return err
	}
	if !p.Mixes() {
		if err := guard.New(t.k.in).Still(); err != nil {
			return err
		}
	}
	return t.k.in.Halt("phase:" + string(p))
}

// mixes notes that files may be of two builds from now on.
func mixes(t *transaction) error {
	if !t.e.Phase.Mixes() { // else it goes on
		t.e.Mixed = time.Now().Round(0)
	}
	if err := t.k.srv.MarkLogs(); err != nil {
		t.k.in.Warn("%v", err)
	}
	return guard.New(t.k.in).Moving()
}

// unguard takes the guard of a run away that has ended.
func unguard(in *install.Install) {
	if err := guard.New(in).TakeAway(); err != nil {
		in.Warn("the guard over the service could not be taken away, and hinders nothing: %v", err)
	}
}

func (t *transaction) finish(o logbook.Outcome) error {
	t.e.Stuck = ""
	t.e.Phase, t.e.Outcome, t.e.Ended = logbook.Done, o, time.Now().Round(0)
	if err := t.k.in.Book.Save(t.e); err != nil {
		return err
	}
	unguard(t.k.in)
	prune(t.k.in)
	return t.k.in.Halt("finished")
}

// abandon ends a transaction that has changed nothing: staging goes, and the
// server comes up again if it was stopped. It returns why, which is the
// command's error.
func (t *transaction) abandon(why error) error {
	interrupted := errors.Is(why, context.Canceled)
	t.dropStaging()
	if t.e.WasRunning && !t.runsOn() {
		t.e.Why = why.Error()
		if err := t.comeBack(t.e.From); err != nil {
			return err
		}
		t.e.Told = append(t.e.Told, "the server was started again")
		if interrupted {
			why = &Interrupted{Down: t.e.Down}
		}
	} else if interrupted && !errors.As(why, new(*Interrupted)) {
		why = &Interrupted{}
	}
	t.e.Why = why.Error()
	if err := t.finish(logbook.Abandoned); err != nil {
		return errors.Join(why, err)
	}
	return why
}

// runsOn tells whether the server has been running since before the
// transaction. One that was started within it is not known to be up yet.
func (t *transaction) runsOn() bool {
	st := t.k.in.Host().Status()
	return st.Running && !st.Partly && st.Since.Before(t.e.Started)
}

// dropStaging removes what was laid out and never swapped in, by this run and by
// its attempts at putting files back.
func (t *transaction) dropStaging() {
	for _, run := range append(attempts(t.k.in, t.e.ID), t.dir) {
		run.DropStaging()
	}
}

// attempts are the folders of the attempts at putting files back, oldest first.
func attempts(in *install.Install, run string) (out []swap.Run) {
	for n := 1; ; n++ {
		one := in.Run(run)
		one.Dir = filepath.Join(one.Dir, fmt.Sprintf("back-%d", n))
		if _, err := os.Stat(one.Dir); err != nil {
			return out
		}
		out = append(out, one)
	}
}

// preCopy is the first backup pass, while the server runs: it leaves the
// second one little to do.
func (t *transaction) preCopy(ctx context.Context) error {
	if err := t.k.srv.AwaitEmpty(ctx); err != nil {
		return err
	}
	return t.step("pre-copy", func() (string, error) {
		if err := t.k.in.Halt("pre-copy"); err != nil {
			return "", err
		}
		l, err := t.k.in.Locker()
		if err != nil {
			return "", err
		}
		base, err := t.k.shelf.Last()
		if err != nil {
			return "", err
		}
		t.writer = l.Writer()
		t.writer.PiecesAlone = true
		t.copied, err = t.writer.Take(ctx, t.k.in.Dir, t.k.in.Profile.Server.Skip, takes(t).Takes(), base,
			t.k.in.Moves("pre-copy"))
		if err != nil {
			return "", err
		}
		t.k.shelf.Doubt(t.copied)
		if err := t.copied.Prepare(); err != nil {
			return "", err
		}
		t.copied.Compact()
		if t.e.WasRunning && len(t.e.Alone) == 0 {
			if err := t.k.outside.Try(ctx, t.writer); err != nil {
				return "", err
			}
		}
		if !t.e.WasRunning {
			return words.Bytes(t.copied.Read) + " read", nil
		}
		return fmt.Sprintf("%s read while the server ran", words.Bytes(t.copied.Read)), nil
	})
}

// takes is what of the install a run's backup takes: the files of the parts that it stops. What
// the others write meanwhile would not hold together.
func takes(t *transaction) Choice {
	return Choice{Only: t.k.in.All().Profile.FilesOf(t.e.Alone)}
}

// stop ends the server, if it runs.
func (t *transaction) stop(ctx context.Context) error {
	not, err := guard.New(t.k.in).Lay()
	if err != nil {
		return fmt.Errorf("guard the service against a boot while files are exchanged: %w", err)
	}
	if t.e.Kind != logbook.Refit { // of which preflight has told
		for _, why := range not {
			t.k.in.Warn("%s", why)
		}
	}
	if err := t.enter(logbook.Stopping); err != nil {
		return err
	}
	if !t.k.in.Host().Status().Running {
		return nil
	}
	return t.step("stop", func() (string, error) {
		if err := part(ctx, t); err != nil {
			return "", err
		}
		t.k.srv.ProveRunning()
		order := server.TryAll(t.k.srv, t.k.srv.Order())
		t.told = time.Now()
		exit, err := t.k.srv.StopBy(order, false)
		if err != nil {
			return "", err
		}
		t.gone = time.Now()
		sum := "the server ended"
		if len(t.e.Alone) > 0 {
			sum = strings.Join(t.e.Alone, ", ") + " ended"
		}
		if exit != nil {
			t.gone = exit.At
			sum += " (" + exit.Status + ")"
			if lost := exit.Lost(); lost != "" {
				t.e.Told = append(t.e.Told, "at its stop the server was "+lost)
			}
		}
		var rest []string
		for _, part := range t.k.in.Rest() {
			rest = append(rest, part.PartName())
		}
		if len(rest) > 0 {
			sum += "; still running: " + strings.Join(rest, ", ")
			t.e.Told = append(t.e.Told, "not stopped, as no file of theirs changed: "+strings.Join(rest, ", "))
		}
		return sum, t.k.in.Halt("stopped")
	})
}

// part parts the players from the server: they are warned, and where nobody is to be on, it is
// looked once more whether that is so.
func part(ctx context.Context, t *transaction) error {
	to := t.e.To
	if to == t.e.From {
		to = ""
	}
	for {
		if err := t.k.srv.TellPlayers(ctx, to); err != nil {
			return err
		}
		if !t.k.in.Parting.WhenEmpty {
			return nil
		}
		if on, err := t.k.srv.PlayersOn(ctx); err != nil || on.Nobody() {
			return err
		}
		t.k.in.Note("somebody came in meanwhile")
		if err := t.k.srv.AwaitEmpty(ctx); err != nil {
			return err
		}
	}
}

// backUp is the second pass: with the server down it is consistent.
func (t *transaction) backUp(ctx context.Context, label string) error {
	if len(t.e.Alone) > 0 {
		label = strings.Join(t.e.Alone, ", ") + " alone, " + label
	}
	return t.step("backup", func() (string, error) {
		if err := t.k.in.Halt("backup"); err != nil {
			return "", err
		}
		taken, err := t.writer.Take(ctx, t.k.in.Dir, t.k.in.Profile.Server.Skip, takes(t).Takes(), t.copied.Base(),
			t.k.in.Moves("backup"))
		if err != nil {
			return "", err
		}
		if len(taken.Moving) > 0 {
			return "", tell.Advise(
				fmt.Errorf("%s keeps changing although the server is stopped: something else writes "+
					"to the install", words.Some(taken.Moving, 3)),
				"find what writes there, end it, and try again",
			)
		}
		if err := t.k.outside.Dump(ctx, t.writer, taken); err != nil {
			return "", err
		}
		set := &locker.Set{Version: t.e.From, Label: label, Run: t.e.ID, Only: takes(t).Only}
		if err = t.k.shelf.Publish(t.writer, taken, set); err != nil {
			return "", err
		}
		t.close() // what the passes found of a large install takes much room
		t.e.Backup, t.e.BackupTaken = set.ID, set.Taken
		if l, err := t.k.in.Locker(); err == nil {
			t.e.Locker = l.Dir()
		}
		return fmt.Sprintf("%s: %s, %s, %s new in the locker", set.ID, words.Plural(set.Files, "file"),
			words.Bytes(set.Bytes), words.Bytes(set.New)), nil
	})
}

// comeBack starts the server of the version that is in place again, and
// watches it come up. One that does not ends the transaction: it needs hands.
func (t *transaction) comeBack(ver string) error {
	return t.step("start old server", func() (string, error) {
		srv := t.k.srv
		if slices.ContainsFunc(t.k.in.Rest(), func(r *install.Install) bool { return !r.Host().Status().Running }) {
			srv = server.New(t.k.in.All()) // one that was to run on ended: it comes up with the others
		}
		v, err := srv.BringUp(context.Background(), server.Goal{Version: ver, Same: true})
		if err == nil && v.Late { // a machine that was busy a moment ago may not be now
			t.k.in.Warn("%s; it is given one more try", v.Why)
			if _, err = srv.HalfStop(); err == nil {
				v, err = srv.BringUp(context.Background(), server.Goal{Version: ver, Same: true})
			}
		}
		if err == nil && v.Up {
			t.down(v)
			t.e.Told = append(t.e.Told, t.k.srv.Rebind()...)
			doubt(t.k.in, t.e, v)
			return v.Why, nil
		}
		n := &NeedsHands{What: "the old server does not come up either",
			State: "the files of " + version.OrUnknown(ver) + " are in place",
			Do:    []string{"freshkeel start (once what its console says is mended)", "freshkeel log"}}
		if t.e.Kind != logbook.Refit {
			n.What = "the server does not come up with what was put back"
		}
		if err != nil {
			n.What += ": " + err.Error()
		} else {
			n.What, n.Lines = n.What+": "+v.Why, v.Lines
			t.k.srv.HalfStop()
		}
		if t.e.Backup != "" {
			n.State += ", and so is all else as it was in backup " + t.e.Backup
		}
		if t.reverts() { // the caller goes back to where the run began, and decides
			if err == nil {
				return "", &notUp{n, v}
			}
			return "", &notUp{n, &Verdict{Why: err.Error()}}
		}
		n.Do = append(hopeful(t, n.Lines), n.Do...)
		t.e.Why, t.e.Lines = n.What, n.Lines
		return "", errors.Join(n, t.finish(logbook.NeedsHands))
	})
}

// down notes how long players were without a server.
func (t *transaction) down(v *Verdict) {
	if !t.told.IsZero() {
		t.e.Down = time.Since(t.told) // the steady time is not players' loss
		if s := t.k.in.Profile.Ready.Steady.Std(); v.Up && t.e.Down > s {
			t.e.Down -= s
		}
	}
}

// stuck is for an error after which only going on leads to a whole tree: the
// entry stays open, and recover goes on from it once the cause is mended.
func (t *transaction) stuck(doing string, err error) error {
	t.e.Stuck = err.Error()
	if serr := t.k.in.Book.Save(t.e); serr != nil {
		t.k.in.Warn("%v", serr)
	}
	return &NeedsHands{What: doing + " did not end well: " + err.Error(),
		State: "everything is kept under " + t.dir.Dir + "; the state before is backup " + t.e.Backup,
		Do: []string{"mend what it says, then: freshkeel recover",
			"or, to leave everything as it is now: freshkeel recover --leave-as-is"}}
}

// keptRuns is how many of the newest runs keep what they displaced.
const keptRuns = 6

// prune drops what old runs displaced. Their plans, inventories and backups
// stay, so that a rollback to before them is still possible from the locker.
func prune(in *install.Install) {
	all, err := in.Book.All()
	all = slices.DeleteFunc(all, func(e *logbook.Entry) bool { return e.Kind == logbook.Crash }) // which keep nothing
	if err != nil || len(all) <= keptRuns {
		return
	}
	for _, e := range all[:len(all)-keptRuns] {
		for _, dir := range in.Run(e.ID).Planned() {
			list, _ := os.ReadDir(dir)
			for _, d := range list {
				if d.IsDir() {
					os.RemoveAll(filepath.Join(dir, d.Name()))
				}
			}
		}
	}
}

// stamp notes in the inventory to be the times that files were laid out with: they prove
// later that nobody wrote to them.
func stamp(path string, stamps map[string]plan.Stamp) error {
	s, err := inventory.Open(path)
	if err != nil {
		return err
	}
	defer s.Close()
	return s.CopyTo(path, func(o *inventory.Owned) {
		if st, laid := stamps[o.Path]; laid {
			o.Mtime, o.Inode = st.Mtime, st.Inode
		}
	})
}

// takeInventory makes one of the saved inventories the install's own.
func (t *transaction) takeInventory(from swap.Run, name string) error {
	s, err := inventory.Open(filepath.Join(from.Dir, name))
	if err != nil {
		return err
	}
	defer s.Close()
	s.Head.At = time.Now().Round(0)
	if s.Head.Version == "" && name == inventoryAfter {
		s.Head.Version = t.e.To // as the server said it
	}
	return s.CopyTo(t.k.inv.File(), func(o *inventory.Owned) {
		o.SeenAt = 0
		// Only a file that provably still is what was put there is noted with
		// its identity; any other is read when next it is compared.
		now, ok, err := tree.Describe(t.k.in.Path(o.Path), o.Path)
		if err == nil && ok && now.Kind == o.Kind && now.Size == o.Size && o.Mtime != 0 && now.Mtime == o.Mtime &&
			(o.Inode == 0 || o.Inode == now.Inode) {
			o.Entry, o.SeenAt = now, time.Now().UnixNano()
		}
	})
}

// migrate does to the data what the makers of the new build want, once its files are in place and
// before it starts. Each migration is written down before it begins and when it is done: one that
// was begun and is not known to be done means going back, files and data both.
func (t *transaction) migrate(ctx context.Context) error {
	due := migrate.Due(t.k.in.Profile, t.e.From, t.e.To)
	if len(due) == 0 {
		return nil
	}
	if err := t.enter(logbook.Migrating); err != nil {
		return err
	}
	for _, m := range due {
		had := data.Had{Name: m.Name, Run: t.e.ID, From: t.e.From, To: t.e.To, Began: time.Now().Round(0)}
		if slices.Contains(t.e.LeftOut, m.Name) {
			had.Done, had.Said = true, true
			if err := t.k.outside.Note(had); err != nil {
				return err
			}
			t.e.Told = append(t.e.Told, fmt.Sprintf("the migration %s was left out: the data has had it", m.Name))
			continue
		}
		if len(m.Up) > 0 { // they run, on files that are whole
			if err := guard.New(t.k.in).Still(m.Up...); err != nil {
				return err
			}
		}
		if err := t.k.srv.Arrange(ctx, m.Up, m.Down); err != nil {
			return fmt.Errorf("before the migration %s: %w", m.Name, err)
		}
		if err := t.k.outside.Note(had); err != nil {
			return err
		}
		t.e.Migrations = append(t.e.Migrations, logbook.Migrated{Name: m.Name, Began: time.Now().Round(0)})
		if err := t.k.in.Book.Save(t.e); err != nil {
			return err
		}
		err := t.step("migrate", func() (string, error) {
			if err := t.k.in.Halt("migrating"); err != nil {
				return "", err
			}
			return m.Name, migrate.New(t.k.res).Run(ctx, m, t.e.From, t.e.To)
		})
		if err != nil {
			return err
		}
		done := &t.e.Migrations[len(t.e.Migrations)-1]
		done.Done, done.Took = true, time.Since(done.Began)
		if err := t.k.in.Halt("migrated"); err != nil {
			return err
		}
		had.Done = true
		if err := t.k.outside.Note(had); err != nil {
			return err
		}
		if err := t.k.in.Book.Save(t.e); err != nil {
			return err
		}
	}
	return t.k.in.Halt("all-migrated")
}

// linesOf are the lines by which something that failed says why.
func linesOf(err error) []string {
	if f := (*migrate.Failed)(nil); errors.As(err, &f) {
		return f.Lines
	}
	return nil
}
