package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"freshkeel/internal/guard"
	"freshkeel/internal/install"
	"freshkeel/internal/logbook"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
)

// Begin opens a run: from here on a crash is something to recover.
func (r *Run) Begin() error {
	r.E.Phase = logbook.Preparing
	if err := r.In.Book.Begin(r.E); err != nil {
		return err
	}
	r.Dir = r.In.Run(r.E.ID)
	if err := tree.MakeDirs(r.Dir.Dir, 0o700); err != nil {
		return r.abandon(err)
	}
	return r.In.Halt("begun")
}

// Step does a step, tells of it, and notes its time.
func (r *Run) Step(name string, do func() (note string, err error)) error {
	var note string
	took, err := r.In.Step(name, func() (s string, err error) { note, err = do(); return note, err })
	if err != nil {
		if note = err.Error(); errors.Is(err, context.Canceled) {
			note = "interrupted"
		}
		r.In.Tell(tell.Event{Kind: tell.StepFailed, Step: name, Text: note, Took: took})
	}
	r.E.Steps = append(r.E.Steps, logbook.Step{Name: name, Took: took, Note: note})
	return err
}

// Enter makes the next phase durable before anything of it is done. The guard's marks stand before a phase in which files move,
// and go after it. Where it can't be noted the run is in the phase before.
func (r *Run) Enter(p logbook.Phase) error {
	was := r.E.Phase
	if p.Mixes() {
		if err := r.mixes(); err != nil {
			return err
		}
	}
	r.E.Phase = p
	err := r.In.Book.Save(r.E)
	if err == nil && !p.Mixes() {
		err = guard.New(r.In).Still()
	}
	if err == nil {
		err = r.In.Halt("phase:" + string(p))
	}
	if err != nil {
		r.E.Phase = was
	}
	return err
}

// mixes notes that files may be of two builds from now on.
func (r *Run) mixes() error {
	if !r.E.Phase.Mixes() { // else it goes on
		r.E.Mixed = time.Now().Round(0)
	}
	if r.Moving != nil {
		if err := r.Moving(); err != nil {
			r.In.Warn("%v", err)
		}
	}
	return guard.New(r.In).Moving()
}

// Unguard takes the guard of a run away that has ended.
func Unguard(in *install.Install) {
	if err := guard.New(in).TakeAway(); err != nil {
		in.Warn("the guard over the service could not be taken away, and hinders nothing: %v", err)
	}
}

// Finish ends the run.
func (r *Run) Finish(o logbook.Outcome) error {
	r.E.Stuck = ""
	r.E.Phase, r.E.Outcome, r.E.Ended = logbook.Done, o, time.Now().Round(0)
	if err := r.In.Book.Save(r.E); err != nil {
		return err
	}
	Unguard(r.In)
	Prune(r.In)
	return r.In.Halt("finished")
}

// Stuck is for an error after which only going on leads to a whole tree: the entry stays open, and Recover goes on from it once
// the cause is mended.
func (r *Run) Stuck(doing string, err error) error {
	r.E.Stuck = err.Error()
	if serr := r.In.Book.Save(r.E); serr != nil {
		r.In.Warn("%v", serr)
	}
	return &NeedsHands{What: doing + " did not end well: " + err.Error(),
		State: "everything is kept under " + r.Dir.Dir + "; the state before is backup " + r.E.Backup,
		Do: []string{"mend what it says, then: freshkeel recover",
			"or, to leave everything as it is now: freshkeel recover --leave-as-is"}}
}

// DropStaging removes what was laid out and never swapped in, by this run and by its attempts at putting files back.
func (r *Run) DropStaging() {
	for _, run := range append(r.Attempts(), r.Dir) {
		run.DropStaging()
	}
}

// Attempts are the folders of the attempts at putting files back, oldest first.
func (r *Run) Attempts() (out []swap.Run) {
	for n := 1; ; n++ {
		one := r.In.Run(r.E.ID)
		one.Dir = filepath.Join(one.Dir, fmt.Sprintf("back-%d", n))
		if _, err := os.Stat(one.Dir); err != nil {
			return out
		}
		out = append(out, one)
	}
}

// Attempt is a fresh folder for one attempt at putting files back: each begins with a look at what is there, so an earlier one's
// plan is of no use to it.
func (r *Run) Attempt() swap.Run {
	old := r.Attempts()
	for _, run := range old { // what they laid out is laid out anew, and takes room meanwhile
		run.DropStaging()
	}
	one := r.In.Run(r.E.ID)
	one.Dir = filepath.Join(one.Dir, fmt.Sprintf("back-%d", len(old)+1))
	return one
}

// keptRuns is how many of the newest runs keep what they displaced.
const keptRuns = 6

// Prune drops what old runs displaced. Their plans, inventories and backups stay, so that a rollback to before them is still
// possible from the locker.
func Prune(in *install.Install) {
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

// RolledBack says that the new build did not come up, and that the old tree is
// back (and running, where the server ran before).
type RolledBack struct {
	Kind     logbook.Kind // of the run: one that undoes or restores goes back to where it began
	Refit    string
	From, To string // the version that is back, the one that failed
	Why      string
	Lines    []string
	Told     []string // what else to know
	Done     []string // versions of the chain that were installed before
	Running  bool
	Early    bool // the new server was not started at all
	Asked    bool // by an interrupt, of a person most often
}

func (r *RolledBack) Error() string {
	return fmt.Sprintf("rolled back to %s: %s", version.OrUnknown(r.From), r.Why)
}

// NeedsHands says that Fresh Keel can't bring things in order by itself.
// Everything is kept.
type NeedsHands struct {
	What  string
	State string   // where things stand
	Do    []string // exact commands, in order
	Lines []string // console lines that tell why
}

func (n *NeedsHands) Error() string { return n.What }
