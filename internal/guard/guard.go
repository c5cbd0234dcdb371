// Package guard keeps a service manager from starting a server while its files may be of two builds: at a
// boot after a power cut above all. A guard is laid over the units of the server before it is stopped, stands
// while a mark of the unit's does, and goes with the end of the run.
package guard

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/tree"
)

// Guard is over the units of one install.
type Guard struct{ *install.Install }

// New is the guard of an install.
func New(in *install.Install) Guard { return Guard{in} }

// laid is one unit that a guard was laid over.
type laid struct {
	Unit string `json:"unit"`
	User bool   `json:"user,omitempty"`
	Part string `json:"part,omitempty"`
}

// A mark is one file by unit, which is renamed: that needs no room on a full disk.
const (
	moving = ".moving"
	still  = ".still"
)

func (g Guard) folder() string { return g.State("guard") }

func (g Guard) list() string { return filepath.Join(g.folder(), "laid.json") }

// Mark is the file that stands while the files of a unit's server may be of two builds.
func Mark(in *install.Install, unit string) string {
	return in.State("guard", unit+moving)
}

// Lay lays the guard over each unit of the server that may be written, and tells which may not. What was laid
// is noted before it is.
func (g Guard) Lay() (not []string, err error) {
	if len(g.Self) == 0 {
		return nil, nil
	}
	var need []string
	for _, part := range g.All().Parts() {
		if sv := part.Service(); sv != nil && part.Outside() && !sv.User {
			need = append(need, sv.Name)
		}
	}
	var all []laid
	var over []*install.Install
	for _, part := range g.Parts() {
		sv := part.Service()
		if sv == nil || part.Outside() {
			continue
		}
		if u, err := sv.Unit(); err == nil && u.Guarded(Mark(g.Install, sv.Name)) { // by lines of the operator's
			all = append(all, laid{sv.Name, sv.User, part.PartName()})
			continue
		}
		if err := sv.MayGuard(Mark(g.Install, sv.Name)); err != nil {
			not = append(not, fmt.Sprintf("%s can't be kept from starting while files are exchanged: %v", sv.Name, err))
			continue
		}
		all, over = append(all, laid{sv.Name, sv.User, part.PartName()}), append(over, part)
	}
	if len(all) == 0 {
		return not, nil
	}
	if err := tree.MakeDirs(g.folder(), 0o700); err != nil {
		return not, err
	}
	for _, l := range all {
		if _, err := os.Lstat(Mark(g.Install, l.Unit)); err == nil {
			continue // of a run that goes back
		}
		if err := tree.WriteFile(filepath.Join(g.folder(), l.Unit+still), nil, 0o600); err != nil {
			return not, err
		}
	}
	b, err := json.Marshal(all)
	if err == nil {
		err = tree.WriteFile(g.list(), b, 0o600)
	}
	if err != nil {
		return not, err
	}
	for _, part := range over {
		sv := part.Service()
		if err := g.Halt("guard"); err != nil {
			return not, err
		}
		if err := sv.Guard(host.Guarding{Mark: Mark(g.Install, sv.Name), Home: g.Home, Need: need}, g.Self[0]); err != nil {
			return not, err
		}
	}
	return not, nil
}

func (g Guard) read() (all []laid, err error) {
	b, err := tree.ReadOwn(g.list())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &all)
	}
	return all, err
}

// Stands tells whether a guard was laid.
func (g Guard) Stands() bool {
	_, err := os.Lstat(g.list())
	return err == nil
}

// Moving sets the marks: files may be of two builds from now on.
func (g Guard) Moving() error { return g.rename(still, moving, nil) }

// Still takes the marks away, of some parts or of all: their units may start.
func (g Guard) Still(parts ...string) error { return g.rename(moving, still, parts) }

func (g Guard) rename(from, to string, parts []string) error {
	all, err := g.read()
	if err != nil || len(all) == 0 {
		return err
	}
	for _, l := range all {
		if parts != nil && !slices.Contains(parts, l.Part) {
			continue
		}
		at := filepath.Join(g.folder(), l.Unit)
		if err := tree.Rename(at+from, at+to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return tree.SyncDir(g.folder())
}

// TakeAway takes the guard away, marks first. It may be called again, and where there is none.
func (g Guard) TakeAway() error {
	all, err := g.read()
	if err != nil {
		return err
	}
	if err := g.Still(); err != nil {
		return err
	}
	for _, l := range all {
		if err := host.OpenService(l.Unit, l.User, "", nil, nil, g.Dir).Unguard(); err != nil {
			return err
		}
	}
	return os.RemoveAll(g.folder())
}
