package change

import (
	"context"
	"fmt"
	"strings"
	"time"

	"freshkeel/internal/backups"
	"freshkeel/internal/guard"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/run"
	"freshkeel/internal/server"
	"freshkeel/internal/tell"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// awaitEmpty waits until nobody is on, where that is asked.
func (t *transaction) awaitEmpty(ctx context.Context) (string, error) {
	return "", t.k.Srv.AwaitEmpty(ctx)
}

// preCopy is the first backup pass, while the server runs: it leaves the
// second one little to do.
func (t *transaction) preCopy(ctx context.Context) (string, error) {
	if err := t.In.Halt("pre-copy"); err != nil {
		return "", err
	}
	l, err := t.In.Locker()
	if err != nil {
		return "", err
	}
	base, err := t.k.Shelf.Last()
	if err != nil {
		return "", err
	}
	t.writer = l.Writer()
	t.writer.PiecesAlone = true
	t.copied, err = t.writer.Take(ctx, t.In.Dir, t.In.Profile.Server.Skip, takes(t).Takes(), base,
		t.In.Moves("pre-copy"))
	if err != nil {
		return "", err
	}
	t.k.Shelf.Doubt(t.copied)
	if err := t.copied.Prepare(); err != nil {
		return "", err
	}
	t.copied.Compact()
	if t.E.WasRunning && len(t.E.Alone) == 0 {
		if err := t.k.Outside.Try(ctx, t.writer); err != nil {
			return "", err
		}
	}
	if !t.E.WasRunning {
		return words.Bytes(t.copied.Read) + " read", nil
	}
	return fmt.Sprintf("%s read while the server ran", words.Bytes(t.copied.Read)), nil
}

// takes is what of the install a run's backup takes: the files of the parts that it stops. What
// the others write meanwhile would not hold together.
func takes(t *transaction) backups.Choice {
	return backups.Choice{Only: t.In.All().Profile.FilesOf(t.E.Alone)}
}

// guard keeps a service manager from starting the server while its files move, before it is stopped.
func (t *transaction) guard(context.Context) (string, error) {
	not, err := guard.New(t.In).Lay()
	if err != nil {
		return "", fmt.Errorf("guard the service against a boot while files are exchanged: %w", err)
	}
	if t.E.Kind != logbook.Refit { // of which preflight has told
		for _, why := range not {
			t.In.Warn("%s", why)
		}
	}
	return "", nil
}

// stop ends the server, if it runs.
func (t *transaction) stop(ctx context.Context) (string, error) {
	if !t.In.Host().Status().Running {
		return "", nil
	}
	return "", t.Step("stop", func() (string, error) { return t.endOld(ctx) })
}

// endOld parts the players from the server, and ends it.
func (t *transaction) endOld(ctx context.Context) (string, error) {
	if err := part(ctx, t); err != nil {
		return "", err
	}
	t.k.Srv.ProveRunning()
	order := server.TryAll(t.k.Srv, t.k.Srv.Order())
	t.told = time.Now()
	exit, err := t.k.Srv.StopBy(order, false)
	if err != nil {
		return "", err
	}
	t.gone = time.Now()
	sum := "the server ended"
	if len(t.E.Alone) > 0 {
		sum = strings.Join(t.E.Alone, ", ") + " ended"
	}
	if exit != nil {
		t.gone = exit.At
		sum += " (" + exit.Status + ")"
		if lost := exit.Lost(); lost != "" {
			t.E.Told = append(t.E.Told, "at its stop the server was "+lost)
		}
	}
	var rest []string
	for _, part := range t.In.Rest() {
		rest = append(rest, part.PartName())
	}
	if len(rest) > 0 {
		sum += "; still running: " + strings.Join(rest, ", ")
		t.E.Told = append(t.E.Told, "not stopped, as no file of theirs changed: "+strings.Join(rest, ", "))
	}
	return sum, t.In.Halt("stopped")
}

// part parts the players from the server: they are warned, and where nobody is to be on, it is
// looked once more whether that is so.
func part(ctx context.Context, t *transaction) error {
	to := t.E.To
	if to == t.E.From {
		to = ""
	}
	for {
		if err := t.k.Srv.TellPlayers(ctx, to); err != nil {
			return err
		}
		if !t.In.Parting.WhenEmpty {
			return nil
		}
		if on, err := t.k.Srv.PlayersOn(ctx); err != nil || on.Nobody() {
			return err
		}
		t.In.Note("somebody came in meanwhile")
		if err := t.k.Srv.AwaitEmpty(ctx); err != nil {
			return err
		}
	}
}

// label is what the backup of a run is called.
func (t *transaction) label() string {
	way := version.OrUnknown(t.E.From) + " → " + version.OrUnknown(t.E.To)
	switch t.E.Kind {
	case logbook.Rollback:
		return "before rollback " + t.E.ID + ": " + way
	case logbook.Restore:
		return "before restore " + t.E.ID + " of " + t.E.Target
	}
	return "before " + t.E.ID + ": " + way
}

// backUp is the second pass: with the server down it is consistent.
func (t *transaction) backUp(ctx context.Context) (string, error) {
	ctx = context.WithoutCancel(ctx)
	label := t.label()
	if len(t.E.Alone) > 0 {
		label = strings.Join(t.E.Alone, ", ") + " alone, " + label
	}
	if err := t.In.Halt("backup"); err != nil {
		return "", err
	}
	taken, err := t.writer.Take(ctx, t.In.Dir, t.In.Profile.Server.Skip, takes(t).Takes(), t.copied.Base(),
		t.In.Moves("backup"))
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
	if err := t.k.Outside.Dump(ctx, t.writer, taken); err != nil {
		return "", err
	}
	set := &locker.Set{Version: t.E.From, Label: label, Run: t.E.ID, Only: takes(t).Only}
	if err = t.k.Shelf.Publish(t.writer, taken, set); err != nil {
		return "", err
	}
	t.close() // what the passes found of a large install takes much room
	t.E.Backup, t.E.BackupTaken = set.ID, set.Taken
	if l, err := t.In.Locker(); err == nil {
		t.E.Locker = l.Dir()
	}
	return fmt.Sprintf("%s: %s, %s, %s new in the locker", set.ID, words.Plural(set.Files, "file"),
		words.Bytes(set.Bytes), words.Bytes(set.New)), nil
}

// stillDown refuses to exchange files under a server that somebody else started meanwhile: a
// service manager does so for whoever asks it (P7).
func (t *transaction) stillDown(context.Context) (string, error) {
	st := t.In.Host().Status()
	if !st.Running {
		return "", t.k.Srv.NoneOutside()
	}
	return "", tell.Advise(fmt.Errorf("somebody started the server meanwhile, %s: process %d", st.How(), st.PID),
		"find out who or what does, and try again: freshkeel status")
}

// callOff is what a crash at the stop leads to: the stop comes to its end, or players hear that there is none.
func (t *transaction) callOff(ctx context.Context, why string) (after, err error) {
	awaitStop(ctx, t.k.Srv)
	if t.runsOn() && !t.In.Parting.Now { // players may have been warned
		t.k.Srv.CallOff(t.E.To)
	}
	return nil, &run.Cause{Why: why}
}

// runsOn tells whether the server has been running since before the run. One that was started within it is not known to be up yet.
func (t *transaction) runsOn() bool {
	st := t.In.Host().Status()
	return st.Running && !st.Partly && st.Since.Before(t.E.Started)
}

// awaitStop lets a stop that the minder is carrying out come to its end.
func awaitStop(ctx context.Context, srv *server.Server) {
	if st := srv.Host().Status(); !st.Running || !st.Stopping {
		return
	}
	o := srv.Order()
	ctx, cancel := context.WithTimeout(ctx, o.Wait+o.Terminate+15*time.Second)
	defer cancel()
	srv.Host().Wait(ctx)
}
