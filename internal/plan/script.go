package plan

import (
	"context"
	"fmt"

	"freshkeel/internal/acquire"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/runtimes"
)

// planScript changes the one word of the launch script that names a runtime
// which can't run the new build, where this machine has one that can. The rest
// of the script stays byte for byte; where the word can't be told, nothing
// changes and the check of the runtime says what to do.
func (k *Planner) planScript(p *Plan, f *acquire.Fetched) error {
	script := k.Profile.Launch.Script
	if script == "" || f.Candidate.Stays {
		return nil
	}
	lines, err := launch.Read(k.Dir, script, k.ServerEnv())
	if err != nil {
		return nil // the check of the launch script tells
	}
	runs := &runtimes.Programs{In: k.Install, Ahead: p.Ahead, Needs: f.Candidate.Build.Needs}
	for _, c := range lines {
		if !c.Java() || c.Path == "" { // what runs nothing is a mistake that is not the build's
			continue
		}
		at, jar, err := runs.Java(c)
		if err != nil {
			continue // told by the check
		}
		need := runs.NeedOf(jar)
		rt, err := needs.ReadRuntime(context.Background(), c.Path)
		if err != nil || need.Fits(rt) {
			continue
		}
		best := need.Best(k.rts.Java(context.Background()))
		if best == nil {
			continue
		}
		if err := p.editScript(k, c, best, fmt.Sprintf("%s needs %s; it ran Java %s", at, need, rt.Version)); err != nil {
			return err
		}
	}
	return nil
}
