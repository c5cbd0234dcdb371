package locker

import (
	"bytes"
	"errors"
	"io/fs"
	"os"

	"freshkeel/internal/locker/cut"
	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
)

// reading is what a reader keeps from piece to piece: packs that are open, as many as
// pieces may lie over each other, and the last frames, since neighbours lie side by
// side: in as many frames as there were cores when they were stored.
type reading struct {
	l      *Locker
	packs  [index.MaxOver + 1]openPack
	oldest int    // of those
	stored []byte // of the frame that was read last
	frames [4]heldFrame
	next   int // which of them goes next
	last   int // which was asked for last
}

type heldFrame struct {
	pack    string // "": none
	off     int64
	content []byte
}

type openPack struct {
	name string
	f    *os.File
}

func (r *reading) close() {
	for i := range r.packs {
		if p := &r.packs[i]; p.f != nil {
			p.f.Close()
			*p = openPack{}
		}
	}
	r.forget()
}

// open opens a pack, and keeps it open.
func (r *reading) open(pack string) (*os.File, error) {
	for _, p := range r.packs {
		if p.name == pack {
			return p.f, nil
		}
	}
	f, err := r.l.files.Open(pack)
	if err != nil {
		return nil, err
	}
	p := &r.packs[r.oldest]
	if r.oldest = (r.oldest + 1) % len(r.packs); p.f != nil {
		p.f.Close()
	}
	*p = openPack{pack, f}
	return f, nil
}

// forget has the next piece read from its pack in any case.
func (r *reading) forget() {
	for i := range r.frames {
		r.frames[i].pack = ""
	}
}

// piece reads one piece and checks its hash.
func (l *Locker) piece(s tree.Sum) ([]byte, error) {
	r := &reading{l: l}
	defer r.close()
	return r.piece(s)
}

// piece reads one piece and checks its hash. What it returns holds until the next.
func (r *reading) piece(s tree.Sum) ([]byte, error) {
	in, pack, b, err := r.unchecked(s)
	if err != nil || cut.Sum(b) == s {
		return b, err
	}
	got := cut.Sum(b)
	if !in.Base.IsZero() { // it may be that one which is damaged
		if _, err := r.piece(in.Base); err != nil {
			return nil, err
		}
	}
	return nil, &set.Damage{Where: r.l.files.Shown(pack), Piece: s.String(),
		Why: "its content hashes to " + got.Short()}
}

// unchecked is piece without the hash check; the caller hashes the piece, or what lies over it.
func (r *reading) unchecked(s tree.Sum) (in index.Found, pack string, _ []byte, err error) {
	l := r.l
	in, pack, ok := l.seek(s)
	if !ok { // another process may have stored it since
		if err := l.refresh(); err != nil {
			return in, pack, nil, err
		}
		if in, pack, ok = l.seek(s); !ok {
			d := &set.Damage{Where: l.dir, Piece: s.String(), Why: "no index names it"}
			l.mu.RLock()
			defer l.mu.RUnlock()
			for _, known := range l.damage {
				d.Why += "; " + known.Error()
			}
			return in, pack, nil, d
		}
	}
	bad := func(why string) error { return &set.Damage{Where: l.files.Shown(pack), Piece: s.String(), Why: why} }
	frame, err := r.frame(pack, in)
	if errors.Is(err, fs.ErrNotExist) {
		gone := err
		if err = l.files.Moved(pack, gone); err == nil {
			l.forget()
			err = gone
			if now, at, ok := l.seek(s); ok {
				in, pack = now, at
				frame, err = r.frame(pack, in)
			}
		}
	}
	if notDamage(err) || errors.As(err, new(*set.Damage)) { // of what it lies over
		return in, pack, nil, err
	}
	if err != nil {
		return in, pack, nil, bad(err.Error())
	}
	if int(in.At)+int(in.Size) > len(frame) {
		return in, pack, nil, bad("its frame is too short for it")
	}
	return in, pack, frame[in.At : in.At+in.Size], nil
}

