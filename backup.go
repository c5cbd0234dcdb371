package freshkeel

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"freshkeel/internal/host"
	"freshkeel/internal/locker"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Backup is a stored backup, without its entries.
type Backup = locker.Set

// TakeBackup backs the install up as it is, the server running or not, or the
// part of it that is chosen. A running server is told by the profile's console
// lines to save before and to go on after. moving names the files that would not
// hold still while they were read.
func (k *Keel) TakeBackup(ctx context.Context, label string, part Choice) (set *Backup, moving []string, err error) {
	for _, pats := range []tree.Patterns{part.Only, part.Leave} {
		if err := pats.Check(); err != nil {
			return nil, nil, tell.Misuse(err.Error(), "")
		}
	}
	unlock, err := k.begin(ctx, "backup")
	if err != nil {
		return nil, nil, err
	}
	defer unlock()
	l, err := k.in.Locker()
	if err != nil {
		return nil, nil, err
	}
	inv, err := k.inv.Head()
	if err != nil {
		return nil, nil, err
	}
	w := l.Writer()
	w.PiecesAlone = true
	defer w.Close()
	release, err := k.quiet(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer release()
	base, err := k.lastBackup(l)
	if err != nil {
		return nil, nil, err
	}
	if part.Reread {
		base = base.Doubted()
	}
	_, err = k.in.Step("backup", func() (string, error) {
		taken, err := w.Take(ctx, k.in.Dir, k.in.Profile.Server.Skip, part.takes(), base, k.in.Moves("backup"))
		if err != nil {
			return "", err
		}
		if len(part.Only) == 0 {
			if err := k.dumpData(ctx, w, taken); err != nil {
				return "", err
			}
		}
		release()
		k.tellLinks(taken)
		moving = taken.Moving
		k.doubt(taken)
		set = &locker.Set{Version: inv.Version, Label: label, Only: part.Only, Left: part.Leave}
		if err = k.publish(w, taken, set); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s: %s, %s, %s new in the locker", set.ID, words.Plural(set.Files, "file"), words.Bytes(set.Bytes), words.Bytes(set.New)), nil
	})
	return set, moving, err
}

// tellLinks names what a backup has as a link alone: what lies behind one that leads
// out of the install is not in it.
func (k *Keel) tellLinks(t *locker.Taken) {
	for _, f := range t.Entries {
		if f.Kind == tree.Link && k.in.LeadsOut(f.Entry) {
			k.in.Warn("%s is a link to %s, outside the install: what lies there is not in this backup", f.Path, f.Target)
		}
	}
}

// quiet has a running server save, and hold still until release is called: by
// the profile's own console lines. It may be called more than once.
func (k *Keel) quiet(ctx context.Context) (release func(), err error) {
	b := k.in.Profile.Backup
	if len(b.Before)+len(b.After) == 0 || !k.in.RunDir().Status().Running {
		return func() {}, nil
	}
	var once sync.Once
	_, err = k.in.Step("quiet", func() (string, error) {
		from := int64(0)
		if fi, err := os.Stat(k.in.RunDir().Console()); err == nil {
			from = fi.Size()
		}
		let, err := k.in.RunDir().Hold(b.Before, b.After)
		if err != nil {
			return "", fmt.Errorf("tell the server to save: %w", err)
		}
		release = func() { once.Do(let) }
		if !b.Saved.Given() {
			return "told: " + strings.Join(b.Before, ", "), nil
		}
		said, err := host.Await(ctx, k.in.RunDir().Console(), from, b.Wait.Std(), func(l string) bool { return b.Saved.MatchString(words.Printable(l)) })
		if err != nil {
			release()
			return "", tell.Advise(fmt.Errorf("no line that matches %s came within %s of %q", words.Quote(b.Saved.String()), b.Wait, strings.Join(b.Before, ", ")), "compare [backup] saved with what the server says: freshkeel log")
		}
		return said, k.in.Halt("quiet")
	})
	if err != nil && release != nil {
		release()
	}
	return release, err
}

// Backups lists the install's backups, oldest first.
func (k *Keel) Backups() ([]*Backup, error) {
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	id, err := k.in.Identity()
	if err != nil {
		return nil, err
	}
	return l.Heads(id)
}

// restoreElsewhere lays a backup out in a new folder.
func (k *Keel) restoreElsewhere(ctx context.Context, entries []locker.File, r Restore) error {
	to, err := filepath.Abs(r.To)
	if err != nil {
		return err
	}
	if list, err := os.ReadDir(to); err == nil && len(list) > 0 {
		return tell.Misuse(to+" is not empty", "name a folder that does not exist yet")
	}
	if tree.Inside(k.in.Dir, to) {
		return tell.Misuse(to+" lies in the install", "name a folder elsewhere, or leave --to away to restore into the install")
	}
	l, err := k.in.Locker()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	_, err = k.in.Step("restore", func() (string, error) {
		var dirs []*locker.File
		var files []locker.Laying
		var total, done int64
		var change func(*locker.File)
		if k.in.Elsewhere() { // a copy's
			change = r.Owners.change()
		}
		for i := range entries {
			f := &entries[i]
			if change != nil {
				change(f)
			}
			switch {
			case tree.Ours(f.Path), len(r.Only) > 0 && !r.Only.Match(f.Path):
			case !tree.Makeable(f.Path):
				k.in.Warn("left out, since this system can't have its name: %s", f.Path)
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
		moves := k.in.Moves("restore")
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
