package locker

import (
	"errors"
	"io"
	"sort"

	"freshkeel/internal/locker/cut"
	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"
)

// Content reads a stored file at any offset, holding one piece in memory. It
// is for one goroutine.
func (l *Locker) Content(f set.File) io.ReaderAt {
	return &content{l: l, pieces: f.PieceSums(), at: -1, r: reading{l: l}}
}

type content struct {
	l      *Locker
	pieces []tree.Sum
	from   []int64 // where each piece begins, and the end
	at     int     // which piece is held
	held   []byte
	r      reading
}

// starts finds out where each piece begins.
func (c *content) starts() error {
	if c.from != nil {
		return nil
	}
	from := make([]int64, 1, len(c.pieces)+1)
	for _, s := range c.pieces {
		p, ok := c.l.Find(s)
		if !ok { // told as damage, unless another process has just stored it
			b, err := c.l.piece(s)
			if err != nil {
				return err
			}
			p.Size = int32(len(b))
		}
		from = append(from, from[len(from)-1]+int64(p.Size))
	}
	c.from = from
	return nil
}

func (c *content) ReadAt(b []byte, off int64) (n int, err error) {
	if err := c.starts(); err != nil {
		return 0, err
	}
	for n < len(b) {
		want := off + int64(n)
		if want < 0 || want >= c.from[len(c.from)-1] {
			return n, io.EOF
		}
		i := sort.Search(len(c.pieces), func(i int) bool { return c.from[i+1] > want })
		if i != c.at {
			c.held, err = c.r.piece(c.pieces[i])
			c.r.close() // nobody says when the last was read; what is held stays
			if c.at = i; err != nil {
				c.at = -1
				return n, err
			}
		}
		n += copy(b[n:], c.held[want-c.from[i]:])
	}
	return n, nil
}

// Same tells whether what r holds is a stored file's content: by its hash, else by
// its pieces.
func (l *Locker) Same(r io.Reader, f set.File) (bool, error) {
	if !f.Sum.IsZero() {
		h := tree.NewHash()
		_, err := io.Copy(h, r)
		return h.Sum() == f.Sum, err
	}
	buf := make([]byte, 2*frame.Max)
	at, held, ended := 0, 0, false
	for _, want := range f.PieceSums() {
		if held-at < frame.Max && !ended {
			held, at = copy(buf, buf[at:held]), 0
			n, err := fill(r, buf[held:])
			held += n
			if ended = errors.Is(err, io.EOF); err != nil && !ended {
				return false, err
			}
		}
		n := cut.Next(buf[at:held]) // as good a guess as any where the piece is lost
		if p, ok := l.Find(want); ok {
			n = int(p.Size)
		}
		if n > held-at || cut.Sum(buf[at:at+n]) != want {
			return false, nil
		}
		at += n
	}
	if at < held {
		return false, nil
	}
	n, err := io.ReadFull(r, buf[:1])
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n == 0 && err == nil, err
}
