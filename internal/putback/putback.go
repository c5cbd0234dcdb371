// Package putback makes an install, or a part of it, what a backup holds. It touches what
// differs and nothing else: what was rewritten is exchanged, what was deleted comes back,
// what is new is moved aside.
package putback

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/backups"
	"freshkeel/internal/data"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/staging"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Returner puts the files of one install back.
type Returner struct{ *install.Install }

// New is the returner of an install.
func New(in *install.Install) *Returner { return &Returner{in} }

// Scope is which part of the install is put back to a backup.
type Scope struct {
	Within   func(path string) bool // entries of the backup that are put back
	TakeAway func(path string) bool // what the backup has not, and is moved aside
	Trusted  map[string]bool        // paths that renames have just brought back
}

// Report is what was done.
type Report struct {
	Restored, Aside int
	asideDir        string
	Set             *locker.Set // from which it was put back
}

// Told is what the operator should know of it.
func (r *Report) Told() []string {
	if r.Aside == 0 {
		return nil
	}
	return []string{fmt.Sprintf("moved aside, since the backup does not have it: %s, kept in %s",
		words.Plural(r.Aside, "file"), r.asideDir)}
}

// Plan is what has to be done for the part of the install in scope to be
// what the backup holds.
type Plan struct {
	Steps []swap.Step
	mend  []tree.Entry // modes, owners and times that differ
	mode  bool         // of one at least, mode or owner
	set   *locker.Set

	places []string // folders on file systems of their own
}

// count tells how many files and links the plan brings back and moves aside.
func (p *Plan) count() (restored, aside int) {
	for _, s := range p.Steps {
		switch s.Do {
		case swap.Add, swap.Replace:
			restored++
		case swap.Remove:
			aside++
		}
	}
	return
}

