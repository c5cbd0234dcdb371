package freshkeel

import (
	"context"

	"freshkeel/internal/acquire"
)

// Fetch brings a build into the locker, and the layers that are wanted with
// it. What is there already is not fetched again.
func (k *Keel) Fetch(ctx context.Context, w Want) (*acquire.Fetched, error) {
	all, err := k.acq.Gather(ctx, w, false)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}
