package run

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"freshkeel/internal/install"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// killed is what a step panics with that is killed.
type killed struct{}

// stage is a run whose steps do nothing but note what is done.
type stage struct {
	t    *testing.T
	in   *install.Install
	did  []string
	dies string // the step that is killed
	errs string // the step that fails
}

func newStage(t *testing.T) *stage {
	p, err := profile.Parse("p.toml", []byte("[server]\nname = 'pond'\n"))
	require.NoError(t, err)
	return &stage{t: t, in: install.New(t.TempDir(), p, install.Options{Home: t.TempDir()})}
}

// step notes what is done, and sees that its phase is on disk by then.
func (s *stage) step(r *Run, name string) error {
	s.did = append(s.did, name)
	e, err := s.in.Book.Get(r.E.ID)
	require.NoError(s.t, err)
	require.Equal(s.t, e.Phase, r.E.Phase, "%s acts before its phase is noted", name)
	if name == s.dies {
		panic(killed{})
	}
	if name == s.errs {
		return errors.New(name + " failed")
	}
	return nil
}

// run is a refit, or a rollback, in small.
func (s *stage) run(e *logbook.Entry) *Run {
	r := &Run{In: s.in, E: e, Dir: s.in.Run(e.ID)}
	do := func(name string) func(context.Context) (string, error) {
		return func(context.Context) (string, error) { return name, s.step(r, name) }
	}
	undo := func(name string) func() (map[string]bool, error) {
		return func() (map[string]bool, error) { return map[string]bool{name: true}, s.step(r, "undo "+name) }
	}
	up := func() error { return s.step(r, "up") }
	r.Way = Way{Phase: logbook.RollingBack, Name: "back", Outcome: logbook.RolledBack, Lines: func() error { return s.step(r, "lines") },
		Whole: func(moved map[string]bool) (string, error) { return "", s.step(r, "whole") }, Up: up, Runs: func() bool { return false },
		Ended: func() error { return &RolledBack{Why: e.Why} }}
	r.Steps = []Step{
		{Phase: logbook.Preparing, Name: "stage", Do: do("stage")},
		{Phase: logbook.Stopping, Name: "stop", Do: do("stop"), Heeds: true},
		{Phase: logbook.Swapping, Name: "swap", Do: do("swap"), Undo: undo("swap"), Heeds: true},
		{Phase: logbook.Swapping, Name: "swap more", Do: do("swap more"), Undo: undo("swap more")},
		{Phase: logbook.Watching, Do: do("watch"), Resume: func(context.Context, string) (error, error) { return nil, s.step(r, "see through") }},
		{Phase: logbook.Watching, Do: do("seen")},
		{Phase: logbook.Confirming, Do: do("confirm"), Stays: "confirming", Again: true},
	}
	if e.Kind == logbook.Rollback {
		r.Way.Phase = logbook.Reverting
		r.Steps = []Step{
			{Phase: logbook.Preparing, Do: do("stage")},
			{Phase: logbook.Stopping, Do: do("stop")},
			{Phase: logbook.RollingBack, Do: do("put back"), Undo: undo("put back"), Again: true},
			{Phase: logbook.RollingBack, Do: do("inventory"), Stays: "the rollback"},
			{Phase: logbook.Returning, Stays: "the rollback", Again: true},
			{Phase: logbook.Returning, Do: do("come back")},
		}
	}
	return r
}

// goes runs it to its end, or to where it is killed.
func (s *stage) goes(do func() error) (err error, dead bool) {
	defer func() {
		if r := recover(); r != nil {
			if _, is := r.(killed); !is {
				panic(r)
			}
			dead = true
		}
	}()
	return do(), false
}

func (s *stage) said() string {
	out := strings.Join(s.did, ", ")
	s.did = nil
	return out
}

