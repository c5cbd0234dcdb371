package check

import (
	"context"
	"fmt"
	"slices"

	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/profile"
	"freshkeel/internal/words"
)

// checkEffect finds a build that changes nothing of what the launch script runs: it
// would come up well, and be the old one.
func checkEffect(_ context.Context, s *situation) (out []Finding) {
	for _, m := range s.plan.Renamed {
		out = append(out, ok("%s of the build becomes %s, which the launch script runs", m.From, m.To)...)
	}
	for _, m := range s.plan.Relaid {
		out = append(out, ok("%s of the build is laid as %s, which stands here", m.From, m.To)...)
	}
	for _, m := range s.plan.Apart {
		out = append(out, Finding{Level: Warn,
			What:  fmt.Sprintf("the build brings %s, and here stands %s: both will be there", m.From, m.To),
			Where: s.k.Path(m.To), Why: "the server may go on using the old one",
			Do: fmt.Sprintf("if it does: freshkeel profile set %s %s", words.Shell("place."+m.From),
				words.Shell(m.To))})
	}
	if s.cand.Stays || s.plan.Nothing() {
		return out
	}
	var programs []string
	for _, m := range s.plan.Followed {
		out = append(out, ok("%s of the build takes the place of %s, and what starts the server is led to it", m.To, m.From)...)
	}
	for _, at := range s.k.planner.Runs() {
		if slices.ContainsFunc(s.plan.Followed, func(m inventory.Move) bool { return m.From == at && !s.goesOnRunning(at) }) {
			return out
		}
		switch own := s.k.Profile.Server.Own(at); {
		case own && !s.k.Profile.Starts(at) && s.plan.OfBuild(at) && heldBack(s, at):
			return append(out, Finding{Level: Stop,
				What: fmt.Sprintf("%s, which the launch script runs, is held back from the build's by your "+
					"profile", at),
				Where: s.k.Path(profile.FileName) + ", [server] " + s.ownBy(at),
				Why:   "the server would come up, and be the old one",
				Do:    "take it out of those patterns"})
		case !own && !s.k.Profile.Starts(at) && s.ahead.Has(at): // else checkNames tells
			programs = append(programs, at)
		}
	}
	if len(programs) == 0 || slices.ContainsFunc(programs, func(at string) bool {
		return s.plan.OfBuild(at) || s.plan.Exchanges(at)
	}) {
		return out
	}
	where, by := s.k.Path(s.k.Profile.Launch.Script), ""
	if sv := s.k.Service(); sv != nil {
		by = sv.Name
	}
	replaced, added, _ := s.plan.Changes()
	f := Finding{Level: Stop,
		What: fmt.Sprintf("the launch script goes on running %s, the old one: the build has none for it (it adds %s, "+
			"and replaces %d)", words.Some(programs, 3), words.Plural(added, "file"), replaced), Where: where,
		Why: "the server would come up, and be the old one", Do: s.whichIs(programs[0], by)}
	return append(out, f)
}

// goesOnRunning tells whether the launch script will run a file that it runs today.
func (s *situation) goesOnRunning(at string) bool {
	return slices.ContainsFunc(s.lines.commands, func(c launch.Command) bool { return slices.Contains(c.Runs(s.k.Dir), at) })
}

// heldBack tells whether a file of the operator's own is not what the build brings.
func heldBack(s *situation, at string) bool {
	return slices.Contains(s.plan.Stale, at) || slices.Contains(s.plan.Differs, at)
}
