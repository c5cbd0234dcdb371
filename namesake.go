package freshkeel

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/needs"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Makers name a file after its version, and launch scripts run it by one name. A build
// that is laid beside what the script runs would change nothing: the commonest mistake.

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
		if _, changes := s.ahead.Files[at]; changes || s.plan.Set.Find(at) != nil {
			return out
		}
	}
	where := s.k.in.Path(s.k.in.Profile.Launch.Script)
	return append(out, Finding{Level: Stop, What: fmt.Sprintf("the build adds %s and replaces none; the launch script goes on running %s, the old one", words.Plural(adds, "file"), words.Some(runs, 3)), Where: where,
		Why: "the server would come up, and nothing would be new", Do: s.whichIs(runs[0])})
}

// seenToRun holds what the new processes have open against what was swapped in: lines of
// a console may be said by anything. A runtime keeps its jar open, and a native program
// is what a process runs; a script that is read and closed can't be seen so. What can't
// be seen is told as that.
func (t *transaction) seenToRun(p *Plan) {
	var brought []string
	for _, at := range t.k.planner.Runs() {
		if f, ok := p.Files[at]; ok && f.Kind == tree.File {
			brought = append(brought, at)
		}
	}
	if len(brought) == 0 {
		return
	}
	used, visible := host.Using(t.k.in.RunDir().Status().Processes)
	real := tree.Real(t.k.in.Dir)
	for _, at := range brought {
		full := filepath.Join(real, filepath.FromSlash(at))
		switch {
		case !visible:
			t.e.Told = append(t.e.Told, "which files the server's processes run can't be seen from here: "+at+" is known to be new by its name alone")
		case slices.Contains(used, full):
			t.e.Told = append(t.e.Told, "the server's processes were seen to run the new "+at)
		case t.staysOpen(at):
			t.e.Told = append(t.e.Told, "no process of the server has "+at+" open: look whether it runs the new build")
		}
	}
}

// staysOpen tells whether a process that runs a file has it open as long as it runs.
func (t *transaction) staysOpen(at string) bool {
	if strings.HasSuffix(at, ".jar") {
		return true
	}
	f, err := t.k.in.Open(at)
	if err != nil {
		return false
	}
	defer f.Close()
	_, native := needs.ReadProgram(f)
	return native
}
