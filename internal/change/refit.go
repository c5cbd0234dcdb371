package change

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/check"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/resolve"
	"freshkeel/internal/words"
)

// Refit brings the install to a build that was checked, in one run.
func (k *Changer) Refit(ctx context.Context, w resolve.Want, pre *check.Preflight) (*logbook.Entry, error) {
	tellBefore(k.In, pre)
	left, err := leftOut(ctx, k, pre, w)
	if err != nil {
		return nil, err
	}
	was, err := k.Inv.Head()
	if err != nil {
		return nil, err
	}
	t := k.begin(
		&logbook.Entry{Kind: logbook.Refit, From: pre.From, To: pre.To, Build: pre.Fetched.Set.ID, FromBuild: was.Build,
			Layers: pre.Layers, EndRunning: w.Start, Accepted: w.Accept, Consents: pre.Plan.Consents(),
			LeftOut: left, HeldBack: pre.Plan.HeldBack, Relined: pre.Plan.Lines, Alone: pre.Alone},
	)
	defer t.close()
	t.Steps = t.refit(pre, w)
	if err := t.Begin(); err != nil {
		return nil, err
	}
	return t.E, t.Go(ctx)
}

// tellBefore tells what is worth minding about the refit that begins.
func tellBefore(in *install.Install, pre *check.Preflight) {
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

// stopAgain ends a server that was started for the refit alone.
func (t *transaction) stopAgain(context.Context) (string, error) {
	if t.E.EndRunning || !t.In.Host().Status().Running || rebooted(t) {
		return "", nil
	}
	return "", t.Step("stop again", func() (string, error) {
		_, _, err := t.k.Srv.Stop(context.Background())
		return "it was not running before", err
	})
}

// trialParts is how much of the backup that a refit took is read back once the
// new server is up: one part of so many, another each day.
const trialParts = 20

// TrialRead reads a share of a refit's own backup back. What it finds is told, and changes
// nothing of how the refit ended. It holds no lock: only what it notes in the logbook needs
// one, and that is left out where another command has it.
func (k *Changer) TrialRead(ctx context.Context, e *logbook.Entry) {
	if e == nil {
		return
	}
	t := k.open(e)
	defer t.close()
	t.Step("trial read", func() (string, error) {
		if err := t.In.Halt("trial-read"); err != nil {
			return "", err
		}
		set, err := t.k.Shelf.HeadOf(t.E)
		if err != nil {
			return "", err
		}
		l, err := t.In.Locker()
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
			t.In.Warn("backup %s does not read back whole: freshkeel backup check %s", set.ID, set.ID)
			t.E.Told = append(
				t.E.Told,
				fmt.Sprintf("backup %s does not read back whole; freshkeel backup check %s tells "+
					"what is damaged", set.ID, set.ID),
			)
			return "", fmt.Errorf("%s of %s", words.Plural(n, "damaged file"), set.ID)
		}
		return fmt.Sprintf("one part of %d of %s reads back whole, %s", trialParts, set.ID, words.Bytes(c.Bytes)), nil
	})
	if unlock, err := k.In.Lock("trial read"); err == nil {
		defer unlock()
		if err := k.In.Book.Save(e); err != nil {
			k.In.Note("the trial read is not in the logbook: %v", err)
		}
	}
}
