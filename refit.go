package freshkeel

import (
	"context"
	"errors"
	"fmt"

	"freshkeel/internal/inventory"
	"freshkeel/internal/logbook"
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
		k.changer.TrialRead(ctx, d)
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
	return k.changer.Refit(ctx, w, pre)
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
