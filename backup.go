package freshkeel

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
)

// Backup is a stored backup, without its entries.
type Backup = locker.Set

// TakeBackup backs the install up as it is, the server running or not. moving
// names the files that would not hold still while they were read.
func (k *Keel) TakeBackup(ctx context.Context, label string) (set *Backup, moving []string, err error) {
	unlock, err := k.begin(ctx, "backup")
	if err != nil {
		return nil, nil, err
	}
	defer unlock()
	l, err := k.locker()
	if err != nil {
		return nil, nil, err
	}
	base, err := k.lastBackup(l)
	if err != nil {
		return nil, nil, err
	}
	inv, err := k.installed()
	if err != nil {
		return nil, nil, err
	}
	w := l.Writer()
	defer w.Close()
	_, err = k.step("backup", func() (string, error) {
		taken, err := w.Take(ctx, k.Dir, k.Profile.Server.Skip, base, k.moves("backup"))
		if err != nil {
			return "", err
		}
		moving = taken.Moving
		k.doubt(taken)
		if set, err = k.publish(w, taken, inv.Version, label); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s: %s, %s, %s new in the locker", set.ID, plural(set.Files, "file"), Bytes(set.Bytes), Bytes(set.New)), nil
	})
	return set, moving, err
}

// Backups lists the install's backups, oldest first.
func (k *Keel) Backups() ([]*Backup, error) {
	l, err := k.locker()
	if err != nil {
		return nil, err
	}
	id, err := k.identity()
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
		return &Usage{to + " is not empty", "name a folder that does not exist yet"}
	}
	if tree.Inside(k.Dir, to) {
		return &Usage{to + " lies in the install", "name a folder elsewhere, or leave --to away to restore into the install"}
	}
	l, err := k.locker()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	_, err = k.step("restore", func() (string, error) {
		n := 0
		var dirs []locker.File
		for _, f := range entries {
			if err := ctx.Err(); err != nil {
				return "", err
			}
			if len(r.Only) > 0 && !r.Only.Match(f.Path) {
				continue
			}
			full := filepath.Join(to, filepath.FromSlash(f.Path))
			if err := os.MkdirAll(filepath.Join(to, filepath.FromSlash(path.Dir(f.Path))), 0o755); err != nil {
				return "", err
			}
			if f.Kind == tree.Dir { // its mode comes last: it may forbid filling it
				if err := os.MkdirAll(full, 0o755); err != nil {
					return "", err
				}
				dirs = append(dirs, f)
				continue
			}
			if err := l.Lay(full, f); err != nil {
				return "", fmt.Errorf("restore %s: %w", f.Path, err)
			}
			n++
		}
		slices.SortFunc(dirs, func(a, b locker.File) int { return strings.Compare(b.Path, a.Path) })
		for _, d := range dirs {
			if err := tree.Mend(filepath.Join(to, filepath.FromSlash(d.Path)), d.Entry); err != nil {
				return "", err
			}
		}
		return fmt.Sprintf("%s from %s into %s", plural(n, "file"), r.Backup, to), nil
	})
	return err
}
