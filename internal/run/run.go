// Package run carries out what changes an install, as a list of steps. It knows of no step what it is about. It knows in which
// order they come, notes each phase in the logbook before anything of it is done, goes back where a step fails, and goes on, or
// back, from wherever a crash left a run.
package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"freshkeel/internal/install"
	"freshkeel/internal/logbook"
	"freshkeel/internal/server"
	"freshkeel/internal/swap"
	"freshkeel/internal/words"
)

// Step is one thing that a run does.
type Step struct {
	Phase logbook.Phase // noted, durably, before the first step of it begins
	Name  string        // under which it is told and noted with the time it took; "": it is not

	// Notes has the entry know what the logbook is to know as the phase begins; may be nil.
	Notes func()
	// Do does it, and says what came of it; nil: the phase is all there is to it.
	Do    func(ctx context.Context) (note string, err error)
	Heeds bool // an interrupt that came before it ends the run

	// Undo takes the renames back that it made, and names the paths that they brought back. It may be called where nothing was
	// done, and again. nil: it renames nothing.
	Undo func() (moved map[string]bool, err error)

	// Stays is set where an error of it leaves the run open: what it wants is to be mended, and then it is done again. It says
	// what the run was doing. "": an error of it has the run go back.
	Stays string

	// What a crash leads to is told by the first step of a phase. Resume looks how things stand, and brings about what the phase
	// was to: an error has the run go back, after is what the run ends with all the same. Again has the steps of the phase be
	// done again; else it goes on behind them. Neither of the two: the run goes back.
	Resume func(ctx context.Context, why string) (after, err error)
	Again  bool
}

// Way is how a run goes back, once files may have moved. What it did to them its steps undo, the last one first. All but Phase,
// Name and Outcome may be nil.
type Way struct {
	Phase   logbook.Phase   // noted before
	Name    string          // of the step
	Outcome logbook.Outcome // how the run ends then

	Nothing func() bool                                          // whether no file has moved yet, whatever the phase
	Before  func()                                               // looks at how things stand, before anything is done
	Down    func() error                                         // ends a server that runs
	Lines   func() error                                         // has services run their lines of before
	Whole   func(moved map[string]bool) (note string, err error) // makes all of it what the backup holds
	Runs    func() bool                                          // whether the server has been on since before the run
	Up      func() error                                         // has the server run again, or not, as it did
	Ended   func() error                                         // what the command returns; nil: what it went back for
}

// Run is one run of an install.
type Run struct {
	In    *install.Install
	E     *logbook.Entry
	Dir   swap.Run
	Steps []Step
	Way   Way

	FilesOnly bool         // it makes files whole, and starts and stops nothing
	Moving    func() error // comes before files may be of two builds; may be nil
}

// Ended is an error of a step that has ended the run by itself.
type Ended struct{ Err error }

func (e *Ended) Error() string { return e.Err.Error() }

func (e *Ended) Unwrap() error { return e.Err }

// Cause is why a run goes back, with the console lines that tell.
type Cause struct {
	Why   string
	Lines []string
	Err   error // behind it; may be nil
}

func (c *Cause) Error() string { return c.Why }

func (c *Cause) Unwrap() error { return c.Err }

// Go does the steps, one after the other, and ends the run.
func (r *Run) Go(ctx context.Context) error { return r.forward(ctx, 0) }

// forward does the steps from one on.
func (r *Run) forward(ctx context.Context, from int) error {
	for i := from; i < len(r.Steps); i++ {
		s := r.Steps[i]
		if err := ctx.Err(); err != nil && s.Heeds && i > from { // a step that a crash cut off is done again all the same
			return r.back(err)
		}
		if i > 0 && (i == from || s.Phase != r.Steps[i-1].Phase) { // a run begins in its first phase
			if s.Notes != nil {
				s.Notes()
			}
			if err := r.Enter(s.Phase); err != nil {
				return r.failed(s, err)
			}
			if r.FilesOnly && !s.Phase.Mixes() {
				return nil
			}
		}
		if err := r.do(ctx, s); err != nil {
			return r.failed(s, err)
		}
	}
	r.DropStaging()
	if err := r.Finish(logbook.Confirmed); err != nil {
		return r.Stuck(cmp.Or(r.Steps[len(r.Steps)-1].Stays, "the "+string(r.E.Kind)), err)
	}
	return nil
}

func (r *Run) do(ctx context.Context, s Step) (err error) {
	switch {
	case s.Do == nil:
	case s.Name == "":
		_, err = s.Do(ctx)
	default:
		err = r.Step(s.Name, func() (string, error) { return s.Do(ctx) })
	}
	return err
}

// failed leads to where an error of a step leads.
func (r *Run) failed(s Step, err error) error {
	if end := (*Ended)(nil); errors.As(err, &end) {
		return end.Err
	}
	if s.Stays != "" {
		return r.Stuck(s.Stays, err)
	}
	return r.back(err)
}

// first is the first step of a phase; -1 for none.
func (r *Run) first(p logbook.Phase) int {
	return slices.IndexFunc(r.Steps, func(s Step) bool { return s.Phase == p })
}

// moved tells whether files may have moved: a step that undoes something has begun.
func (r *Run) moved() bool {
	undone := slices.IndexFunc(r.Steps, func(s Step) bool { return s.Undo != nil })
	at := r.first(r.E.Phase)
	return at < 0 || undone >= 0 && at >= r.first(r.Steps[undone].Phase)
}

