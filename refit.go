package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/migrate"
	"freshkeel/internal/needs"
	"freshkeel/internal/plan"
	"freshkeel/internal/server"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Refit brings the install from its build to another in one transaction. It
// returns the logbook's entry, or nil where nothing had to change.
//
// Until the server has stopped and the backup is complete nothing of the
// install changes (P1), and an error leaves all as it was. After that the new
// build comes up, or everything goes back: the error is then RolledBack, or
// NeedsHands where the old server does not come up either. Ending ctx before
// the stop abandons the refit; after it, it means going back.
func (k *Keel) Refit(ctx context.Context, w Want) (*logbook.Entry, error) {
	unlock, err := k.begin(ctx, "refit")
	if err != nil {
		return nil, err
	}
	e, done, err := k.refits(ctx, w)
	unlock()
	for _, d := range done { // while other commands work again
		k.trialRead(ctx, d)
	}
	return e, err
}

// refits goes to the build that is wanted, in as many refits as its chain has. e is the
// last of them, done are those that were confirmed.
func (k *Keel) refits(ctx context.Context, w Want) (e *logbook.Entry, done []*logbook.Entry, err error) {
	pre, err := k.Preflight(ctx, w) // resolve, fetch, check: while the old server runs
	if err != nil {
		return nil, nil, err
	}
	if e, err = k.refit(ctx, w, pre); err == nil {
		done = append(done, e)
	}
	if len(pre.Chain) < 2 || err != nil {
		return e, done, err
	}
	return k.refitOn(ctx, w, pre.Chain, done)
}

// refit is one step: from the build that is installed to one that was checked.
func (k *Keel) refit(ctx context.Context, w Want, pre *Preflight) (*logbook.Entry, error) {
	if stops := pre.Stops(); len(stops) > 0 {
		return nil, &Refused{To: pre.Goal(), Stops: stops}
	}
	if pre.Plan.Nothing() {
		return nil, k.nothingToChange(pre)
	}
	tellBefore(k.in, pre)
	left, err := leftOut(ctx, k, pre, w)
	if err != nil {
		return nil, err
	}
	was, err := k.inv.Head()
	if err != nil {
		return nil, err
	}
	t, err := k.transact(
		&logbook.Entry{Kind: logbook.Refit, From: pre.From, To: pre.To, Build: pre.Fetched.Set.ID, FromBuild: was.Build,
			Layers: pre.Layers, EndRunning: w.Start, Accepted: w.Accept, Consents: pre.Plan.Consents(),
			LeftOut: left, HeldBack: pre.Plan.HeldBack, Relined: pre.Plan.Lines, Alone: pre.Alone},
	)
	if err != nil {
		return nil, err
	}
	defer t.close()
	if err := t.stage(pre); err != nil {
		return t.e, t.abandon(err)
	}
	if err := t.preCopy(ctx); err != nil {
		return t.e, t.abandon(err)
	}
	if err := ctx.Err(); err != nil {
		return t.e, t.abandon(err)
	}

	// With the server down.
	if err := t.stop(ctx); err != nil {
		return t.e, t.abandon(err)
	}
	if err := t.backUp(context.WithoutCancel(ctx),
		fmt.Sprintf("before %s: %s → %s", t.e.ID, version.OrUnknown(t.e.From), version.OrUnknown(t.e.To))); err != nil {
		return t.e, t.abandon(err)
	}
	if err := t.recheck(pre, w); err != nil {
		return t.e, t.abandon(err)
	}
	if err := ctx.Err(); err != nil {
		return t.e, t.abandon(err)
	}
	if err := stillDown(t); err != nil {
		return t.e, t.abandon(err)
	}
	if err := t.enter(logbook.Swapping); err != nil {
		return t.e, t.abandon(err)
	}
	if err := t.swap(pre.Plan); err != nil {
		return t.e, t.goBack(err.Error(), nil)
	}
	if err := t.migrate(ctx); err != nil {
		return t.e, t.goBack(err.Error(), linesOf(err))
	}
	v := t.start(ctx)
	if !v.Up && t.consented(w, v) {
		v = t.start(ctx)
	}
	if !v.Up {
		return t.e, t.goBack(v.Why, v.Lines)
	}
	if why := t.seenToRun(pre.Plan); why != "" {
		return t.e, t.goBack(why, nil)
	}
	t.e.Told = append(append(t.e.Told, heldBack(pre.Plan, t.e.Backup)...), heldByProfile(pre.Plan)...)
	return t.e, t.confirm()
}

