package freshkeel

import (
	"context"
	"errors"
	"fmt"

	"freshkeel/internal/logbook"
)

// refitOn goes the rest of a chain, each step a refit of its own that is
// brought up and confirmed. What fails then leaves the last good step in place.
func (k *Keel) refitOn(ctx context.Context, w Want, chain []string, e *logbook.Entry) (*logbook.Entry, error) {
	done := chain[:1]
	for n, ver := range chain[1:] {
		k.in.Note("%s is in place; on to %s, step %d of %d", done[n], ver, n+2, len(chain))
		w.Version = ver
		pre, err := k.Preflight(ctx, w)
		if err == nil {
			e, err = k.refit(ctx, w, pre)
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
			return e, fmt.Errorf("%s is in place and confirmed; the step to %s: %w", done[n], ver, err)
		}
		if err != nil {
			return e, err
		}
		done = append(done, ver)
	}
	return e, nil
}
