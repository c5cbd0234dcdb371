package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"freshkeel/internal/logbook"
)

// route is the chain of builds to the one that is wanted: that one alone, where
// the maker lets the installed version step to it.
func (k *Keel) route(ctx context.Context, r *resolved, w Want) ([]*resolved, error) {
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	c := r.base
	if c.offer == nil || inv.Version == "" || c.Version == "" || slices.Contains(w.Accept, "steps") || c.offer.MayStep(inv.Version, c.build) {
		return []*resolved{r}, nil
	}
	if newer, known := c.newer(inv.Version); known && !newer {
		return []*resolved{r}, nil
	}
	way, err := c.offer.Route(inv.Version, c.build)
	if err != nil {
		return nil, err
	}
	if len(way) < 2 {
		return []*resolved{r}, nil
	}
	var out []*resolved
	for _, b := range way[:len(way)-1] {
		hop := &resolved{}
		if hop.base, err = k.candidate(ctx, c.offer, b); err != nil {
			return nil, err
		}
		if err := k.resolveLayers(ctx, hop, w, inv); err != nil {
			return nil, err
		}
		out = append(out, hop)
	}
	return append(out, r), nil
}

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