// leftOut names the migrations that the step does not run, as the data has had them.
func leftOut(ctx context.Context, k *Keel, pre *Preflight, w Want) (names []string, err error) {
	due := migrate.Due(k.Profile, pre.From, pre.To)
	if len(due) == 0 {
		return nil, nil
	}
	had, err := k.outside.Had()
	if err != nil {
		return nil, err
	}
	for _, m := range due {
		st := migrate.New(k.res).Standing(ctx, m, had, migrate.Word{Has: w.Has, Lacks: w.Lacks})
		if st.Stop != "" {
			return nil, fmt.Errorf("the migration %s: %s", m.Name, st.Stop)
		}
		if st.LeftOut != "" {
			names = append(names, m.Name)
		}
	}
	return names, nil
}

// tellBefore tells what is worth minding about the refit that begins.
func tellBefore(in *install.Install, pre *Preflight) {
	told, before := pre.TellOnce(in), []string{}
	for _, f := range pre.Warnings() {
		if f.Routine && told[f.What] {
			before = append(before, f.Check)
			continue
		}
		in.Warn("%s", f.What)
	}
	if len(before) > 0 {
		in.Note("as before: %s (freshkeel preflight --all)", strings.Join(slices.Compact(before), ", "))
	}
	for _, d := range pre.Plan.Dropped {
		in.Note("%s", d)
	}
}

// nothingToChange notes a build and a version that the files turn out to be already.
func (k *Keel) nothingToChange(pre *Preflight) error {
	inv, err := k.inv.Head()
	if err != nil {
		return err
	}
	changed := false
	if set := pre.Fetched.Set.ID; !pre.Fetched.Candidate.Stays && set != "" &&
		(set != inv.Build || len(inv.Mixed) > 0) {
		inv.Build, inv.Mixed, changed = set, nil, true
	}
	if len(pre.Layers) > 0 { // the same files, known by another version
		inv.Layers, changed = pre.Plan.Layers, true
	}
	switch {
	case inv.Version == pre.To || pre.To == "":
	// A feed knows what it lists; a file's name alone does not outweigh what
	// the installed server has said.
	case inv.Version != "" && pre.Fetched.Candidate.Offer == nil && pre.Fetched.Candidate.Set == "":
		k.in.Note("the installed files are those of that build already; they are known as %s", inv.Version)
	default:
		k.in.Note("the installed files are those of %s already", pre.To)
		inv.Version, changed = pre.To, true
	}
	if !changed {
		return nil
	}
	return k.inv.Rewrite(func(head *inventory.Inventory) { *head = *inv })
}

// stage lays the new files out beside the install and writes down the plan.
// The plan is durable before anything can follow it.
func (t *transaction) stage(pre *Preflight) error {
	p := pre.Plan
	return t.step("stage", func() (string, error) {
		if err := t.k.in.Halt("stage"); err != nil {
			return "", err
		}
		t.dir.Places = p.Places
		// Beside the plan stand the inventory as it is and as it will be: a crash between
		// swap and confirmation loses neither.
		if err := t.keepInventory(); err != nil {
			return "", err
		}
		after := filepath.Join(t.dir.Dir, inventoryAfter)
		if err := p.WriteInventory(after); err != nil {
			return "", err
		}
		p.Checked()
		pre.Fetched.Forget()
		stamps, err := t.k.planner.Stage(t.dir, p, t.k.in.Moves("stage"))
		if err != nil {
			return "", err
		}
		if err := stamp(after, stamps); err != nil {
			return "", err
		}
		if err := t.dir.Write(t.dir.Plan(p.Steps)); err != nil {
			return "", err
		}
		replaced, added, removed := p.Changes()
		return fmt.Sprintf("%s; %d to replace, %d to add, %d to remove, %d unchanged", words.Bytes(p.Bytes), replaced,
			added, removed, p.Unchanged), t.k.in.Halt("staged")
	})
}

