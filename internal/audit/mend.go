package audit

import (
	"context"
	"fmt"
	"path"
	"time"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/run"
	"freshkeel/internal/staging"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Mend puts back what a report says can be put back as things are: files whose content the
// locker has, modes and owners. What the running server uses stays. It removes nothing, and
// what it takes out is kept in the run's folder. The report gets what was done, and loses the
// findings that are put right.
//
// A crash on the way leaves every file either as it was or as it should be; Settle takes back
// what was done until then.
func (a *Auditor) Mend(ctx context.Context, r *Report) error {
	p, err := a.mending(r)
	if err != nil || (len(p.steps) == 0 && len(p.rights) == 0) {
		return err
	}
	e := &logbook.Entry{Kind: logbook.Mend, From: r.Version, To: r.Version}
	mend := a.steps(e, p)
	if err := mend.Begin(); err != nil {
		return err
	}
	if err := mend.Go(ctx); err != nil {
		return err
	}
	r.Mended, r.Run = p.paths, e.ID
	left := []Finding{}
	for _, f := range r.Findings {
		if f.Way != Now {
			left = append(left, f)
		}
	}
	r.Findings = left
	return nil
}

// mending is what a mend does.
type mending struct {
	steps  []swap.Step
	files  map[string]*locker.File // that come, by path
	rights []tree.Entry            // modes and owners that are put back in place
	paths  []string
}

// mending makes the plan of what can be put back as things are.
func (a *Auditor) mending(r *Report) (*mending, error) {
	head, err := a.inv.Head()
	if err != nil {
		return nil, err
	}
	store, err := a.Locker()
	if err != nil {
		return nil, err
	}
	var now []Finding
	for _, f := range r.Findings {
		if f.Way == Now {
			now = append(now, f)
		}
	}
	kept := (&wanted{store: store, sums: map[tree.Sum]*locker.File{}}).addAll(now)
	if err := kept.find(a, head); err != nil {
		return nil, err
	}
	top, _, err := tree.Describe(a.Dir, "")
	if err != nil {
		return nil, err
	}
	p := &mending{files: map[string]*locker.File{}}
	for _, f := range now {
		if p.files[f.Path] == nil {
			p.paths = append(p.paths, f.Path)
		}
		if f.Kind == Mode || f.Kind == Owner {
			p.rights = append(p.rights, f.was.Entry)
			continue
		}
		one := &locker.File{Entry: f.was.Entry}
		if f.was.Kind == tree.File {
			from := kept.sums[f.was.Sum]
			if from == nil {
				return nil, fmt.Errorf("%s is not in the locker any more", f.Path)
			}
			one.Sum, one.Pieces, one.Sparse, one.Xattr = from.Sum, from.PieceSums(), from.Sparse, from.Xattr
		}
		if one.UID == tree.NoID {
			one.UID, one.GID = top.UID, top.GID
		}
		do := swap.Add
		if f.was.Kind == tree.Dir {
			do = swap.MakeDir
		} else if f.Kind == Changed {
			do = swap.Replace
		}
		p.files[f.Path] = one
		p.steps = append(p.steps, swap.Step{Do: do, Path: f.Path})
	}
	p.folders(a, top)
	return p, nil
}

// folders adds the folders above what comes back that are missing, owned as the install's
// own folder, top, is.
func (p *mending) folders(a *Auditor, top tree.Entry) {
	for _, s := range p.steps {
		for dir := path.Dir(s.Path); dir != "."; dir = path.Dir(dir) {
			if p.files[dir] != nil || a.Exists(dir) {
				continue
			}
			p.files[dir] = &locker.File{
				Entry: tree.Entry{Path: dir, Kind: tree.Dir, Mode: 0o755, UID: top.UID, GID: top.GID},
			}
			p.steps = append(p.steps, swap.Step{Do: swap.MakeDir, Path: dir})
		}
	}
	swap.Sort(p.steps)
}

// places tells the run which folders of the install are on file systems of their own.
func (p *mending) places(a *Auditor, run *swap.Run) {
	if list, err := tree.Walk(a.Dir, a.Profile.Server.Skip); err == nil {
		run.Places, _ = tree.Places(a.Dir, list)
	}
}

// steps are those of a mend, the server running on; of one that a crash left p is not known, and not needed.
func (a *Auditor) steps(e *logbook.Entry, p *mending) *run.Run {
	r := &run.Run{In: a.Install, E: e, Dir: a.Run(e.ID), Way: run.Way{Phase: logbook.RollingBack, Name: "undo", Outcome: logbook.Abandoned}}
	r.Steps = []run.Step{
		{Phase: logbook.Preparing, Do: func(ctx context.Context) (string, error) { return "", a.stage(ctx, r, p) }},

		{Phase: logbook.Swapping, Name: "mend", Do: func(context.Context) (string, error) {
			if err := r.Dir.Apply(r.Dir.Plan(p.steps), a.Halt); err != nil {
				return "", err
			}
			return words.Plural(len(p.paths), "path") + " put back", a.setRights(p.rights)
		}, Undo: func() (map[string]bool, error) {
			plan, err := r.Dir.Read()
			if err != nil {
				return nil, err
			}
			r.Dir.Places = plan.Places
			return nil, r.Dir.Reverse(plan, a.Halt)
		}},
		{Phase: logbook.Swapping, Do: func(context.Context) (string, error) { return "", a.noteSeen(p) }},
	}
	return r
}

// stage lays out what comes back, and writes down the plan.
func (a *Auditor) stage(ctx context.Context, r *run.Run, p *mending) error {
	if err := a.Halt("mend"); err != nil {
		return err
	}
	store, err := a.Locker()
	if err != nil {
		return err
	}
	p.places(a, &r.Dir)
	if err := staging.Steps(ctx, store, r.Dir, p.steps, func(at string) *locker.File { return p.files[at] },
		func(locker.Laying) {}); err != nil {
		return fmt.Errorf("stage %w", err)
	}
	return r.Dir.Write(r.Dir.Plan(p.steps))
}

// setRights puts modes and owners back where the files stand.
func (a *Auditor) setRights(list []tree.Entry) error {
	root, err := tree.OpenRoot(a.Dir)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, e := range list {
		e.Mtime = 0 // which is not what was wrong
		if err := root.Mend(e.Path, e); err != nil {
			return fmt.Errorf("put mode and owner of %s back: %w", e.Path, err)
		}
	}
	return nil
}

// noteSeen has the inventory know the files that were put back by their times, so that the
// next audit need not read them.
func (a *Auditor) noteSeen(p *mending) error {
	s, err := a.inv.Scan()
	if err != nil {
		return err
	}
	defer s.Close()
	return s.CopyTo(a.inv.File(), func(o *inventory.Owned) {
		if p.files[o.Path] == nil || o.Kind != tree.File {
			return
		}
		if now, ok, err := tree.Describe(a.Path(o.Path), o.Path); err == nil && ok && now.Kind == o.Kind {
			o.Entry, o.SeenAt = now, time.Now().UnixNano()
		}
	})
}

// Settle takes back what a mend did before it was cut off: the install is as the mend found it.
func (a *Auditor) Settle(ctx context.Context, e *logbook.Entry) error {
	return a.steps(e, nil).Recover(ctx)
}
