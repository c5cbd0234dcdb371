package adopt

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"freshkeel/internal/guard"
	"freshkeel/internal/install"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Release says how an install is given back.
type Release struct {
	Dir         string
	KeepProfile bool
	KeepBackups bool // they stay in the locker, and the install keeps the name that they are under
	DropBackups bool
	Sure        func(lost []string) bool // asks before something is lost; nil: it is lost
	DryRun      bool
}

// Released is what went, and what stays.
type Released struct {
	Dir     string   `json:"dir"`
	Removed []string `json:"removed"`         // paths of the install
	Backups int      `json:"backups_dropped"` // of the locker
	Freed   int64    `json:"freed_bytes"`
	Stays   []string `json:"stays,omitempty"` // what was asked for
	Lost    []string `json:"lost,omitempty"`  // what is nowhere else
}

// GiveBack ends the care of an install: what Fresh Keel put there goes, and nothing else of it is
// touched. A server that runs, and a run that was interrupted, are refused.
func GiveBack(ctx context.Context, r Release, o install.Options) (*Released, error) {
	in, err := install.Open(r.Dir, o)
	if err != nil {
		return nil, err
	}
	unlock, err := in.Lock("release")
	if err != nil {
		return nil, err
	}
	defer unlock()
	for _, part := range in.Parts() {
		if st := part.Host().Status(); part.Minded() && st.Running { // a service or commands run on without us
			return nil, tell.Advise(fmt.Errorf("the server runs %s, process %d", st.How(), st.PID),
				"freshkeel -d "+words.Shell(in.Dir)+" stop; then release it")
		}
	}
	if e, err := in.Book.Unfinished(); err != nil || e != nil {
		if err == nil {
			err = tell.Advise(fmt.Errorf("%s %s was interrupted while %s", e.Kind, e.ID, e.Phase),
				"freshkeel -d "+words.Shell(in.Dir)+" recover; then release it")
		}
		return nil, err
	}
	g := &giving{Install: in, r: r, out: &Released{Dir: in.Dir, Removed: []string{}}}
	ids, owner, err := g.backups()
	if err != nil {
		return nil, err
	}
	if err := g.setAside(); err != nil {
		return nil, err
	}
	if r.DropBackups && len(ids) > 0 {
		g.out.Lost = append(g.out.Lost, words.Plural(len(ids), "backup"))
	}
	if len(g.out.Lost) > 0 && r.Sure != nil && !r.DryRun && !r.Sure(g.out.Lost) {
		return nil, errors.New("nothing was released")
	}
	if r.DropBackups {
		if err := g.drop(ctx, owner, ids); err != nil {
			return nil, err
		}
	}
	if err := g.offUnits(); err != nil {
		return nil, err
	}
	return g.out, g.remove(len(ids))
}

// offUnits takes away what stands over services: a line of ours, a guard.
func (g *giving) offUnits() error {
	for _, part := range g.Parts() {
		sv := part.Service()
		if sv == nil || part.Outside() {
			continue
		}
		o, err := sv.Over()
		if err != nil || o.Words == nil { // none of ours, or none that we may tell
			continue
		}
		g.out.Removed = append(g.out.Removed, o.File)
		if g.r.DryRun {
			continue
		}
		if err := sv.Write(nil); err != nil {
			return fmt.Errorf("take the line of %s back: %w", sv.Name, err)
		}
	}
	if g.r.DryRun {
		return nil
	}
	return guard.New(g.Install).TakeAway()
}

// giving is one release under way.
type giving struct {
	*install.Install
	r   Release
	out *Released
}