// recheck holds the plan against the install as the stopping server left it.
// The server may have rewritten files meanwhile, as long as the same plan follows.
func (t *transaction) recheck(pre *Preflight, w Want) error {
	changed := t.k.planner.Still(pre.Plan)
	if changed == nil {
		return nil
	}
	if err := t.k.acq.Remember(pre.Fetched); err != nil {
		return err
	}
	again, err := t.k.planner.Make(pre.Fetched, w)
	if err != nil {
		return err
	}
	if plan.SameButCarried(again, pre.Plan) { // the server wrote its settings anew as it stopped
		return t.k.planner.Restage(t.dir, again)
	}
	if !plan.Same(again, pre.Plan) {
		return tell.Advise(fmt.Errorf("%w, and the plan no longer holds", changed),
			"run the refit again; it will plan with what is there now")
	}
	return nil
}

// stillDown refuses to exchange files under a server that somebody else started meanwhile: a
// service manager does so for whoever asks it (P7).
func stillDown(t *transaction) error {
	st := t.k.in.Host().Status()
	if !st.Running {
		return t.k.srv.NoneOutside()
	}
	return tell.Advise(fmt.Errorf("somebody started the server meanwhile, %s: process %d", st.How(), st.PID),
		"find out who or what does, and try again: freshkeel status")
}

// swap exchanges the files: renames, nothing else.
func (t *transaction) swap(p *Plan) error {
	return t.step("swap", func() (string, error) {
		if err := writeLines(t, after); err != nil {
			return "", err
		}
		if err := t.dir.Apply(t.dir.Plan(p.Steps), t.k.in.Halt); err != nil {
			return "", err
		}
		return words.Plural(len(p.Steps), "exchange") + relined(t.e, after), nil
	})
}

// start starts the new build and watches it. Its verdict decides the refit.
func (t *transaction) start(ctx context.Context) *Verdict {
	no := func(err error) *Verdict { return &Verdict{Why: err.Error()} }
	t.e.Spawned = time.Now().Round(0)
	if err := t.enter(logbook.Watching); err != nil {
		return no(err)
	}
	err := t.step("start", func() (string, error) {
		st, err := t.k.srv.Spawn(context.WithoutCancel(ctx))
		if err != nil {
			return "", fmt.Errorf("the new server could not be started: %w", err)
		}
		if !t.gone.IsZero() {
			t.e.Exchange = st.Since.Sub(t.gone)
		}
		return fmt.Sprintf("process %d", st.PID), t.k.in.Halt("started")
	})
	if err != nil {
		return no(err)
	}
	return t.watch(ctx)
}

// watch watches the new build and notes what decided it.
func (t *transaction) watch(ctx context.Context) (v *Verdict) {
	t.step("watch", func() (string, error) {
		if v = t.k.srv.Watch(ctx, time.Now(), server.Goal{Version: t.e.To, From: t.e.From}); !v.Up {
			return "", errors.New(v.Why)
		}
		return v.Why, nil
	})
	if v.Up {
		t.down(v)
		t.e.Told = append(t.e.Told, t.k.srv.Rebind()...)
		t.e.Why, t.e.Lines = v.Why, v.Lines
		doubt(t.k.in, t.e, v)
		if t.e.To == "" {
			t.e.To = v.Version
		}
	}
	return v
}

// doubt tells, and keeps, what speaks against a verdict that the server is up.
func doubt(in *install.Install, e *logbook.Entry, v *Verdict) {
	for _, d := range v.Doubts {
		in.Warn("%s", d)
	}
	e.Told = append(e.Told, v.Doubts...)
}

// confirm makes the new state the one that holds. All of it may be done again
// after a crash.
func (t *transaction) confirm() error {
	stuck := func(err error) error { return t.stuck("confirming", err) }
	if err := t.enter(logbook.Confirming); err != nil {
		return stuck(err)
	}
	if err := t.takeInventory(t.dir, inventoryAfter); err != nil {
		return stuck(err)
	}
	if !t.e.EndRunning && t.k.in.Host().Status().Running && !rebooted(t) {
		if err := t.step("stop again", func() (string, error) {
			_, _, err := t.k.srv.Stop(context.Background())
			return "it was not running before", err
		}); err != nil {
			return stuck(err)
		}
	}
	t.dropStaging()
	if err := t.finish(logbook.Confirmed); err != nil {
		return stuck(err)
	}
	return nil
}

