// Package staging lays out beside an install what a swap brings in, flushed, with its
// mode and owner, on the file system that it will stand on.
package staging

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
)

// Steps lays out what steps bring in, beside the install: new folders one by
// one, files and links many at a time.
func Steps(ctx context.Context, l *locker.Locker, run swap.Run, steps []swap.Step, find func(path string) *locker.File,
	each func(locker.Laying)) error {
	var list []locker.Laying
	for _, s := range steps {
		f := find(s.Path)
		switch {
		case f == nil || s.Do == swap.Remove || s.Do == swap.DropDir:
		case f.Kind == tree.Dir:
			if err := Lay(run, *f, func(at string) error { return l.Lay(at, *f) }); err != nil {
				return fmt.Errorf("%s: %w", s.Path, err)
			}
		default:
			list = append(list, locker.Laying{Full: run.Staged(s.Path), File: f})
		}
	}
	if len(list) == 0 {
		return nil
	}
	tops := run.Sides()
	for _, top := range tops {
		if err := tree.MakeDirs(top, 0o700); err != nil {
			return err
		}
	}
	return l.LayAll(ctx, list, 0o700, tops, each)
}

// Lay has one entry laid out where a run stages it; lay is given the full path.
func Lay(run swap.Run, f locker.File, lay func(at string) error) error {
	at := run.Staged(f.Path)
	if f.Kind == tree.Dir {
		at = run.StagedDir(f.Path)
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	return lay(at)
}

// Text writes an edited script beside the install, flushed, with the mode and
// owner of the one it takes the place of.
func Text(at string, text []byte, as tree.Entry) error {
	if err := tree.WriteFile(at, text, 0o600); err != nil {
		return err
	}
	as.Mtime = 0 // it is new
	return tree.Mend(at, as)
}

// Usable tells why files can't be staged in folders that are on file systems of
// their own.
func Usable(in *install.Install, places []string) error {
	for _, at := range places {
		e, _, err := tree.Describe(in.Path(at), at)
		if err != nil {
			return err
		}
		if err := tree.Writable(in.Path(at)); err != nil {
			return fmt.Errorf("%s, where files are staged by themselves, can't be written to: %w", at, err)
		}
		// Files that root stages must not lie where somebody else can exchange them.
		if os.Geteuid() == 0 && e.UID.Int() > 0 {
			return fmt.Errorf("%s, where files are staged by themselves, belongs to user %d, while root is to do that",
				at, e.UID)
		}
	}
	return nil
}
