package freshkeel

import (
	"context"

	"freshkeel/internal/ahead"
	"freshkeel/internal/runtimes"
)

// Runtimes lists the runtimes of this machine and holds them against what the
// launch script runs: as it is installed or, with a version or place wanted, as
// that build would have it. They are those of the kind that the script runs;
// Java's, where it runs none.
func (k *Keel) Runtimes(ctx context.Context, w Want) (*Runtimes, error) {
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	p := &runtimes.Programs{In: k.in, Ahead: ahead.New(k.in, nil, nil)}
	ver := inv.Version
	if w.Version != "" || w.From != "" {
		all, err := k.acq.Gather(ctx, w, false)
		if err != nil {
			return nil, err
		}
		plan, err := k.planner.Make(all[0], w)
		if err != nil {
			return nil, err
		}
		p.Ahead, p.Needs, ver = plan.Ahead, all[0].Candidate.Build.Needs, all[0].Version
	}
	return k.rts.Hold(ctx, p, ver)
}