// Plan looks at the install and finds all that differs from the backup.
func (rt *Returner) Plan(set *locker.Set, sc Scope) (*Plan, error) {
	// Files out of scope, most often those of a world, are not held on to.
	var list []tree.Entry
	if err := tree.WalkEach(rt.Dir, tree.Patterns(set.Skipped), func(found []tree.Entry) {
		for _, e := range found {
			if e.Kind == tree.Dir || sc.Within(e.Path) || sc.TakeAway(e.Path) {
				list = append(list, e)
			}
		}
	}); err != nil {
		return nil, err
	}
	slices.SortFunc(list, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	p := &Plan{set: set}
	p.places, _ = tree.Places(rt.Dir, list)
	if err := staging.Usable(rt.Install, p.places); err != nil {
		return nil, err
	}
	in, err := tree.OpenRoot(rt.Dir)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	add := func(do, at string) { p.Steps = append(p.Steps, swap.Step{Do: do, Path: at}) }
	for i := range set.Entries {
		f := &set.Entries[i]
		if !sc.Within(f.Path) || data.Is(f.Path) { // a dump is loaded, not laid out
			continue
		}
		if tree.Ours(f.Path) || (set.Source != "" && f.Path == profile.FileName) {
			continue // Fresh Keel's own: an archive from elsewhere says nothing of it
		}
		cur := tree.Find(list, f.Path)
		exists := cur != nil
		if exists && cur.Kind == f.Kind {
			same, err := rt.unchanged(in, *cur, *f, sc.Trusted[f.Path])
			if err != nil {
				return nil, err
			}
			if same {
				mode := cur.Mode != f.Mode || cur.UID != f.UID || cur.GID != f.GID
				if mode || (f.Kind == tree.File && cur.Mtime != f.Mtime) {
					p.mend = append(p.mend, f.Entry)
					p.mode = p.mode || mode
				}
				continue
			}
		}
		switch {
		case f.Kind == tree.Dir:
			if exists {
				add(swap.Remove, f.Path)
			}
			add(swap.MakeDir, f.Path)
			p.mend = append(p.mend, f.Entry) // its time changes when it is filled
		case exists && cur.Kind == tree.Dir:
			add(swap.DropDir, f.Path)
			add(swap.Add, f.Path)
		case exists:
			add(swap.Replace, f.Path)
		default:
			add(swap.Add, f.Path)
		}
	}
	for _, e := range list {
		if set.Find(e.Path) != nil || !sc.TakeAway(e.Path) {
			continue
		}
		if e.Kind == tree.Dir {
			add(swap.DropDir, e.Path)
		} else {
			add(swap.Remove, e.Path)
		}
	}
	p.addFolders(list)
	swap.Sort(p.Steps)
	// Deepest first: mending a folder's time is undone by mending below it.
	slices.SortFunc(p.mend, func(a, b tree.Entry) int { return strings.Compare(b.Path, a.Path) })
	return p, nil
}

// Put makes the part of the install that is in scope what the backup
// holds, touching only what differs: what was rewritten is exchanged, what was
// deleted comes back, what is new is moved aside into the run's folder. Called
// again after a crash it looks again and does what is left.
func (rt *Returner) Put(run swap.Run, set *locker.Set, sc Scope, halt func(string) error) (*Report, error) {
	l, err := rt.Locker()
	if err != nil {
		return nil, err
	}
	p, err := rt.Plan(set, sc)
	if err != nil {
		return nil, err
	}
	if err := halt("put-back"); err != nil {
		return nil, err
	}
	run.Places = p.places
	if err := staging.Steps(context.Background(), l, run, p.Steps, set.Find, nil); err != nil {
		return nil, fmt.Errorf("put back %w", err)
	}
	if len(p.Steps) > 0 {
		plan := run.Plan(p.Steps)
		if err := run.Write(plan); err != nil {
			return nil, err
		}
		if err := run.Apply(plan, func(at string) error { return halt("back-" + at) }); err != nil {
			return nil, err
		}
	}
	in, err := tree.OpenRoot(rt.Dir)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	for _, e := range p.mend {
		if err := in.Mend(e.Path, e); err != nil {
			return nil, fmt.Errorf("put back mode and times of %s: %w", e.Path, err)
		}
	}
	report := &Report{Set: set, asideDir: filepath.Join(run.Dir, "displaced")}
	report.Restored, report.Aside = p.count()
	return report, nil
}

// unchanged tells whether an installed entry still is what was backed up,
// reading it only where its times don't prove it.
func (rt *Returner) unchanged(in *tree.Root, cur tree.Entry, f locker.File, trusted bool) (bool, error) {
	switch {
	case f.Kind == tree.Dir:
		return true, nil
	case f.Kind == tree.Link:
		return cur.Target == f.Target, nil
	case cur.Size != f.Size:
		return false, nil
	case cur.SameIdentity(f.Entry) && cur.Settled(f.ReadAt):
		return true, nil
	// A rename moves the change time of a file that nobody wrote to.
	case trusted && cur.SameContentTimes(f.Entry) && f.Settled(f.ReadAt):
		return true, nil
	}
	l, err := rt.Locker()
	if err != nil {
		return false, err
	}
	src, err := in.Open(cur.Path)
	if err != nil {
		return false, err
	}
	defer src.Close()
	return l.Same(src, f)
}

// addFolders adds the folders above what comes back that are missing, in scope
// or not, and has the times of those above every step mended.
func (p *Plan) addFolders(here []tree.Entry) {
	made, touched := map[string]bool{}, map[string]bool{}
	for _, s := range p.Steps {
		made[s.Path] = made[s.Path] || s.Do == swap.MakeDir
	}
	for _, s := range p.Steps {
		brings := s.Do != swap.Remove && s.Do != swap.DropDir
		for dir := path.Dir(s.Path); dir != "."; dir = path.Dir(dir) {
			touched[dir] = true
			cur := tree.Find(here, dir)
			if p.set.Find(dir) == nil || made[dir] || !brings || (cur != nil && cur.Kind == tree.Dir) {
				continue
			}
			made[dir] = true
			if cur != nil {
				p.Steps = append(p.Steps, swap.Step{Do: swap.Remove, Path: dir})
			}
			p.Steps = append(p.Steps, swap.Step{Do: swap.MakeDir, Path: dir})
		}
	}
	for dir := range touched {
		if f := p.set.Find(dir); f != nil && f.Kind == tree.Dir {
			p.mend = append(p.mend, f.Entry)
		}
	}
}

// Edited lists the operator's settings and scripts that a plan of steps would put
// back as they were: what was edited since goes with that.
func (rt *Returner) Edited(steps []swap.Step, set *locker.Set) (out []string) {
	for _, s := range steps {
		if f := set.Find(s.Path); f != nil && (s.Do == swap.Replace || s.Do == swap.Remove) &&
			rt.Profile.ByHand(s.Path) {
			out = append(out, s.Path)
		}
	}
	return out
}

// Differs tells whether a restore has anything to do. It looks before the server is
// stopped for it. A running server writes the same content anew: that a file's time
// alone differs is no reason to stop it. loads says that it loads data, which it does not compare.
func (rt *Returner) Differs(ctx context.Context, set *locker.Set, only tree.Patterns, loads bool) (bool, error) {
	if err := ctx.Err(); err != nil {
		return false, err
	}
	p, err := rt.Plan(set, ForRestore(set, only))
	if err != nil {
		return false, err
	}
	return len(p.Steps) > 0 || loads || p.mode, nil
}

// AllOf is all that a backup is of. trusted are paths that renames have just brought back.
func AllOf(set *locker.Set, trusted map[string]bool) Scope {
	return Scope{Within: within(set), TakeAway: within(set), Trusted: trusted}
}

// within tells whether a backup is of a path: of one that it does not have, too.
func within(set *locker.Set) func(string) bool {
	takes := backups.Choice{Only: set.Only, Leave: set.Left}.Takes()
	return func(at string) bool { return takes == nil || takes(tree.Entry{Path: at}) }
}

// ForRestore is what a restore into the install brings back: what the
// patterns say, or everything but the profile, what is not in the backup then
// being moved aside. A backup of a part says nothing of the rest.
func ForRestore(set *locker.Set, only tree.Patterns) Scope {
	if len(only) > 0 {
		return Scope{Within: func(at string) bool { return only.Match(at) && tree.Makeable(at) },
			TakeAway: func(string) bool { return false }}
	}
	of := within(set)
	all := func(at string) bool { return at != profile.FileName && tree.Makeable(at) && of(at) }
	return Scope{Within: all, TakeAway: all}
}

// ForRollback is what goes back by hand: the build's files, settings and
// launch script, or all there is.
func (rt *Returner) ForRollback(set *locker.Set, world bool, swapped map[string]bool) Scope {
	s, of := rt.Profile.Server, within(set)
	if world {
		all := func(at string) bool { return at != profile.FileName && of(at) }
		return Scope{Within: all, TakeAway: all, Trusted: swapped}
	}
	return Scope{
		Within: func(at string) bool {
			return of(at) && !s.Keep.Match(at) && (swapped[at] || s.Settings.Match(at) || rt.Profile.Starts(at))
		},
		TakeAway: func(at string) bool { return of(at) && swapped[at] && !s.Keep.Match(at) },
		Trusted:  swapped,
	}
}
