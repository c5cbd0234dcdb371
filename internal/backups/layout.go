package backups

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Restore says what of a backup to bring back, and where.
type Restore struct {
	Backup string        `json:"backup"`
	Only   tree.Patterns `json:"only,omitempty"`   // none: everything
	To     string        `json:"to,omitempty"`     // another folder; "": into the install
	Live   bool          `json:"live,omitempty"`   // some files of the operator's own, while the server runs on
	Of     string        `json:"of,omitempty"`     // the folder that it was taken of, where that is another one
	Owners Owners        `json:"owners,omitempty"` // of a copy's files, where root restores them
	Data   string        `json:"data,omitempty"`   // into the install: what becomes of data outside, LoadData or LeaveData
}

// What a restore of a whole backup does to the data outside the install: that undoes what was written since,
// so one of the two is to be said.
const (
	LoadData  = "load"
	LeaveData = "leave"
)

// Chosen makes the patterns that a person typed those of a backup's files. One that matches none is a tell.Usage.
func (sh *Shelf) Chosen(set *locker.Set, typed tree.Patterns) (tree.Patterns, error) {
	pats, err := tree.Chosen(typed, sh.Dir, func(yield func(string, bool) bool) {
		for i := range set.Entries {
			if e := &set.Entries[i]; !yield(e.Path, e.Kind == tree.Dir) {
				return
			}
		}
	}, words.Near)
	if err != nil {
		return nil, tell.Misuse(err.Error(), "freshkeel backup show "+set.ID+" lists what is in it")
	}
	return pats, nil
}

// LayOut lays a backup, or the part of it that r says, out in a new folder. The error is a
// tell.Usage where that is not empty or lies in the install.
func (sh *Shelf) LayOut(ctx context.Context, r Restore) error {
	set, err := sh.ReadMeant(r.Backup)
	if err != nil {
		return err
	}
	if r.Only, err = sh.Chosen(set, r.Only); err != nil {
		return err
	}
	entries := set.Entries
	to, err := filepath.Abs(r.To)
	if err != nil {
		return err
	}
	if list, err := os.ReadDir(to); err == nil && len(list) > 0 {
		return tell.Misuse(to+" is not empty", "name a folder that does not exist yet")
	}
	if tree.Inside(sh.Dir, to) {
		return tell.Misuse(to+" lies in the install",
			"name a folder elsewhere, or leave --to away to restore into the install")
	}
	l, err := sh.Locker()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	if err := install.Settled(to); err != nil {
		return err
	}
	_, err = sh.Step("restore", func() (string, error) {
		var dirs []*locker.File
		var files []locker.Laying
		var total, done int64
		var change func(*locker.File)
		if sh.FromCopy() { // a copy's
			change = r.Owners.Change()
		}
		for i := range entries {
			f := &entries[i]
			if change != nil {
				change(f)
			}
			switch {
			case tree.Ours(f.Path), len(r.Only) > 0 && !r.Only.Match(f.Path):
			case !tree.Makeable(f.Path):
				sh.Warn("left out, since this system can't have its name: %s", f.Path)
			case f.Kind == tree.Dir:
				dirs = append(dirs, f)
			default:
				files = append(files, locker.Laying{Full: filepath.Join(to, filepath.FromSlash(f.Path)), File: f})
				total += f.Size
			}
		}
		for _, d := range dirs { // a mode comes last: it may forbid filling it
			if err := os.MkdirAll(filepath.Join(to, filepath.FromSlash(d.Path)), 0o755); err != nil {
				return "", err
			}
		}
		moves := sh.Moves("restore")
		if err := l.LayAll(ctx, files, 0o755, []string{to}, func(one locker.Laying) {
			done += one.File.Size
			moves(done, total)
		}); err != nil {
			return "", fmt.Errorf("restore %w", err)
		}
		slices.SortFunc(dirs, func(a, b *locker.File) int { return strings.Compare(b.Path, a.Path) })
		for _, d := range dirs {
			if err := tree.Mend(filepath.Join(to, filepath.FromSlash(d.Path)), d.Entry); err != nil {
				return "", err
			}
		}
		if _, err := tree.FlushAll(to); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s from %s into %s", words.Plural(len(files), "file"), r.Backup, to), nil
	})
	return err
}

// Owners says what becomes of the owners, the setuid and setgid bits and the
// capabilities that a copy's files have. A copy has been in other hands, so that
// root gives none of them out unless that is asked for; nobody else could.
type Owners bool

// Change is what becomes of each entry; nil: nothing.
func (o Owners) Change() func(*locker.File) {
	if o == AsIs || os.Geteuid() != 0 {
		return nil
	}
	return func(f *locker.File) {
		f.UID, f.GID = 0, 0
		f.Mode &^= fs.ModeSetuid | fs.ModeSetgid
		delete(f.Xattr, "security.capability")
	}
}

const (
	Tamed Owners = false // root's, without such rights
	AsIs  Owners = true  // as the copy has them
)
