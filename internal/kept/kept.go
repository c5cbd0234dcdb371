// Package kept is what the locker holds besides backups: builds, layers, and the runtimes that
// were taken in; what each takes, who needs it, and how space is given back.
package kept

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/tell"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
	"freshkeel/internal/written"
)

// Keeper tells what is kept, asked from one install.
type Keeper struct{ *install.Install }

// New is the keeper of the locker that an install uses.
func New(in *install.Install) *Keeper { return &Keeper{in} }

// Need is a server that needs a build.
type Need struct {
	Server  string `json:"server"` // its folder
	Why     string `json:"why"`
	Running bool   `json:"installed"` // it is what is installed there
}

// Build is a build or a layer that is kept.
type Build struct {
	ID      string    `json:"id"`
	Version string    `json:"version"`
	Channel string    `json:"channel,omitempty"`
	Layer   string    `json:"layer,omitempty"` // as it is laid in some server; "": a build
	Source  string    `json:"source"`
	Taken   time.Time `json:"taken"`
	Files   int       `json:"files"`
	Bytes   int64     `json:"bytes"`        // of content
	Stored  int64     `json:"stored_bytes"` // of packs that hold it
	Alone   int64     `json:"alone_bytes"`  // of those, what dropping it alone gives back
	With    []string  `json:"shares_with,omitempty"`
	Backups bool      `json:"shares_with_backups"`
	Needs   []Need    `json:"needed_by"`
	Damage  string    `json:"damage,omitempty"`
}

// Runtime is a runtime that was taken in.
type Runtime struct {
	Name  string `json:"name"`
	Path  string `json:"path"`
	Bytes int64  `json:"bytes"`
	Needs []Need `json:"needed_by"`
}

// Holding is all that is kept.
type Holding struct {
	Locker   string    `json:"locker"`
	Builds   []Build   `json:"builds"`
	Runtimes []Runtime `json:"runtimes"`
}

// List tells all that is kept, oldest first. It reads every set of the locker.
func (kp *Keeper) List() (*Holding, error) {
	l, err := kp.Locker()
	if err != nil {
		return nil, err
	}
	heads, err := l.Heads(locker.Builds)
	if err != nil {
		return nil, err
	}
	weights, err := l.Weigh()
	if err != nil {
		return nil, err
	}
	needs, layers := kp.needs()
	out := &Holding{Locker: l.Dir(), Builds: []Build{}, Runtimes: []Runtime{}}
	for _, h := range heads {
		b := Build{
			ID:      h.ID,
			Version: h.Version,
			Channel: h.Channel,
			Layer:   layers[h.ID],
			Source:  h.Source,
			Taken:   h.Taken,
			Files:   h.Files,
			Bytes:   h.Bytes,
			Needs:   needs[h.ID],
			Damage:  h.Damage,
		}
		if b.Needs == nil {
			b.Needs = []Need{}
		}
		if w := weights[h.ID]; w != nil {
			b.Stored, b.Alone, b.With, b.Backups = w.Stored, w.Alone, w.With, w.Backup
		}
		out.Builds = append(out.Builds, b)
	}
	slices.SortFunc(out.Builds, func(a, b Build) int { return a.Taken.Compare(b.Taken) })
	list, _ := os.ReadDir(filepath.Join(kp.Home, "runtimes"))
	for _, d := range list {
		if !d.IsDir() || strings.HasPrefix(d.Name(), ".") {
			continue
		}
		rt := Runtime{Name: d.Name(), Path: filepath.Join(kp.Home, "runtimes", d.Name()), Needs: []Need{}}
		for _, dir := range kp.Servers() {
			if line := runtimes.UsedBy(dir, rt.Path, kp.Env); line != "" {
				rt.Needs = append(rt.Needs, Need{dir, line + " runs it", true})
			}
		}
		filepath.WalkDir(rt.Path, func(_ string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				if fi, err := d.Info(); err == nil {
					rt.Bytes += fi.Size()
				}
			}
			return nil
		})
		out.Runtimes = append(out.Runtimes, rt)
	}
	return out, nil
}