// Each step of each kind of run fails, and is killed, once: what follows is the list forward, or the way back, never both at once.
func TestEachStepFailsAndIsKilled(t *testing.T) {
	for _, c := range []struct {
		kind              logbook.Kind
		at, failed, after string // what follows the failure, and the crash
	}{
		{logbook.Refit, "stage", "up, abandoned: stage failed", "up, abandoned"},
		{logbook.Refit, "stop", "up, abandoned: stop failed", "up, abandoned"},
		{logbook.Refit, "swap", "lines, undo swap more, undo swap, whole, up, rolled back: swap failed", "lines, undo swap more, undo swap, whole, up, rolled back"},
		{logbook.Refit, "swap more", "lines, undo swap more, undo swap, whole, up, rolled back: swap more failed", "lines, undo swap more, undo swap, whole, up, rolled back"},
		{logbook.Refit, "watch", "lines, undo swap more, undo swap, whole, up, rolled back: watch failed", "see through, confirm, confirmed"},
		{logbook.Refit, "seen", "lines, undo swap more, undo swap, whole, up, rolled back: seen failed", "see through, confirm, confirmed"},
		{logbook.Refit, "confirm", "open: confirming did not end well: confirm failed", "confirm, confirmed"},
		{logbook.Rollback, "stage", "up, abandoned: stage failed", "up, abandoned"},
		{logbook.Rollback, "stop", "up, abandoned: stop failed", "up, abandoned"},
		{logbook.Rollback, "put back", "lines, undo put back, whole, up, rolled back: put back failed", "put back, inventory, come back, confirmed"},
		{logbook.Rollback, "inventory", "open: the rollback did not end well: inventory failed", "put back, inventory, come back, confirmed"},
		{logbook.Rollback, "come back", "lines, undo put back, whole, up, rolled back: come back failed", "come back, confirmed"},
	} {
		ended := func(s *stage, e *logbook.Entry, err error) string {
			said := cut(s.said(), c.at)
			now, gerr := s.in.Book.Get(e.ID)
			require.NoError(t, gerr)
			end := string(now.Outcome)
			if end == "" {
				end = "open"
			}
			said = strings.TrimPrefix(said+", "+end, ", ")
			if hands := (*NeedsHands)(nil); errors.As(err, &hands) {
				return said + ": " + hands.What
			}
			if back := (*RolledBack)(nil); errors.As(err, &back) {
				return said + ": " + back.Why
			} else if err != nil {
				return said + ": " + err.Error()
			}
			return said
		}
		s := newStage(t)
		s.errs = c.at
		e := &logbook.Entry{Kind: c.kind, WasRunning: true}
		r := s.run(e)
		require.NoError(t, r.Begin())
		err, _ := s.goes(func() error { return r.Go(context.Background()) })
		assert.Equal(t, c.failed, ended(s, e, err), "%s fails at %s", c.kind, c.at)

		s = newStage(t)
		s.dies = c.at
		e = &logbook.Entry{Kind: c.kind, WasRunning: true}
		r = s.run(e)
		require.NoError(t, r.Begin())
		_, dead := s.goes(func() error { return r.Go(context.Background()) })
		require.True(t, dead)
		s.said()
		left, err := s.in.Book.Unfinished()
		require.NoError(t, err)
		s.dies = ""
		err = s.run(left).Recover(context.Background())
		require.NoError(t, err)
		now, err := s.in.Book.Get(e.ID)
		require.NoError(t, err)
		assert.Equal(t, c.after, s.said()+", "+string(now.Outcome), "%s is killed at %s", c.kind, c.at)
	}
}

// cut is what comes behind the last time that a step was done.
func cut(said, at string) string {
	list := strings.Split(said, ", ")
	for i, one := range slices.Backward(list) {
		if one == at {
			return strings.Join(list[i+1:], ", ")
		}
	}
	return said
}

// The way back is killed at each of its steps, and gone again from its beginning.
func TestTheWayBackIsKilledAndGoneAgain(t *testing.T) {
	for _, at := range []string{"lines", "undo swap more", "undo swap", "whole", "up"} {
		s := newStage(t)
		s.errs, s.dies = "watch", at
		e := &logbook.Entry{Kind: logbook.Refit, WasRunning: true}
		r := s.run(e)
		require.NoError(t, r.Begin())
		_, dead := s.goes(func() error { return r.Go(context.Background()) })
		require.True(t, dead, at)
		s.said()
		s.dies = ""
		left, err := s.in.Book.Unfinished()
		require.NoError(t, err)
		assert.Equal(t, "watch failed", left.Why, "why it goes back is known after the crash")
		require.NoError(t, s.run(left).Recover(context.Background()))
		want := "lines, undo swap more, undo swap, whole, up"
		if at == "up" {
			want = "up"
		}
		assert.Equal(t, want, s.said(), at)
		now, err := s.in.Book.Get(e.ID)
		require.NoError(t, err)
		assert.Equal(t, logbook.RolledBack, now.Outcome)
	}
}

