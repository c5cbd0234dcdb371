package mirror

import (
	"context"
	"io"
	"os"
	"path/filepath"

	"freshkeel/internal/locker"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"
)

// Brought says how a set of a copy is to stand here.
type Brought struct {
	As     string          // its number; "": the next free one
	Change func(*set.File) // what becomes of each entry; nil: it stays as it is
	Note   func(int64)     // hears stored bytes as they come; may be nil
}

// Bring takes a set of a copy, opened with Open, into a locker, with what it needs and
// the locker has not. Each piece is hashed. It returns the number under
// which the set stands here.
func Bring(ctx context.Context, l, from *locker.Locker, owner, id string, b Brought) (as string, err error) {
	set, err := from.Read(owner, id) // which holds it to its folder
	if err != nil {
		return "", err
	}
	w := l.Writer()
	defer w.Close()
	need, err := without(from, owner, id, func(sum tree.Sum) bool { _, has := l.Find(sum); return has })
	if err != nil {
		return "", err
	}
	if err := from.Frames(ctx, need, func(frame []byte, lines []index.Found) error {
		if b.Note != nil {
			b.Note(int64(len(frame)))
		}
		return w.AddFrame(frame, lines)
	}); err != nil {
		return "", err
	}
	if b.As != id || b.Change != nil {
		set.ID = b.As
		for i := range set.Entries {
			if b.Change != nil {
				b.Change(&set.Entries[i])
			}
		}
		err = w.PublishAs(set)
		return set.ID, err
	}
	if err := w.Flush(); err != nil {
		return "", err
	}
	return id, copySet(l, from, owner, id)
}

// copySet makes a set of a copy appear here, byte for byte as it is there: a push
// that mends compares the two.
func copySet(l, from *locker.Locker, owner, id string) error {
	path, err := from.Path(owner, id)
	if err != nil {
		return err
	}
	at, err := l.PathOf(owner, id)
	if err != nil {
		return err
	}
	in, err := tree.OpenRegular(path)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	return tree.WriteBy(at, 0o600, func(out io.Writer) error {
		_, err := io.Copy(out, in)
		return err
	})
}
