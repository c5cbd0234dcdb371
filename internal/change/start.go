package change

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/install"
	"freshkeel/internal/logbook"
	"freshkeel/internal/plan"
	"freshkeel/internal/resolve"
	"freshkeel/internal/run"
	"freshkeel/internal/server"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// spawns notes when it is begun to start the new build.
func (t *transaction) spawns() { t.E.Spawned = time.Now().Round(0) }

// comeUp starts the new build and watches it come up; once more, where it has asked for a consent that was given beforehand.
func (t *transaction) comeUp(ctx context.Context, w resolve.Want) error {
	v := t.start(ctx)
	if !v.Up && t.consented(w, v) {
		t.spawns()
		v = t.start(ctx)
	}
	return notUpFor(v)
}

// notUpFor is why a run goes back whose server did not come up; nil where it did.
func notUpFor(v *server.Verdict) error {
	if v.Up {
		return nil
	}
	return &run.Cause{Why: v.Why, Lines: v.Lines}
}

// start starts the new build and watches it. Its verdict decides the refit.
func (t *transaction) start(ctx context.Context) *server.Verdict {
	err := t.Step("start", func() (string, error) {
		st, err := t.k.Srv.Spawn(context.WithoutCancel(ctx))
		if err != nil {
			return "", fmt.Errorf("the new server could not be started: %w", err)
		}
		if !t.gone.IsZero() {
			t.E.Exchange = st.Since.Sub(t.gone)
		}
		return fmt.Sprintf("process %d", st.PID), t.In.Halt("started")
	})
	if err != nil {
		return &server.Verdict{Why: err.Error()}
	}
	return t.watch(ctx)
}

// watch watches the new build and notes what decided it.
func (t *transaction) watch(ctx context.Context) (v *server.Verdict) {
	t.Step("watch", func() (string, error) {
		if v = t.k.Srv.Watch(ctx, time.Now(), server.Goal{Version: t.E.To, From: t.E.From}); !v.Up {
			return "", errors.New(v.Why)
		}
		return v.Why, nil
	})
	if v.Up {
		t.down(v)
		t.E.Told = append(t.E.Told, t.k.Srv.Rebind()...)
		t.E.Why, t.E.Lines = v.Why, v.Lines
		doubt(t.In, t.E, v)
		if t.E.To == "" {
			t.E.To = v.Version
		}
	}
	return v
}

// doubt tells, and keeps, what speaks against a verdict that the server is up.
func doubt(in *install.Install, e *logbook.Entry, v *server.Verdict) {
	for _, d := range v.Doubts {
		in.Warn("%s", d)
	}
	e.Told = append(e.Told, v.Doubts...)
}

// comeBack starts the server of the version that is in place again, and
// watches it come up. One that does not ends the transaction: it needs hands.
func (t *transaction) comeBack(ver string) error {
	return t.Step("start old server", func() (string, error) {
		srv := t.k.Srv
		if slices.ContainsFunc(t.In.Rest(), func(r *install.Install) bool { return !r.Host().Status().Running }) {
			srv = server.New(t.In.All()) // one that was to run on ended: it comes up with the others
		}
		v, err := srv.BringUp(context.Background(), server.Goal{Version: ver, Same: true})
		if err == nil && v.Late { // a machine that was busy a moment ago may not be now
			t.In.Warn("%s; it is given one more try", v.Why)
			if _, err = srv.HalfStop(); err == nil {
				v, err = srv.BringUp(context.Background(), server.Goal{Version: ver, Same: true})
			}
		}
		if err == nil && v.Up {
			t.down(v)
			t.E.Told = append(t.E.Told, t.k.Srv.Rebind()...)
			doubt(t.In, t.E, v)
			return v.Why, nil
		}
		n := &run.NeedsHands{What: "the old server does not come up either",
			State: "the files of " + version.OrUnknown(ver) + " are in place",
			Do:    []string{"freshkeel start (once what its console says is mended)", "freshkeel log"}}
		if t.E.Kind != logbook.Refit {
			n.What = "the server does not come up with what was put back"
		}
		if err != nil {
			n.What += ": " + err.Error()
		} else {
			n.What, n.Lines = n.What+": "+v.Why, v.Lines
			t.k.Srv.HalfStop()
		}
		if t.E.Backup != "" {
			n.State += ", and so is all else as it was in backup " + t.E.Backup
		}
		if t.reverts() { // the caller goes back to where the run began, and decides
			if err == nil {
				return "", &notUp{n, v}
			}
			return "", &notUp{n, &server.Verdict{Why: err.Error()}}
		}
		n.Do = append(hopeful(t, n.Lines), n.Do...)
		t.E.Why, t.E.Lines = n.What, n.Lines
		return "", &run.Ended{Err: errors.Join(n, t.Finish(logbook.NeedsHands))}
	})
}