// backups lists those of the install. What becomes of them has to be said.
func (g *giving) backups() (ids []string, owner string, err error) {
	if owner, err = g.Identity(); err != nil {
		return nil, "", err
	}
	l, err := g.Locker()
	if err != nil {
		return nil, "", err
	}
	heads, err := l.Heads(owner)
	if err != nil {
		return nil, "", err
	}
	for _, h := range heads {
		ids = append(ids, h.ID)
	}
	if len(ids) > 0 && !g.r.KeepBackups && !g.r.DropBackups {
		return nil, "", tell.Misuse(
			fmt.Sprintf("%s of it %s in the locker", words.Plural(len(ids), "backup"), words.Are(len(ids))),
			"add --keep-backups, and adopting the folder again finds them; or --drop-backups",
		)
	}
	return ids, owner, nil
}

// setAside finds files that runs moved aside and that are kept nowhere else.
func (g *giving) setAside() error {
	n, bytes := 0, int64(0)
	count := func(at string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || d.IsDir() || !strings.Contains(filepath.ToSlash(at), "/displaced/") {
			return err
		}
		if fi, err := d.Info(); err == nil {
			n, bytes = n+1, bytes+fi.Size()
		}
		return nil
	}
	err := filepath.WalkDir(g.State("refits"), count)
	for _, folder := range g.Profile.Elsewhere {
		err = errors.Join(err, filepath.WalkDir(filepath.Join(folder, tree.StateFolder, "refits"), count))
	}
	if n > 0 {
		g.out.Lost = append(g.out.Lost, fmt.Sprintf("%s, %s, that refits moved aside (.freshkeel/refits)",
			words.Plural(n, "file"), words.Bytes(bytes)))
	}
	return err
}

// drop drops the backups, and gives their space back.
func (g *giving) drop(ctx context.Context, owner string, ids []string) error {
	g.out.Backups = len(ids)
	if g.r.DryRun || len(ids) == 0 {
		return nil
	}
	l, err := g.Locker()
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := l.Drop(owner, id); err != nil {
			return err
		}
	}
	g.out.Freed, err = l.GiveBack(ctx, nil)
	return err
}

// remove takes away what Fresh Keel put into the install.
func (g *giving) remove(backups int) error {
	if !g.r.DryRun {
		if err := g.Unbind(); err != nil {
			return err
		}
	}
	list, err := os.ReadDir(g.Dir)
	if err != nil {
		return err
	}
	for _, d := range list {
		name := d.Name()
		ours := name == tree.StateFolder
		if !g.r.KeepProfile {
			ours = ours || name == profile.FileName || strings.HasPrefix(name, profile.FileName+".before-")
			ours = ours || name == OwnScript && g.wroteScript()
		}
		if ours {
			g.out.Removed = append(g.out.Removed, name)
		}
	}
	if g.r.KeepProfile {
		g.out.Stays = append(g.out.Stays, "the profile")
	}
	if g.r.KeepBackups && backups > 0 {
		g.out.Stays = append(g.out.Stays, words.Plural(backups, "backup")+" in the locker, and "+tree.StateFolder+
			"/identity, by which they are found again")
	}
	if g.r.DryRun {
		return nil
	}
	for _, name := range g.out.Removed {
		if name == tree.StateFolder && g.r.KeepBackups && backups > 0 {
			if err := g.emptyState(); err != nil {
				return err
			}
			continue
		}
		if err := os.RemoveAll(filepath.Join(g.Dir, name)); err != nil {
			return err
		}
	}
	return nil
}

// emptyState leaves only the identity of the install in our folder.
func (g *giving) emptyState() error {
	list, err := os.ReadDir(g.State())
	if err != nil {
		return err
	}
	for _, d := range list {
		if d.Name() == "identity" {
			continue
		}
		if err := os.RemoveAll(g.State(d.Name())); err != nil {
			return err
		}
	}
	return nil
}

// wroteScript tells whether the launch script of our name is as adopt wrote it.
func (g *giving) wroteScript() bool {
	b, err := tree.ReadUpTo(filepath.Join(g.Dir, OwnScript), install.MaxScript)
	return err == nil && strings.HasPrefix(string(b), "#!/bin/sh\n# Written by freshkeel adopt: ")
}
