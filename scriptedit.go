package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"freshkeel/internal/acquire"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
)

// planScript changes the one word of the launch script that names a runtime
// which can't run the new build, where this machine has one that can. The rest
// of the script stays byte for byte; where the word can't be told, nothing
// changes and the check of the runtime says what to do.
func (k *Keel) planScript(p *Plan, f *acquire.Fetched) error {
	script := k.in.Profile.Launch.Script
	if script == "" || f.Candidate.Stays {
		return nil
	}
	lines, err := launch.Read(k.in.Dir, script, k.in.ServerEnv())
	if err != nil {
		return nil // the check of the launch script tells
	}
	runs := &runtimes.Programs{In: k.in, Ahead: p.Ahead, Needs: f.Candidate.Build.Needs}
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

func (p *Plan) editScript(k *Keel, c launch.Command, rt *needs.Runtime, why string) error {
	here, ours := p.Before.Get(c.File)
	if _, brought := p.Files[c.File]; brought || !ours || here.Kind != tree.File || p.edit(c.File) != nil {
		return nil // the build brings its own, or it is nothing that is swapped
	}
	text, err := tree.ReadUpTo(k.in.Path(c.File), install.MaxScript)
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
	p.Edits = append(p.Edits, Edit{Path: c.File, Line: c.Line, Old: line(text), New: line(edited), Why: why, runtime: *rt})
	p.Texts[c.File] = edited
	p.Steps = append(p.Steps, swap.Step{Do: swap.Replace, Path: c.File})
	f := locker.File{Entry: here}
	f.Size = int64(len(edited))
	p.Files[c.File] = f
	p.Bytes += f.Size
	for i := range p.owned { // it is the operator's now, if it was the build's
		if p.owned[i].Path == c.File {
			p.owned[i].Mtime, p.owned[i].Inode = 0, 0
		}
	}
	return nil
}
