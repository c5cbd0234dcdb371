package freshkeel

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"freshkeel/internal/check"
	"freshkeel/internal/tell"
)

// Preflight fetches the build that is wanted, makes the plan and runs every
// check. It changes nothing of the install.
func (k *Keel) Preflight(ctx context.Context, w Want) (*Preflight, error) {
	for _, a := range w.Accept {
		if !slices.Contains(check.Acceptable, a) {
			return nil, tell.Misuse(fmt.Sprintf("check %q can't be accepted; these can: %s", a,
				strings.Join(check.Acceptable, ", ")), "freshkeel preflight --all")
		}
	}
	if err := k.in.Whole(); err != nil {
		return nil, err
	}
	fetched, err := k.acq.Chain(ctx, w)
	if err != nil {
		return nil, err
	}
	var pre *Preflight
	_, err = k.in.Step("check", func() (sum string, err error) {
		for n, f := range fetched {
			one, err := k.checker.Run(ctx, w, f, n)
			if err != nil {
				return "", err
			}
			if pre == nil {
				pre = one
			} else {
				pre.Later(one)
			}
			if len(fetched) > 1 {
				pre.Chain = append(pre.Chain, one.To)
			}
		}
		return fmt.Sprintf("%d checks: %d stop, %d warn", len(check.Checks)*len(fetched), len(pre.Stops()),
			len(pre.Warnings())), nil
	})
	return pre, err
}
