package locker

import (
	"context"
	"fmt"
	"io"
	"slices"

	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"
)

// Reader reads many files one after the other: for one goroutine, to be closed.
type Reader struct{ r reading }

// Reader begins reading.
func (l *Locker) Reader() *Reader { return &Reader{r: reading{l: l}} }

// Close closes the packs that it held open.
func (r *Reader) Close() { r.r.close() }

// Copy writes a stored file's content to w, each piece checked against its
// hash and the whole against the file's, where it is known.
func (l *Locker) Copy(w io.Writer, f set.File) error {
	r := l.Reader()
	defer r.Close()
	return r.Copy(w, f)
}

// Copy is the locker's, for a reader of many files.
func (r *Reader) Copy(w io.Writer, f set.File) error {
	var whole *tree.Hash
	pieces := f.PieceSums()
	if !f.Sum.IsZero() && len(pieces) != 1 { // a single piece has been checked
		h := tree.NewHash()
		whole = &h
	}
	for _, s := range pieces {
		b, err := r.r.piece(s)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		if whole != nil {
			whole.Write(b)
		}
		if _, err := w.Write(b); err != nil {
			return err
		}
	}
	var got tree.Sum
	switch {
	case whole != nil:
		got = whole.Sum()
	case len(pieces) == 1 && !f.Sum.IsZero():
		got = pieces[0]
	default:
		return nil
	}
	if got != f.Sum {
		return fmt.Errorf("%s: %w", f.Path,
			&set.Damage{Where: r.r.l.dir, Why: "its pieces together hash to " + got.Short() + ", the set says " +
				f.Sum.Short()})
	}
	return nil
}

// Frames goes through the frames that hold pieces, in the order in which they lie,
// each piece hashed. What each is given holds until it returns.
func (l *Locker) Frames(ctx context.Context, need []tree.Sum,
	each func(stored []byte, lines []index.Found) error) error {
	list := make([]index.Found, 0, len(need))
	for _, s := range need {
		in, _, ok := l.seek(s)
		if !ok { // told with all that is known, unless another process has just stored it
			if _, err := l.piece(s); err != nil {
				return err
			}
			in, _, _ = l.seek(s)
		}
		list = append(list, in)
	}
	slices.SortFunc(list, func(a, b index.Found) int { return a.Compare(b.Place) })
	r := &reading{l: l}
	defer r.close()
	for len(list) > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := 1
		for n < len(list) && list[n].Pack == list[0].Pack && list[n].Off == list[0].Off {
			n++
		}
		r.forget() // so that what is held is this frame as it is stored
		for _, ln := range list[:n] {
			if _, err := r.piece(ln.Sum); err != nil {
				return err
			}
		}
		if err := each(r.stored, list[:n]); err != nil {
			return err
		}
		list = list[n:]
	}
	return nil
}