// trialParts is how much of the backup that a refit took is read back once the
// new server is up: one part of so many, another each day.
const trialParts = 20

// trialRead reads a share of a refit's own backup back. What it finds is told, and changes
// nothing of how the refit ended. It holds no lock: only what it notes in the logbook needs
// one, and that is left out where another command has it.
func (k *Keel) trialRead(ctx context.Context, e *logbook.Entry) {
	if e == nil {
		return
	}
	t := k.resume(e)
	defer t.close()
	t.step("trial read", func() (string, error) {
		if err := t.k.in.Halt("trial-read"); err != nil {
			return "", err
		}
		set, err := t.k.shelf.HeadOf(t.e)
		if err != nil {
			return "", err
		}
		l, err := t.k.in.Locker()
		if err != nil {
			return "", err
		}
		c, err := l.Check(ctx, []*locker.Set{set}, locker.Share{At: uint64(time.Now().Unix() / 86400), Of: trialParts},
			nil)
		if ctx.Err() != nil {
			return "left out, as it was interrupted", nil
		}
		if err != nil {
			return "", err
		}
		if n := len(c.Damaged) + len(c.Broken); n > 0 {
			t.k.in.Warn("backup %s does not read back whole: freshkeel backup check %s", set.ID, set.ID)
			t.e.Told = append(
				t.e.Told,
				fmt.Sprintf("backup %s does not read back whole; freshkeel backup check %s tells "+
					"what is damaged", set.ID, set.ID),
			)
			return "", fmt.Errorf("%s of %s", words.Plural(n, "damaged file"), set.ID)
		}
		return fmt.Sprintf("one part of %d of %s reads back whole, %s", trialParts, set.ID, words.Bytes(c.Bytes)), nil
	})
	if unlock, err := k.in.Lock("trial read"); err == nil {
		defer unlock()
		if err := k.in.Book.Save(e); err != nil {
			k.in.Note("the trial read is not in the logbook: %v", err)
		}
	}
}

// refitOn goes the rest of a chain, each step a refit of its own that is
// brought up and confirmed. What fails then leaves the last good step in place.
func (k *Keel) refitOn(ctx context.Context, w Want, chain []string, confirmed []*logbook.Entry) (
	e *logbook.Entry, _ []*logbook.Entry, err error) {
	done := chain[:1]
	e = confirmed[len(confirmed)-1]
	for n, ver := range chain[1:] {
		k.in.Note("%s is in place; on to %s, step %d of %d", done[n], ver, n+2, len(chain))
		w.Version = ver
		pre, err := k.Preflight(ctx, w)
		if err == nil {
			if e, err = k.refit(ctx, w, pre); err == nil {
				confirmed = append(confirmed, e)
			}
		}
		var (
			refused *Refused
			back    *RolledBack
		)
		switch {
		case errors.As(err, &refused):
			refused.Done = done
		case errors.As(err, &back):
			back.Done = done
		case err != nil && !errors.As(err, new(*NeedsHands)):
			return e, confirmed, fmt.Errorf("%s is in place and confirmed; the step to %s: %w", done[n], ver, err)
		}
		if err != nil {
			return e, confirmed, err
		}
		done = append(done, ver)
	}
	return e, confirmed, nil
}

// consented changes the line of each consent that the new server has just asked
// for, where the operator accepted it by name beforehand, and tells whether the
// server may be started once more. Otherwise it adds to the verdict what to do.
func (t *transaction) consented(w Want, v *Verdict) (again bool) {
	if t.k.in.Host().Status().Running {
		return false
	}
	asked := t.k.planner.OpenConsents()
	for _, c := range asked {
		if t.k.planner.Accepts(c.Path, w) == "" {
			v.Why += fmt.Sprintf("; its makers want a consent: %s, line %d says «%s»", c.Path, c.Line, c.Says)
			t.e.Told = append(t.e.Told, fmt.Sprintf("the server asks in %s: %s", c.Path, strings.Join(c.Asks, " ")),
				fmt.Sprintf("to accept it by name: freshkeel refit %s --consent %s", t.e.To, c.Path))
			return false
		}
	}
	for _, c := range asked {
		err := t.k.planner.Agree(c)
		if err != nil {
			v.Why += fmt.Sprintf("; %s could not be changed: %v", c.Path, err)
			return false
		}
		t.k.in.Note("%s: line %d is now «%s», as accepted; the server is started once more", c.Path, c.Line, c.Yes)
		t.e.Consents = append(t.e.Consents, c.Path)
	}
	return len(asked) > 0
}

