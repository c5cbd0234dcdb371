package freshkeel

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/guard"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/logbook"
	"freshkeel/internal/logline"
	"freshkeel/internal/server"
	"freshkeel/internal/version"
)

// Recover finishes or reverses what a crash interrupted. It returns nil when
// there was nothing. Every command that changes the install does it first.
func (k *Keel) Recover(ctx context.Context) (*logbook.Entry, error) {
	unlock, err := k.in.Lock("recover")
	if err != nil {
		return nil, err
	}
	defer unlock()
	k.srv.TakeOver(ctx)
	k.srv.LetGo()
	return k.recoverLocked(ctx)
}

// Unsettled is what was interrupted, and nobody is at work on; nil for nothing. To look at it changes nothing.
func (k *Keel) Unsettled() *logbook.Entry {
	e, err := k.in.Book.Unfinished()
	if err != nil || e == nil || k.in.Busy() != "" {
		return nil
	}
	return e
}

// PendingRecovery tells what Recover would have to deal with, or nil.
func (k *Keel) PendingRecovery() (*logbook.Entry, error) { return k.in.Book.Unfinished() }

// recoverLocked reads how far the interrupted run got and leads it to the old
// tree or the new one. Its own steps are those of the run; a crash in here is
// just another crash.
func (k *Keel) recoverLocked(ctx context.Context) (*logbook.Entry, error) {
	e, err := k.in.Book.Unfinished()
	if e == nil || err != nil {
		if g := guard.New(k.in); err == nil && g.Stands() { // of a run that ended just before it was killed
			unguard(k.in)
		}
		return nil, err
	}
	k.in.Warn("%s %s was interrupted while %s: recovering", e.Kind, e.ID, e.Phase)
	t := k.resume(e)
	defer t.close()
	why := fmt.Sprintf("interrupted while %s", e.Phase)
	if e.Kind == logbook.Mend { // no server was stopped for it
		if err := k.Auditor.Undo(e, why); err != nil {
			return nil, t.stuck("taking the mend back", err)
		}
		k.in.Note("%s: what it had put back was taken out again; freshkeel audit tells what is wrong", e.ID)
		return e, nil
	}
	switch e.Phase {
	case logbook.Preparing:
		err = t.abandonInterrupted(why)
	case logbook.Stopping:
		awaitStop(ctx, k.srv)
		if t.runsOn() && !k.in.Parting.Now { // players may have been warned
			k.srv.CallOff(e.To)
		}
		err = t.abandonInterrupted(why)
	case logbook.Swapping, logbook.Migrating: // what was begun is never run twice
		err = t.goBack(why, nil)
	case logbook.Watching:
		err = t.watchThrough(ctx, why)
	case logbook.Confirming:
		err = t.confirmAgain(ctx)
	case logbook.RollingBack:
		switch e.Kind {
		case logbook.Rollback:
			err = t.undo()
		case logbook.Restore:
			err = t.restore()
		default:
			err = t.goBack(cmp.Or(e.Why, why), e.Lines)
		}
	case logbook.Reverting:
		err = t.revert(cmp.Or(e.Why, why), e.Lines)
	case logbook.Returning:
		if e.Kind == logbook.Refit || e.Reverted {
			err = t.returned()
		} else {
			err = t.settle()
		}
	default:
		err = fmt.Errorf("%s stands in phase %q, which this program does not know", e.ID, e.Phase)
	}
	// Rolled back is how a recovery may rightly end; only the run that was
	// interrupted would have called it a failure.
	if back := (*RolledBack)(nil); errors.As(err, &back) {
		err = nil
	}
	if err != nil {
		return nil, err
	}
	k.in.Note("%s: %s", e.ID, recovered(e))
	return e, nil
}

// GiveUp ends the run that a crash interrupted, or that could not be ended well,
// with the install as it is: it puts nothing back and starts nothing. What was kept
// stays kept.
func (k *Keel) GiveUp() (*logbook.Entry, error) {
	unlock, err := k.in.Lock("recover")
	if err != nil {
		return nil, err
	}
	defer unlock()
	e, err := k.in.Book.Unfinished()
	if e == nil || err != nil {
		return nil, err
	}
	t := k.resume(e)
	defer t.close()
	e.Told = append(e.Told, fmt.Sprintf("it was given up while %s: the install may hold parts of two versions",
		e.Phase))
	return e, t.finish(logbook.Left)
}

func recovered(e *logbook.Entry) string {
	switch {
	case e.Outcome == logbook.Confirmed:
		return fmt.Sprintf("seen through, %s is in place", version.OrUnknown(e.To))
	case e.Outcome == logbook.Abandoned:
		return fmt.Sprintf("nothing had changed, %s is in place", version.OrUnknown(e.From))
	}
	return fmt.Sprintf("rolled back, %s is in place", version.OrUnknown(e.From))
}