// frame brings the frame that a piece lies in.
func (r *reading) frame(pack string, in index.Found) (_ []byte, err error) {
	for i := range r.frames {
		if h := &r.frames[i]; h.pack == pack && h.off == in.Off {
			r.last = i
			return h.content, nil
		}
	}
	var base []byte
	if !in.Base.IsZero() {
		if _, _, base, err = r.unchecked(in.Base); err != nil {
			return nil, err
		}
		if r.next == r.last { // which base is a part of
			r.next = (r.next + 1) % len(r.frames)
		}
	}
	f, err := r.open(pack)
	if err != nil {
		return nil, err
	}
	r.stored = frame.Roomy(r.stored, int(in.Stored))[:in.Stored]
	if _, err := f.ReadAt(r.stored, in.Off); err != nil {
		return nil, errors.New("the pack is cut short")
	}
	if held := &r.frames[r.last]; base != nil && len(base) == len(held.content) && frame.UnlayIn(base, r.stored) {
		held.pack, held.off = pack, in.Off // which held the other, and nothing else
		return held.content, nil
	}
	h := &r.frames[r.next]
	h.pack, r.last, r.next = "", r.next, (r.next+1)%len(r.frames)
	h.content = frame.Roomy(h.content, max(int(in.At+in.Size), len(r.stored)))
	content, ok := frame.Unlaid(h.content[:0], r.stored, base) // or raw, which the library copies twice
	switch {
	case ok:
	case base != nil:
		content, err = frame.Unlay(h.content[:0], r.stored, base)
	default:
		d := r.l.dec.Get().(*zstd.Decoder)
		defer r.l.dec.Put(d)
		content, err = d.DecodeAll(r.stored, h.content[:0])
	}
	if h.content = content; err != nil {
		return nil, err
	}
	if len(h.content) > frame.Max {
		return nil, errors.New("its frame is too long")
	}
	h.pack, h.off = pack, in.Off
	return h.content, nil
}

// stretch is a part of a piece; unchecked, like unchecked. It holds until the next.
func (sc *scratch) stretch(s tree.Sum, from, n int) ([]byte, error) {
	if cap(sc.part) < n {
		sc.part = make([]byte, n, max(n, 2*printed))
	}
	out := sc.part[:n]
	return out, sc.read.stretch(s, from, out)
}

// stretch reads a part of a piece into out.
func (r *reading) stretch(s tree.Sum, from int, out []byte) error {
	if in, pack, ok := r.l.seek(s); ok && r.stretchOf(pack, in, from, out) {
		return nil
	}
	_, _, whole, err := r.unchecked(s) // it says why the piece can't be read, too
	if err != nil {
		return err
	}
	if copy(out, whole[min(from, len(whole)):]) < len(out) {
		return errors.New("the piece is shorter than its index says")
	}
	return nil
}

// stretchOf reads a stretch where no more than that need be read: of a piece that is stored
// raw, or over another. False for any other, and where it can't be read.
func (r *reading) stretchOf(pack string, in index.Found, from int, out []byte) bool {
	f, err := r.open(pack)
	if err != nil {
		return false
	}
	read := func(off, n int) bool {
		r.stored = frame.Roomy(r.stored, n)[:n]
		_, err := f.ReadAt(r.stored, in.Off+int64(off))
		return err == nil
	}
	size, to := int(in.Size), from+len(out)
	if to > size {
		return false
	}
	if !in.Base.IsZero() {
		base, _, ok := r.l.seek(in.Base)
		if !ok || !read(0, int(in.Stored)) {
			return false
		}
		var below []frame.Match // in out, and where it is in the other
		n, ok := frame.Layings(r.stored, func(at, was, n int, b []byte) bool {
			lo, hi := max(at, from), min(at+n, to)
			switch {
			case lo >= hi:
			case b != nil:
				copy(out[lo-from:], b[lo-at:hi-at])
			default:
				below = append(below, frame.Match{Was: was + lo - at, Is: lo - from, N: hi - lo})
			}
			return true
		}, int(base.Size))
		if !ok || n != size {
			return false
		}
		for _, s := range below {
			if r.stretch(in.Base, s.Was, out[s.Is:s.Is+s.N]) != nil {
				return false
			}
		}
		return true
	}
	// A frame that is as long as raw blocks make it has no others: those of any other
	// kind are shorter than what they hold.
	const head, each = 9, 3 + frame.MaxBlock
	if in.At > 0 || int(in.Stored) != head+size+3*((size+frame.MaxBlock-1)/frame.MaxBlock) || !read(0, head) ||
		!bytes.Equal(r.stored, frame.Head(nil, size)) {
		return false
	}
	for i := from / frame.MaxBlock; i*frame.MaxBlock < to; i++ {
		at, n := i*frame.MaxBlock, min(frame.MaxBlock, size-i*frame.MaxBlock)
		if !read(head+i*each, 3) || !bytes.Equal(r.stored, frame.BlockHead(nil, 0, n, at+n == size)) {
			return false
		}
		lo, hi := max(from, at), min(to, at+n)
		if _, err := f.ReadAt(out[lo-from:hi-from], in.Off+int64(head+i*each+3+lo-at)); err != nil {
			return false
		}
	}
	return true
}