// heldByProfile tells which files of the build the profile held back, though they are not what stands here.
func heldByProfile(p *Plan) []string {
	list := append(slices.Clone(p.Stale), p.Differs...)
	if len(list) == 0 {
		return nil
	}
	return []string{fmt.Sprintf("held back by [server] keep and settings: %s of the build: %s",
		words.Plural(len(list), "file"), words.Some(list, 6))}
}

// heldBack tells how what a plan left out of a refit comes back from its backup.
func heldBack(p *Plan, backup string) (told []string) {
	for _, at := range p.HeldBack {
		told = append(told, fmt.Sprintf("held back: %s; once it fits: freshkeel backup restore %s --only '%s'", at,
			backup, p.OnlyThat(at)))
	}
	return told
}

// seenToRun holds what the new processes have open against what was swapped in: lines of
// a console may be said by anything. A runtime keeps its jar open, and a native program
// is what a process runs; a script that is read and closed can't be seen so. What can't
// be seen is told as that. It returns why the server that came up is another build's.
func (t *transaction) seenToRun(p *Plan) (other string) {
	used, visible := host.Using(t.k.in.Host().Status().Processes)
	if other = ofAnother(t, used); other != "" {
		return other
	}
	var brought []string
	for _, at := range t.k.planner.Runs() {
		if p.Exchanges(at) {
			brought = append(brought, at)
		}
	}
	real := tree.Real(t.k.in.Dir)
	for _, at := range brought {
		full := filepath.Join(real, filepath.FromSlash(at))
		switch {
		case !visible:
			t.e.Told = append(t.e.Told, "which files the server's processes run can't be seen from here: "+at+
				" is known to be new by its name alone")
		case slices.Contains(used, full):
			t.e.Told = append(t.e.Told, "the server's processes were seen to run the new "+at)
		case staysOpen(t.k.in, at):
			t.e.Told = append(t.e.Told, "no process of the server has "+at+" open: look whether it runs the new build")
		}
	}
	return ""
}

// ofAnother finds programs of the install that the new processes run, where none of them is the build's,
// and the build has one of that name or kind: then the old server came up, beside new files.
func ofAnother(t *transaction, used []string) string {
	var run []string
	for _, full := range used {
		if at := tree.Rel(tree.Real(t.k.in.Dir), full); at != "" && tree.Local(at) && staysOpen(t.k.in, at) {
			run = append(run, at)
		}
	}
	if len(run) == 0 {
		return ""
	}
	s, err := inventory.Open(filepath.Join(t.dir.Dir, inventoryAfter))
	if err != nil {
		return ""
	}
	defer s.Close()
	theirs := ""
	for o := s.Next(); o != nil; o = s.Next() {
		if slices.Contains(run, o.Path) {
			return ""
		}
		if slices.ContainsFunc(run, func(at string) bool {
			return plan.Versionless(path.Base(at)) == plan.Versionless(path.Base(o.Path)) ||
				(theirs == "" && strings.HasSuffix(at, ".jar") && strings.HasSuffix(o.Path, ".jar"))
		}) {
			theirs = o.Path
		}
	}
	if theirs == "" || s.Err() != nil {
		return ""
	}
	return fmt.Sprintf("the server that came up runs %s, which is not of the new build: nobody runs the build's own %s",
		words.Some(run, 3), theirs)
}

// staysOpen tells whether a process that runs a file has it open as long as it runs.
func staysOpen(in *install.Install, at string) bool {
	if strings.HasSuffix(at, ".jar") {
		return true
	}
	f, err := in.Open(at)
	if err != nil {
		return false
	}
	defer f.Close()
	_, native := needs.ReadProgram(f)
	return native
}
