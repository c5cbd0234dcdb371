package change

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/guard"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/logbook"
	"freshkeel/internal/logline"
	"freshkeel/internal/run"
	"freshkeel/internal/server"
	"freshkeel/internal/version"
)

// Recover leads the run that a crash left to the old tree or the new one; nil for none. Its own steps are those of the run; a crash
// in here is just another crash.
func (k *Changer) Recover(ctx context.Context) (*logbook.Entry, error) {
	e, err := k.In.Book.Unfinished()
	if e == nil || err != nil {
		if g := guard.New(k.In); err == nil && g.Stands() { // of a run that ended just before it was killed
			run.Unguard(k.In)
		}
		return nil, err
	}
	k.In.Warn("%s %s was interrupted while %s: recovering", e.Kind, e.ID, e.Phase)
	if e.Kind == logbook.Mend { // no server was stopped for it
		if err := k.Auditor.Settle(ctx, e); err != nil {
			return nil, err
		}
		k.In.Note("%s: what it had put back was taken out again; freshkeel audit tells what is wrong", e.ID)
		return e, nil
	}
	t := k.open(e)
	defer t.close()
	if err := t.Recover(ctx); err != nil {
		return nil, err
	}
	k.In.Note("%s: %s", e.ID, recovered(e))
	return e, nil
}

// GiveUp ends the run that a crash interrupted, or that could not be ended well,
// with the install as it is: it puts nothing back and starts nothing. What was kept
// stays kept.
func (k *Changer) GiveUp() (*logbook.Entry, error) {
	e, err := k.In.Book.Unfinished()
	if e == nil || err != nil {
		return nil, err
	}
	t := k.open(e)
	defer t.close()
	e.Told = append(e.Told, fmt.Sprintf("it was given up while %s: the install may hold parts of two versions",
		e.Phase))
	return e, t.Finish(logbook.Left)
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

// seeThrough sees an interrupted watch through where the new server still
// runs. A new build that has run since, after a boot say, may have been
// played on: that is never taken back unasked.
func (t *transaction) seeThrough(ctx context.Context, why string) (after, err error) {
	v := &server.Verdict{Why: why + ", and the new server is not running"}
	if t.In.Host().Status().Running {
		v = t.watch(ctx)
	}
	if v.Up {
		return nil, nil
	}
	played := playedOn(t)
	if played == "" {
		return nil, notUpFor(v)
	}
	t.E.Why, t.E.Lines = fmt.Sprintf("%s; %s, so it is not taken back unasked: %s", why, played, v.Why), v.Lines
	return &run.NeedsHands{What: fmt.Sprintf("%s was cut off while %s was watched, and %s, so it is not taken back unasked: what was played "+
		"since would be lost (%s)", t.E.ID, version.OrUnknown(t.E.To), played, v.Why),
		Lines: v.Lines, State: "the files of " + version.OrUnknown(t.E.To) + " are in place, and so is what was written since",
		Do: []string{"freshkeel log, and freshkeel start, if it is to stay",
			"freshkeel rollback " + t.E.ID + " (the world stays as it is now; --world: as it was before, without what was played since)"}}, nil
}

// upAgain has a new server that was confirmed come up once more, where the whole machine went down before that was noted.
func (t *transaction) upAgain(ctx context.Context, _ string) (after, err error) {
	if !t.E.EndRunning || t.In.Host().Status().Running {
		return nil, nil
	}
	t.spawns()
	if err := t.Enter(logbook.Watching); err != nil {
		return nil, err
	}
	return nil, notUpFor(t.start(ctx))
}

// playedOn tells how it is known that the new build came up without its refit, and may have been played on;
// "" where it did not.
func playedOn(t *transaction) string {
	st := t.In.Host().Status()
	began, ended := st.Since, time.Now()
	if !st.Running && st.Last != nil {
		began, ended = st.Last.Began, st.Last.At
	}
	if t.E.Spawned.IsZero() || began.IsZero() || ended.Before(t.E.Spawned) {
		return ""
	}
	r := t.In.Profile.Ready
	long := ended.Sub(began) > r.Within.Std()+r.Steady.Std()+time.Minute
	if !long && !(rebooted(t) && cameUp(t.In, ended.Sub(began))) {
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
	was, wasFirst, _ := strings.Cut(t.E.Boot, " ")
	now, first, _ := strings.Cut(host.BootID(), " ")
	return was != "" && now != "" && (was != now || (wasFirst != "" && first != "" && wasFirst != first))
}

// SettleFiles makes the files whole that a run left between two builds, and starts and stops nothing: it
// comes before a service manager starts the server. What else the run was about, the next command sees to. The
// entry is nil where nothing was to do.
func (k *Changer) SettleFiles(ctx context.Context) (*logbook.Entry, error) {
	e, err := k.In.Book.Unfinished()
	if err != nil {
		return nil, err
	}
	if e == nil || !e.Phase.Mixes() || e.Kind == logbook.Mend {
		return nil, guard.New(k.In).Still()
	}
	t := k.open(e)
	defer t.close()
	t.FilesOnly = true
	return e, t.Recover(ctx)
}