// reverts tells whether the run can go back to where it began: the server that was stopped for it ran a minute ago, with the files
// that its own backup holds.
func (t *transaction) reverts() bool {
	return t.E.Kind != logbook.Refit && !t.E.Reverted && t.E.Phase == logbook.Returning && t.E.WasRunning &&
		t.E.Backup != ""
}

// comeBackWith has the server come up with what was put back, where it ran.
func (t *transaction) comeBackWith(context.Context) (string, error) {
	if !t.E.EndRunning {
		return "", nil
	}
	err := t.comeBack(t.E.To)
	if n := (*notUp)(nil); errors.As(err, &n) {
		return "", t.wontRun(n)
	}
	return "", err
}

// down notes how long players were without a server.
func (t *transaction) down(v *server.Verdict) {
	if !t.told.IsZero() {
		t.E.Down = time.Since(t.told) // the steady time is not players' loss
		if s := t.In.Profile.Ready.Steady.Std(); v.Up && t.E.Down > s {
			t.E.Down -= s
		}
	}
}

// consented changes the line of each consent that the new server has just asked
// for, where the operator accepted it by name beforehand, and tells whether the
// server may be started once more. Otherwise it adds to the verdict what to do.
func (t *transaction) consented(w resolve.Want, v *server.Verdict) (again bool) {
	if t.In.Host().Status().Running {
		return false
	}
	asked := t.k.Planner.OpenConsents()
	for _, c := range asked {
		if t.k.Planner.Accepts(c.Path, w) == "" {
			v.Why += fmt.Sprintf("; its makers want a consent: %s, line %d says «%s»", c.Path, c.Line, c.Says)
			t.E.Told = append(t.E.Told, fmt.Sprintf("the server asks in %s: %s", c.Path, strings.Join(c.Asks, " ")),
				fmt.Sprintf("to accept it by name: freshkeel refit %s --consent %s", t.E.To, c.Path))
			return false
		}
	}
	for _, c := range asked {
		err := t.k.Planner.Agree(c)
		if err != nil {
			v.Why += fmt.Sprintf("; %s could not be changed: %v", c.Path, err)
			return false
		}
		t.In.Note("%s: line %d is now «%s», as accepted; the server is started once more", c.Path, c.Line, c.Yes)
		t.E.Consents = append(t.E.Consents, c.Path)
	}
	return len(asked) > 0
}

// heldByProfile tells which files of the build the profile held back, though they are not what stands here.
func heldByProfile(p *plan.Plan) []string {
	list := append(slices.Clone(p.Stale), p.Differs...)
	if len(list) == 0 {
		return nil
	}
	return []string{fmt.Sprintf("held back by [server] keep and settings: %s of the build: %s",
		words.Plural(len(list), "file"), words.Some(list, 6))}
}

// heldBack tells how what a plan left out of a refit comes back from its backup.
func heldBack(p *plan.Plan, backup string) (told []string) {
	for _, at := range p.HeldBack {
		told = append(told, fmt.Sprintf("held back: %s; once it fits: freshkeel backup restore %s --only '%s'", at,
			backup, p.OnlyThat(at)))
	}
	return told
}