// abandonInterrupted is abandon for a run whose own command is gone: that it
// was interrupted is no error of the recovery.
func (t *transaction) abandonInterrupted(why string) error {
	reason := errors.New(why)
	if err := t.abandon(reason); err != reason {
		return err
	}
	return nil
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

// watchThrough sees an interrupted watch through where the new server still
// runs, and goes back where it does not. A new build that has run since, after a boot say, may have been
// played on: that is never taken back unasked.
func (t *transaction) watchThrough(ctx context.Context, why string) error {
	v := &Verdict{Why: why + ", and the new server is not running"}
	if t.k.in.Host().Status().Running {
		v = t.watch(ctx)
	}
	if v.Up {
		return t.confirm()
	}
	played := playedOn(t)
	if played == "" {
		return t.goBack(v.Why, v.Lines)
	}
	t.e.Why, t.e.Lines = fmt.Sprintf("%s; %s, so it is not taken back unasked: %s", why, played, v.Why), v.Lines
	n := &NeedsHands{What: fmt.Sprintf("%s was cut off while %s was watched, and %s, so it is not taken back unasked: what was played "+
		"since would be lost (%s)", t.e.ID, version.OrUnknown(t.e.To), played, v.Why),
		Lines: v.Lines, State: "the files of " + version.OrUnknown(t.e.To) + " are in place, and so is what was written since",
		Do: []string{"freshkeel log, and freshkeel start, if it is to stay",
			"freshkeel rollback " + t.e.ID + " (the world stays as it is now; --world: as it was before, without what was played since)"}}
	if err := t.confirm(); err != nil {
		return err
	}
	return n
}

// playedOn tells how it is known that the new build came up without its refit, and may have been played on;
// "" where it did not.
func playedOn(t *transaction) string {
	st := t.k.in.Host().Status()
	began, ended := st.Since, time.Now()
	if !st.Running && st.Last != nil {
		began, ended = st.Last.Began, st.Last.At
	}
	if t.e.Spawned.IsZero() || began.IsZero() || ended.Before(t.e.Spawned) {
		return ""
	}
	r := t.k.in.Profile.Ready
	long := ended.Sub(began) > r.Within.Std()+r.Steady.Std()+time.Minute
	if !long && !(rebooted(t) && cameUp(t.k.in, ended.Sub(began))) {
		return ""
	}
	told := fmt.Sprintf("it ran from %s to %s", began.Format(time.DateTime), ended.Format(time.DateTime))
	if rebooted(t) {
		told = "the machine was started since, where " + told
	}
	return told
}

// cameUp tells whether the last start of a server said its ready line; where the profile has none,
// whether it ran for as long as a server needs at least.
func cameUp(in *install.Install, ran time.Duration) bool {
	if !in.Profile.Ready.Line.Given() {
		return ran > 10*time.Second
	}
	lines, err := in.Host().Tail(5000)
	return err == nil && slices.ContainsFunc(logline.Own(lines), func(l string) bool {
		by, _ := in.Profile.Ready.Line.Match(l)
		return by != nil
	})
}

// rebooted tells whether the machine was started anew since the run began.
func rebooted(t *transaction) bool {
	was, wasFirst, _ := strings.Cut(t.e.Boot, " ")
	now, first, _ := strings.Cut(host.BootID(), " ")
	return was != "" && now != "" && (was != now || (wasFirst != "" && first != "" && wasFirst != first))
}

// SettleFiles makes the files whole that a run left between two builds, and starts and stops nothing: it
// comes before a service manager starts the server. What else the run was about, the next command sees to. The
// entry is nil where nothing was to do.
func SettleFiles(ctx context.Context, k *Keel) (*logbook.Entry, error) {
	unlock, err := lockToSettle(ctx, k)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if err := k.in.Bind(); err != nil {
		return nil, err
	}
	e, err := k.in.Book.Unfinished()
	if err != nil {
		return nil, err
	}
	if e == nil || !e.Phase.Mixes() || e.Kind == logbook.Mend {
		return nil, guard.New(k.in).Still()
	}
	why := fmt.Sprintf("interrupted while %s", e.Phase)
	t := k.resume(e)
	defer t.close()
	t.files = true
	switch {
	case e.Phase == logbook.Reverting:
		err = t.revert(cmp.Or(e.Why, why), e.Lines)
	case e.Phase == logbook.RollingBack && e.Kind == logbook.Rollback:
		err = t.undo()
	case e.Phase == logbook.RollingBack && e.Kind == logbook.Restore:
		err = t.restore()
	default:
		err = t.goBack(cmp.Or(e.Why, why), e.Lines)
	}
	return e, err
}

// settling is what a command is doing that makes files whole.
const settling = "making files whole"

// lockToSettle waits for others that make the files of the same install whole, for another unit of it. A
// command that exchanges files is not waited for: it may wait for the unit itself.
func lockToSettle(ctx context.Context, k *Keel) (unlock func(), err error) {
	for {
		var busy *Busy
		if unlock, err = k.in.Lock(settling); !errors.As(err, &busy) || busy.Doing != settling {
			return unlock, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(frontRest):
		}
	}
}

// confirmAgain confirms what a crash kept from being confirmed. Where the
// whole machine went down, the new server has to come up once more.
func (t *transaction) confirmAgain(ctx context.Context) error {
	if t.e.EndRunning && !t.k.in.Host().Status().Running {
		if v := t.start(ctx); !v.Up {
			return t.goBack(v.Why, v.Lines)
		}
	}
	return t.confirm()
}
