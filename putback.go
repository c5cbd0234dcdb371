package freshkeel

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
)

// scope is which part of the install is put back to a backup.
type scope struct {
	within   func(path string) bool // entries of the backup that are put back
	takeAway func(path string) bool // what the backup has not, and is moved aside
	trusted  map[string]bool        // paths that renames have just brought back
}

// putBackReport is what was done.
type putBackReport struct {
	restored, aside, mended int
	asideDir                string
}

func (r *putBackReport) told() []string {
	if r.aside == 0 {
		return nil
	}
	return []string{fmt.Sprintf("%s that was not there before is kept in %s", plural(r.aside, "file"), r.asideDir)}
}

// putBack makes the part of the install that is in scope what the backup
// holds, touching only what differs: what was rewritten is exchanged, what was
// deleted comes back, what is new is moved aside into the run's folder. It
// looks, plans, stages and exchanges like a refit does; called again after a
// crash it looks again and does what is left.
func (k *Keel) putBack(run swap.Run, set *locker.Set, sc scope, halt func(string) error) (*putBackReport, error) {
	list, err := tree.Walk(k.Dir, tree.Patterns(set.Skipped))
	if err != nil {
		return nil, err
	}
	l, err := k.locker()
	if err != nil {
		return nil, err
	}
	here := tree.ByPath(list)
	want := set.ByPath()
	var steps []swap.Step
	var mend []tree.Entry
	report := &putBackReport{asideDir: filepath.Join(run.Dir, "displaced")}
	for _, f := range set.Entries {
		if !sc.within(f.Path) {
			continue
		}
		cur, exists := here[f.Path]
		if exists && cur.Kind == f.Kind {
			same, err := k.unchanged(cur, f, sc.trusted[f.Path])
			if err != nil {
				return nil, err
			}
			if same {
				if cur.Mode != f.Mode || cur.UID != f.UID || cur.GID != f.GID || (f.Kind == tree.File && cur.Mtime != f.Mtime) {
					mend = append(mend, f.Entry)
				}
				continue
			}
		}
		s := swap.Step{Do: swap.Add, Path: f.Path}
		switch {
		case f.Kind == tree.Dir:
			s.Do = swap.MakeDir
			mend = append(mend, f.Entry) // its time changes when it is filled
			if exists {
				steps = append(steps, swap.Step{Do: swap.Remove, Path: f.Path})
			}
		case exists && cur.Kind == tree.Dir:
			steps = append(steps, swap.Step{Do: swap.DropDir, Path: f.Path})
		case exists:
			s.Do = swap.Replace
		}
		if err := layStaged(l, run, f); err != nil {
			return nil, fmt.Errorf("put back %s: %w", f.Path, err)
		}
		if f.Kind != tree.Dir {
			report.restored++
		}
		steps = append(steps, s)
	}
	for _, e := range list {
		if _, known := want[e.Path]; known || !sc.takeAway(e.Path) {
			continue
		}
		if e.Kind == tree.Dir {
			steps = append(steps, swap.Step{Do: swap.DropDir, Path: e.Path})
			continue
		}
		report.aside++
		steps = append(steps, swap.Step{Do: swap.Remove, Path: e.Path})
	}
	steps, mend = withFolders(steps, mend, here, want)
	for _, s := range steps {
		// A folder above that is missing although out of scope still has to be.
		if f, ok := want[s.Path]; ok && s.Do == swap.MakeDir && !sc.within(s.Path) {
			if err := layStaged(l, run, f); err != nil {
				return nil, fmt.Errorf("put back %s: %w", s.Path, err)
			}
		}
	}
	swap.Sort(steps)
	if len(steps) > 0 {
		p := &swap.Plan{Steps: steps}
		if err := run.Write(p); err != nil {
			return nil, err
		}
		if err := run.Apply(p, func(at string) error { return halt("back-" + at) }); err != nil {
			return nil, err
		}
	}
	// Deepest first: mending a folder's time is undone by mending below it.
	slices.SortFunc(mend, func(a, b tree.Entry) int { return strings.Compare(b.Path, a.Path) })
	for _, e := range mend {
		if err := tree.Mend(k.path(e.Path), e); err != nil {
			return nil, fmt.Errorf("put back mode and times of %s: %w", e.Path, err)
		}
		report.mended++
	}
	return report, nil
}

// unchanged tells whether an installed entry still is what was backed up,
// reading it only where its times don't prove it.
func (k *Keel) unchanged(cur tree.Entry, f locker.File, trusted bool) (bool, error) {
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
	got, err := tree.SumFile(k.path(cur.Path))
	return got == f.Sum, err
}

// withFolders adds the folders above what comes back that are missing, and
// whose times are to be mended in any case.
func withFolders(steps []swap.Step, mend []tree.Entry, here map[string]tree.Entry, want map[string]locker.File) ([]swap.Step, []tree.Entry) {
	made := map[string]bool{}
	touched := map[string]bool{}
	for _, s := range steps {
		made[s.Path] = made[s.Path] || s.Do == swap.MakeDir
	}
	for _, s := range steps {
		for dir := path.Dir(s.Path); dir != "."; dir = path.Dir(dir) {
			touched[dir] = true
			f, known := want[dir]
			if e, exists := here[dir]; known && !made[dir] && (!exists || e.Kind != tree.Dir) && s.Do != swap.Remove && s.Do != swap.DropDir {
				made[dir] = true
				steps = append(steps, swap.Step{Do: swap.MakeDir, Path: f.Path})
			}
		}
	}
	for dir := range touched {
		if f, known := want[dir]; known && f.Kind == tree.Dir {
			mend = append(mend, f.Entry)
		}
	}
	return steps, mend
}

// lastBackup indexes the newest backup, as what the next one need not read.
func (k *Keel) lastBackup(l *locker.Locker) (map[string]locker.File, error) {
	id, err := k.identity()
	if err != nil {
		return nil, err
	}
	heads, err := l.Heads(id)
	if err != nil || len(heads) == 0 {
		return nil, err
	}
	s, err := l.Read(id, heads[len(heads)-1].ID)
	if err != nil {
		// Damage there must not keep a new backup from being made.
		k.warn("the newest backup can't be read (%v): everything is read again", err)
		return nil, nil
	}
	return s.ByPath(), nil
}

func (k *Keel) backup(id string) (*locker.Set, error) {
	l, err := k.locker()
	if err != nil {
		return nil, err
	}
	owner, err := k.identity()
	if err != nil {
		return nil, err
	}
	return l.Read(owner, id)
}

// publish makes a finished pass a backup of the install at version.
func (k *Keel) publish(w *locker.Writer, taken *locker.Taken, version, label string) (*locker.Set, error) {
	id, err := k.identity()
	if err != nil {
		return nil, err
	}
	set := &locker.Set{Owner: id, Server: k.Profile.Server.Name, Root: k.Dir, Version: version, Label: label, Taken: time.Now().Round(0), Skipped: k.Profile.Server.Skip, Entries: taken.Entries}
	return set, w.Publish(set)
}