// needs tells who needs each build, and which of them are layers somewhere.
func (kp *Keeper) needs() (needs map[string][]Need, layers map[string]string) {
	needs, layers = map[string][]Need{}, map[string]string{}
	for _, dir := range kp.Servers() {
		p, err := profile.Read(dir)
		if err != nil {
			continue // it is gone
		}
		in := install.New(dir, p, kp.Options)
		inv := inventory.New(in)
		ours, err := resolve.New(in, inv).Ours()
		if err != nil {
			continue
		}
		for id, why := range ours {
			needs[id] = append(needs[id], Need{dir, why, why == resolve.Installed})
		}
		if head, err := inv.Head(); err == nil {
			for _, laid := range head.Layers {
				layers[laid.Build] = laid.Name
			}
		}
	}
	return needs, layers
}

// Dropping is what a drop would give back, or has given.
type Dropping struct {
	Builds []Build `json:"builds"`
	Freed  int64   `json:"freed_bytes"` // before: about as much as it will be
	Later  bool    `json:"later,omitempty"`
}

// PlanDrop finds the builds that names mean: versions, or names in the locker. One that a server
// runs, or that a command is about to use, is refused unless anyway says otherwise: an audit could
// not mend that server from here any more.
func (kp *Keeper) PlanDrop(names []string, anyway bool) (*Dropping, error) {
	all, err := kp.List()
	if err != nil {
		return nil, err
	}
	d := &Dropping{Builds: []Build{}}
	for _, name := range names {
		b, err := all.find(name)
		if err != nil {
			return nil, err
		}
		for _, n := range b.Needs {
			if n.Running && !anyway {
				return nil, tell.Advise(
					fmt.Errorf("%s is what %s runs: without it here an audit can't mend it, and going "+
						"back to it later means fetching it again", label(b), n.Server),
					"keep it; or, where its source will give it again: freshkeel builds drop "+name+" --anyway",
				)
			}
		}
		if !slices.ContainsFunc(d.Builds, func(x Build) bool { return x.ID == b.ID }) {
			d.Builds = append(d.Builds, *b)
			d.Freed += b.Alone
		}
	}
	return d, nil
}

func label(b *Build) string {
	if b.Layer != "" {
		return b.Layer + " " + version.OrUnknown(b.Version)
	}
	return version.OrUnknown(b.Version)
}

// find is the build that a name means.
func (h *Holding) find(name string) (*Build, error) {
	var found []*Build
	for i := range h.Builds {
		b := &h.Builds[i]
		if b.ID == name {
			return b, nil
		}
		if b.Version == name {
			found = append(found, b)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return nil, tell.Misuse("no build "+words.Quote(name)+" is kept", "freshkeel builds --kept")
	}
	var ids []string
	for _, b := range found {
		ids = append(ids, b.ID)
	}
	return nil, tell.Misuse(
		fmt.Sprintf("%d kept builds are of version %s: %s", len(found), name, strings.Join(ids, ", ")),
		"name one by its name in the locker; where each came from: freshkeel builds --kept",
	)
}

// Drop drops the builds of a plan and gives their space back. A server at which another command
// is at work may be about to use one: it is refused then.
func (kp *Keeper) Drop(ctx context.Context, d *Dropping) error {
	l, err := kp.Locker()
	if err != nil {
		return err
	}
	for _, b := range d.Builds {
		for _, n := range b.Needs {
			if n.Server == kp.Dir {
				continue // whose lock the caller has
			}
			p, err := profile.Read(n.Server)
			if err != nil {
				continue
			}
			if doing := install.New(n.Server, p, kp.Options).Busy(); doing != "" {
				return tell.Advise(
					fmt.Errorf("%s is of %s, where %s", label(&b), n.Server, doing),
					"try again when that has ended",
				)
			}
		}
	}
	_, err = kp.Step("drop", func() (string, error) {
		for _, b := range d.Builds {
			if err := written.Forget(kp.Home, b.ID); err != nil {
				return "", err
			}
			if err := l.Drop(locker.Builds, b.ID); err != nil && !errors.Is(err, locker.ErrNoSet) {
				return "", err
			}
			if err := kp.Halt("dropped"); err != nil {
				return "", err
			}
		}
		freed, err := l.GiveBack(ctx, kp.Halt)
		if errors.Is(err, locker.ErrBusy) {
			d.Freed, d.Later = 0, true
			return "something else is writing to the locker: the space is given back next time", nil
		}
		d.Freed = freed
		return words.Bytes(freed) + " given back", err
	})
	return err
}