// At a boot files are made whole, and nothing is started or stopped; what else the run was about is left for the next command.
func TestFilesAlone(t *testing.T) {
	for kind, c := range map[logbook.Kind][4]string{
		logbook.Refit:    {"swap", "lines, undo swap more, undo swap, whole", "up", "rolled back"},
		logbook.Rollback: {"put back", "put back, inventory", "come back", "confirmed"},
	} {
		s := newStage(t)
		s.dies = c[0]
		e := &logbook.Entry{Kind: kind, WasRunning: true}
		r := s.run(e)
		require.NoError(t, r.Begin())
		s.goes(func() error { return r.Go(context.Background()) })
		s.said()
		s.dies = ""
		left, err := s.in.Book.Unfinished()
		require.NoError(t, err)
		r = s.run(left)
		r.FilesOnly = true
		require.NoError(t, r.Recover(context.Background()))
		assert.Equal(t, c[1], s.said())
		left, err = s.in.Book.Unfinished()
		require.NoError(t, err)
		assert.Equal(t, logbook.Returning, left.Phase)
		require.NoError(t, s.run(left).Recover(context.Background()))
		assert.Equal(t, c[2], s.said())
		now, err := s.in.Book.Get(e.ID)
		require.NoError(t, err)
		assert.Equal(t, c[3], string(now.Outcome))
	}
}

// An interrupt before the first rename ends a run with nothing changed; behind it the run goes on.
func TestAnInterruptIsHeededBeforeFilesMove(t *testing.T) {
	s := newStage(t)
	e := &logbook.Entry{Kind: logbook.Refit, WasRunning: true}
	r := s.run(e)
	require.NoError(t, r.Begin())
	ctx, stop := context.WithCancel(context.Background())
	r.Steps[1].Do = func(context.Context) (string, error) { stop(); return "", s.step(r, "stop") }
	err := r.Go(ctx)
	assert.ErrorContains(t, err, "interrupted")
	assert.Equal(t, "stage, stop, up", s.said())
	assert.Equal(t, logbook.Abandoned, e.Outcome)

	s = newStage(t) // what a crash cut off goes on, whoever is impatient
	s.dies = "put back"
	e = &logbook.Entry{Kind: logbook.Rollback, WasRunning: true}
	r = s.run(e)
	r.Steps[2].Heeds = true
	require.NoError(t, r.Begin())
	s.goes(func() error { return r.Go(context.Background()) })
	s.said()
	s.dies = ""
	left, err := s.in.Book.Unfinished()
	require.NoError(t, err)
	r = s.run(left)
	r.Steps[2].Heeds = true
	require.NoError(t, r.Recover(ctx))
	assert.Equal(t, "put back, inventory, come back", s.said())
}

// What the version before this package left unfinished is settled as it would have settled it: entries as they stood on its disk.
func TestWhatAnOlderVersionLeftIsSettled(t *testing.T) {
	for name, want := range map[string]string{
		"refit-swapping":     "lines, undo swap more, undo swap, whole, up, rolled back",
		"refit-rolling-back": "lines, undo swap more, undo swap, whole, up, rolled back",
		"refit-returning":    "up, rolled back",
		"refit-watching":     "see through, confirm, confirmed",
		"refit-confirming":   "confirm, confirmed",
		"rollback-put-back":  "put back, inventory, come back, confirmed",
		"rollback-reverting": "lines, undo put back, whole, up, rolled back",
		"rollback-returned":  "up, rolled back",
		"rollback-returning": "come back, confirmed",
	} {
		s := newStage(t)
		b, err := os.ReadFile(filepath.Join("testdata", name+".json"))
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(s.in.Book.Dir, 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(s.in.Book.Dir, "r0001.json"), b, 0o600))
		left, err := s.in.Book.Unfinished()
		require.NoError(t, err)
		require.NoError(t, s.run(left).Recover(context.Background()), name)
		now, err := s.in.Book.Get("r0001")
		require.NoError(t, err)
		assert.Equal(t, want, s.said()+", "+string(now.Outcome), name)
	}
}