// Recover leads a run that a crash left to its end, or back. That it goes back is no error of it.
func (r *Run) Recover(ctx context.Context) error {
	why := fmt.Sprintf("interrupted while %s", r.E.Phase)
	at := r.first(r.E.Phase)
	switch {
	case r.E.Phase == logbook.Returning && (at < 0 || r.E.Reverted):
		return r.returned()
	case at >= 0:
		return r.resume(ctx, at, why)
	case r.E.Phase == r.Way.Phase:
		return r.backFrom(&Cause{Why: cmp.Or(r.E.Why, why), Lines: r.E.Lines})
	}
	return fmt.Errorf("%s stands in phase %q, which this program does not know", r.E.ID, r.E.Phase)
}

// backFrom goes back from where a crash left the run: that is how it may rightly end.
func (r *Run) backFrom(cause error) error {
	err := r.back(cause)
	if back := (*RolledBack)(nil); err == cause || errors.As(err, &back) {
		return nil
	}
	return err
}

func (r *Run) resume(ctx context.Context, at int, why string) (err error) {
	s := r.Steps[at]
	var after error
	switch {
	case s.Resume != nil && !r.FilesOnly:
		if after, err = s.Resume(ctx, why); err != nil {
			return r.backFrom(err)
		}
	case !s.Again:
		return r.backFrom(&Cause{Why: why})
	}
	for !s.Again && at < len(r.Steps) && r.Steps[at].Phase == s.Phase {
		at++
	}
	if err := r.forward(ctx, at); err != nil {
		if back := (*RolledBack)(nil); errors.As(err, &back) {
			return nil
		}
		return err
	}
	return after
}

// back has all be as it was before the run, as to files, and has the server up that was. It may be called again after a crash at
// any point. It returns what the command ends with.
func (r *Run) back(cause error) error {
	if !r.moved() || !r.FilesOnly && r.Way.Nothing != nil && r.Way.Nothing() {
		return r.abandon(cause)
	}
	stuck := func(err error) error { return r.Stuck("going back", err) }
	r.E.Why, r.E.Lines = cause.Error(), nil
	if c := (*Cause)(nil); errors.As(cause, &c) {
		r.E.Lines = c.Lines
	}
	// A disk too full for the logbook must not keep renames from going back: from the phase before, recovery leads to the same
	// place.
	if err := r.mixes(); err != nil {
		r.In.Warn("%v", err)
	}
	if r.Way.Before != nil {
		r.Way.Before()
	}
	r.E.Phase = r.Way.Phase
	if err := r.In.Book.Save(r.E); err != nil {
		r.In.Warn("%v", err)
	}
	if err := r.In.Halt("phase:" + string(r.Way.Phase)); err != nil {
		return stuck(err)
	}
	if r.Way.Down != nil && r.In.Host().Status().Running {
		if r.FilesOnly {
			return stuck(errors.New("the server runs"))
		}
		if err := r.Way.Down(); err != nil {
			return stuck(err)
		}
	}
	if err := r.Step(r.Way.Name, r.undo); err != nil {
		return stuck(err)
	}
	r.E.Reverted = true
	if err := r.Enter(logbook.Returning); err != nil {
		return stuck(err)
	}
	if r.FilesOnly {
		return nil
	}
	if err := r.returned(); err != nil {
		return err
	}
	if r.Way.Ended != nil {
		return r.Way.Ended()
	}
	return cause
}

// undo takes back what the steps did, the last one first, and then holds the whole install against the backup.
func (r *Run) undo() (note string, err error) {
	if r.Way.Lines != nil {
		if err := r.Way.Lines(); err != nil {
			return "", err
		}
	}
	all := map[string]bool{}
	for _, s := range slices.Backward(r.Steps) {
		if s.Undo == nil {
			continue
		}
		moved, err := s.Undo()
		if err != nil {
			return "", err
		}
		for at := range moved {
			all[at] = true
		}
	}
	if r.Way.Whole != nil {
		if note, err = r.Way.Whole(all); err != nil {
			return "", err
		}
	}
	return words.Plural(len(all), "path") + " put back by renames" + note, nil
}

// abandon ends a run that has moved nothing: staging goes, and the server comes up again if it was stopped. It returns why, which
// is the command's error.
func (r *Run) abandon(why error) error {
	r.DropStaging()
	if r.Way.Lines != nil && r.moved() {
		if err := r.Way.Lines(); err != nil {
			return r.Stuck("the "+string(r.E.Kind), errors.Join(why, err))
		}
	}
	interrupted := errors.Is(why, context.Canceled)
	if r.E.WasRunning && r.Way.Runs != nil && !r.Way.Runs() {
		r.E.Why = why.Error()
		if err := r.Way.Up(); err != nil {
			return ended(err)
		}
		r.E.Told = append(r.E.Told, "the server was started again")
		if interrupted {
			why = &server.Interrupted{Down: r.E.Down}
		}
	} else if interrupted && !errors.As(why, new(*server.Interrupted)) {
		why = &server.Interrupted{}
	}
	r.E.Why = why.Error()
	if err := r.Finish(logbook.Abandoned); err != nil {
		return errors.Join(why, err)
	}
	return why
}

// ended is what an error ended with that has ended the run by itself.
func ended(err error) error {
	if end := (*Ended)(nil); errors.As(err, &end) {
		return end.Err
	}
	return err
}

// returned ends a run that has gone back, its files in place.
func (r *Run) returned() error {
	if r.Way.Up != nil {
		if err := r.Way.Up(); err != nil {
			if end := (*Ended)(nil); errors.As(err, &end) {
				return end.Err
			}
			return r.Stuck("going back", err)
		}
	}
	r.DropStaging()
	if err := r.Finish(r.Way.Outcome); err != nil {
		return r.Stuck("going back", err)
	}
	return nil
}
