package plan

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"freshkeel/internal/acquire"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/tree"
)

// planScript changes the one word of the launch script that names a runtime
// which can't run the new build, where this machine has one that can. The rest
// of the script stays byte for byte; where the word can't be told, nothing
// changes and the check of the runtime says what to do.
func (pr *Planner) planScript(p *Plan, f *acquire.Fetched) error {
	script := pr.Profile.Launch.Script
	if script == "" || f.Candidate.Stays {
		return nil
	}
	lines, err := launch.Read(pr.Dir, script, pr.ServerEnv())
	if err != nil {
		return nil // the check of the launch script tells
	}
	runs := &runtimes.Programs{In: pr.Install, Ahead: p.Ahead, Needs: f.Candidate.Build.Needs}
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
		best := need.Best(pr.rts.Java(context.Background()))
		if best == nil {
			continue
		}
		if err := p.editScript(pr, c, best,
			fmt.Sprintf("%s needs %s; it ran Java %s", at, need, rt.Version)); err != nil {
			return err
		}
	}
	return nil
}

// editScript has a command of a script run another runtime. It changes nothing where the
// build brings a script of its own, or where the word can't be told.
func (p *Plan) editScript(pr *Planner, c launch.Command, rt *needs.Runtime, why string) error {
	here, ours := p.Before.Get(c.File)
	if p.Brings(c.File) || !ours || here.Kind != tree.File || p.Edit(c.File) != nil {
		return nil // the build brings its own, or it is nothing that is swapped
	}
	text, err := tree.ReadUpTo(pr.Path(c.File), install.MaxScript)
	if errors.Is(err, fs.ErrPermission) {
		return nil
	}
	if err != nil {
		return err
	}
	edited, err := c.WithProgram(text, rt.Path)
	if err != nil {
		return nil // it is told, with what to do by hand
	}
	line := func(b []byte) string {
		all := strings.Split(string(b), "\n")
		if c.Line < 1 || c.Line > len(all) {
			return ""
		}
		return strings.TrimSpace(all[c.Line-1])
	}
	p.Edits = append(p.Edits, Edit{Path: c.File, Line: c.Line, Old: line(text), New: line(edited), Why: why,
		Runtime: *rt})
	p.rewrite(here, edited)
	if it := p.items.Find(c.File); it != nil && it.owned == asHere { // it is the operator's now
		it.owned = asEdited
	}
	return nil
}
