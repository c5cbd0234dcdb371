package check

import (
	"context"
	"fmt"

	"freshkeel/internal/swap"
	"freshkeel/internal/words"
)

// checkEffect finds a build that changes nothing of what the launch script runs: it
// would come up well, and be the old one.
func checkEffect(_ context.Context, s *situation) (out []Finding) {
	for _, m := range s.plan.Renamed {
		out = append(out, ok("%s of the build becomes %s, which the launch script runs", m.From, m.To)...)
	}
	runs := s.k.planner.Runs()
	if len(runs) == 0 || s.cand.Stays || len(s.plan.Steps) == 0 {
		return out
	}
	adds := 0
	for _, st := range s.plan.Steps {
		switch st.Do {
		case swap.Replace, swap.Remove:
			return out
		case swap.Add:
			adds++
		}
	}
	for _, at := range runs {
		if s.ahead.Brings(at) || s.plan.Set.Find(at) != nil {
			return out
		}
	}
	where, by := s.k.Path(s.k.Profile.Launch.Script), ""
	if sv := s.k.Service(); sv != nil {
		by = sv.Name
	}
	return append(out, Finding{Level: Stop,
		What: fmt.Sprintf("the build adds %s and replaces none; the launch script goes on running %s, the old one",
			words.Plural(adds, "file"), words.Some(runs, 3)), Where: where,
		Why: "the server would come up, and nothing would be new", Do: s.whichIs(runs[0], by)})
}
