package set

import (
	"bufio"
	"errors"
	"fmt"
	"io"

	"freshkeel/internal/locker/frame"
	"freshkeel/internal/tree"
)

// Base is an earlier set, or an earlier pass over the same folder: what proves
// that files were not written to since. It is read once, in order.
type Base struct {
	blocks  []block
	entries func(i int) ([]File, error) // of a block, once each, in order
	Close   func()
	total   int // entries that the set's end says it has
	Doubts  bool
	Stored  bool // a pass of this very writer found its pieces
}

// Doubted is the base for a pass that reads everything: it proves nothing, and tells
// only what files were cut into. b may be nil.
func (b *Base) Doubted() *Base {
	if b != nil {
		b.Doubts = true
	}
	return b
}

// Base is what a pass found, for the next pass.
func (t *Taken) Base() *Base {
	blocks := t.blocks
	if t.compact {
		b := &Base{Stored: true, blocks: blocks, total: t.total}
		b.readAhead("the pass before", func(i int) ([]byte, error) { return b.rawOf(i), nil })
		return b
	}
	if blocks == nil {
		blocks = blocksOf(t.Entries)
	}
	return &Base{Stored: true, blocks: blocks, total: len(t.Entries),
		entries: func(i int) ([]File, error) { return t.Entries[blocks[i].from : blocks[i].from+blocks[i].n], nil },
		Close:   func() {}}
}

// Open opens the set in the file at p as the base of a pass.
func Open(p string) (*Base, error) { return open(p, false) }

// Look is Open for one who only goes through it once: it is good for no pass, and takes the
// room of a few blocks.
func Look(p string) (*Base, error) { return open(p, true) }

func open(p string, look bool) (*Base, error) {
	// It is opened once: another command may drop it meanwhile.
	f, err := tree.OpenRegular(p)
	if err != nil {
		return nil, NoSet(p, err)
	}
	keep := false
	defer func() {
		if !keep {
			f.Close()
		}
	}()
	frames, err := framesOf(f, p, look)
	if errors.Is(err, frame.ErrNoMark) { // written in one frame
		s, err := Read(p)
		if err != nil {
			return nil, err
		}
		return (&Taken{Entries: s.Entries}).Base(), nil
	}
	if err != nil {
		return nil, err
	}
	b := &Base{}
	if len(frames) < 2 {
		return nil, &Damage{Where: p, Why: "it is cut short"}
	}
	if b.total, err = endOf(frames); err != nil {
		return nil, &Damage{Where: p, Why: err.Error()}
	}
	for _, raw := range frames[1 : len(frames)-1] {
		b.blocks = append(b.blocks, block{raw: raw})
	}
	if !look {
		b.readAhead(p, func(i int) ([]byte, error) { return b.rawOf(i), nil })
		return b, nil
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	r := bufio.NewReaderSize(f, 64<<10)
	if _, err := frame.ReadMarked(r); err != nil { // the head
		return nil, &Damage{Where: p, Why: err.Error()}
	}
	keep = true
	b.readAhead(p, func(i int) ([]byte, error) {
		if i == len(b.blocks) {
			return nil, f.Close()
		}
		return frame.ReadMarked(r)
	})
	return b, nil
}

// readAhead has the entries of a base read from its blocks' frames, which raw gives one
// after the other; behind the last it is told that there are no more. where names what
// they are of, for damage.
func (b *Base) readAhead(where string, raw func(i int) ([]byte, error)) {
	// Blocks are read ahead, while the folder is still walked.
	type read struct {
		entries []File
		err     error
	}
	ahead := make([]chan read, len(b.blocks))
	for i := range ahead {
		ahead[i] = make(chan read, 1)
	}
	done := make(chan struct{})
	room := make(chan struct{}, 8) // some 1.5 MB of entries
	go func() {
		defer func() { // whoever still asks is told
			raw(len(ahead))
			for _, c := range ahead {
				close(c)
			}
		}()
		var each lines
		var text []byte
		for i := range ahead {
			select {
			case room <- struct{}{}:
			case <-done:
				return
			}
			var r read
			stored, err := raw(i)
			if r.err = err; err == nil {
				if text, r.err = frame.Inflate(stored, text[:0]); r.err == nil {
					r.entries, r.err = each.all(text, nil)
				}
			}
			if r.err != nil {
				r.err = &Damage{Where: where, Why: r.err.Error()}
			}
			ahead[i] <- r
		}
	}()
	from := 0
	b.entries = func(i int) ([]File, error) {
		r, ok := <-ahead[i]
		if !ok {
			return nil, errors.New("the set was closed")
		}
		<-room
		b.blocks[i].from, b.blocks[i].n = from, len(r.entries)
		from += len(r.entries)
		return r.entries, r.err
	}
	b.Close = func() { close(done) }
}

// rawOf is a block's frame; nil behind the last.
func (b *Base) rawOf(i int) []byte {
	if i == len(b.blocks) {
		return nil
	}
	return b.blocks[i].raw
}

// Each reads the entries one after the other, and uses the base up. where is what damage
// is told of.
func (b *Base) Each(where string, each func(*File)) error {
	defer b.Close()
	n := 0
	for i := range b.blocks {
		list, err := b.entries(i)
		if err != nil {
			return err
		}
		n += len(list)
		for k := range list {
			each(&list[k])
		}
	}
	if n != b.total {
		return &Damage{Where: where, Why: fmt.Sprintf("it has %d entries, its end says %d", n, b.total)}
	}
	return nil
}

// Merge goes through entries and a base side by side, both sorted by path. It
// tells, for each entry, what the base has of that path: nil where nothing.
type Merge struct {
	base  *Base
	block int
	list  []File
	at    int // in list
	count int // entries passed, all blocks
	Err   error
}

// Merge begins to go through a base, which may be nil.
func (b *Base) Merge() *Merge { return &Merge{base: b} }

// Find is what the base has of a path, and its position there; nil and -1 where it has
// nothing. Paths are asked for in order.
func (m *Merge) Find(path string) (old *File, position int) {
	for m.base != nil && m.Err == nil {
		for m.at == len(m.list) {
			if m.block == len(m.base.blocks) {
				return nil, -1
			}
			m.list, m.Err = m.base.entries(m.block)
			m.at = 0
			m.block++
			if m.Err != nil {
				return nil, -1
			}
		}
		f := &m.list[m.at]
		switch {
		case f.Path < path:
			m.at++
			m.count++
		case f.Path == path:
			return f, m.count
		default:
			return nil, -1
		}
	}
	return nil, -1
}

// Unproven is how many bytes of entries, sorted by path, the base does not prove
// to be stored. It uses the base up.
func (b *Base) Unproven(list []tree.Entry) (bytes int64) {
	if b != nil {
		defer b.Close()
	}
	m := b.Merge()
	for _, e := range list {
		if old, _ := m.Find(e.Path); old == nil || !e.SameIdentity(old.Entry) {
			bytes += e.Size
		}
	}
	return bytes
}
