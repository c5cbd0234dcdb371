package set

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"freshkeel/internal/locker/frame"
	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
)

// Carried is how many blocks of a pass are ready to be written: those that the base has as
// they are, and those that were prepared.
func (t *Taken) Carried() (n, all int) {
	for _, b := range t.blocks {
		if b.raw != nil {
			n++
		}
	}
	return n, len(t.blocks)
}

// A set's lines are compressed in blocks, each a zstd frame of its own, so that a
// block of which nothing changed is copied from the set before as it stands. In
// front of each frame stands a skippable frame (RFC 8878, section 3.1.2) that
// says how long it is; the zstd program passes over those.

// blockLines is how many lines a block has at most.
const blockLines = 1024

// endsBlock tells whether a block ends behind a path. It is the path that
// decides, so that a new file moves no end but its own block's.
func endsBlock(path string) bool {
	h := uint64(14695981039346656037) // FNV-1a
	for i := 0; i < len(path); i++ {
		h = (h ^ uint64(path[i])) * 1099511628211
	}
	h ^= h >> 33 // short names differ in the low bits alone
	h *= 0xff51afd7ed558ccd
	return h>>56 == 0
}

// block is some lines of a set, one after the other.
type block struct {
	from, n int    // entries
	raw     []byte // its frame, where it is known already
}

// blocksOf parts entries into blocks.
func blocksOf(entries []File) (out []block) {
	b := block{}
	for i := range entries {
		if b.n++; b.n == blockLines || endsBlock(entries[i].Path) {
			out = append(out, b)
			b = block{from: i + 1}
		}
	}
	if b.n > 0 {
		out = append(out, b)
	}
	return out
}

func blockText(text []byte, entries []File) (_ []byte, err error) {
	for i := range entries {
		if text, err = appendLine(text, &entries[i]); err != nil {
			return nil, err
		}
	}
	return text, nil
}

// Taken is what one pass over a folder found.
type Taken struct {
	Entries []File
	Read    int64 // bytes that had to be read
	Moving  []string
	Doubt   error // the base was damaged: what lies behind that was read again

	blocks []block // of Entries, with the frames that the base has of them

	compact bool // Entries are let go of; the blocks have their frames
	total   int  // how many they were
}

// Fill gives a set the entries of a pass.
func (t *Taken) Fill(s *Set) { s.Entries, s.blocks = t.Entries, t.blocks }

// Insert adds an entry that no file of the folder is.
func (t *Taken) Insert(f File) {
	i, _ := slices.BinarySearchFunc(t.Entries, f.Path,
		func(e File, path string) int { return strings.Compare(e.Path, path) })
	t.Entries = slices.Insert(t.Entries, i, f)
	t.blocks = nil
}

// Settle gives a pass the entries that it found, and those of their blocks that the base
// has as they are. was holds each entry's position in the base, -1 for one that is not the
// same.
func (t *Taken) Settle(entries []File, base *Base, was []int) {
	t.Entries, t.blocks = entries, blocksOf(entries)
	carry(t.blocks, base, was)
}

// Prepare compresses the blocks of a pass ahead of time, so that the next pass,
// for which a server has to be down, has only those to do that changed since.
func (t *Taken) Prepare() error {
	enc := frame.Encoders.Get().(*zstd.Encoder)
	defer frame.Encoders.Put(enc)
	var text, comp []byte
	for i := range t.blocks {
		b := &t.blocks[i]
		if b.raw != nil {
			continue
		}
		var err error
		if text, err = blockText(text[:0], t.Entries[b.from:b.from+b.n]); err != nil {
			return err
		}
		comp = enc.EncodeAll(text, comp[:0])
		b.raw = bytes.Clone(comp)
	}
	return nil
}

// compactFrom is from how many entries on a pass is kept as frames alone: reading them
// again takes a tenth of a second for each 200,000, and their room a tenth.
const compactFrom = 60_000

// Compact lets go of a pass's entries, once it is prepared to be the base of the next
// one; a small one keeps them.
func (t *Taken) Compact() {
	if len(t.Entries) >= compactFrom && !slices.ContainsFunc(t.blocks, func(b block) bool { return b.raw == nil }) {
		t.compact, t.total, t.Entries = true, len(t.Entries), nil
	}
}

// Write writes head, blocks and end.
func Write(w io.Writer, s *Set) error {
	s.Format = setFormat
	s.Tally()
	enc := frame.Encoders.Get().(*zstd.Encoder)
	defer frame.Encoders.Put(enc)
	head, err := headLine(s)
	if err != nil {
		return err
	}
	var comp []byte
	put := func(text []byte) error {
		comp = enc.EncodeAll(text, comp[:0])
		return frame.WriteMarked(w, comp)
	}
	if err := put(head); err != nil {
		return err
	}
	blocks := s.blocks
	if blocks == nil {
		blocks = blocksOf(s.Entries)
	}
	var text []byte
	for _, b := range blocks {
		if b.raw != nil {
			if err := frame.WriteMarked(w, b.raw); err != nil {
				return err
			}
			continue
		}
		if text, err = blockText(text[:0], s.Entries[b.from:b.from+b.n]); err != nil {
			return err
		}
		if err := put(text); err != nil {
			return err
		}
	}
	// A last line that says it is the last: a set cut short between two blocks
	// would otherwise read as a smaller tree.
	return put(fmt.Appendf(nil, "{\"end\":%d}\n", len(s.Entries)))
}

// carry gives each block of entries whose lines are exactly those of a block of
// the base that block's frame. was holds each entry's position in the base, -1
// for one that is not the same.
func carry(blocks []block, base *Base, was []int) {
	if base == nil {
		return
	}
	starts := make(map[int]*block, len(base.blocks))
	for i := range base.blocks {
		if b := &base.blocks[i]; b.raw != nil && b.n > 0 {
			starts[b.from] = b
		}
	}
	for i := range blocks {
		b := &blocks[i]
		old := starts[was[b.from]]
		if was[b.from] < 0 || old == nil || old.n != b.n {
			continue
		}
		same := true
		for k := 0; k < b.n && same; k++ {
			same = was[b.from+k] == old.from+k
		}
		if same {
			b.raw = old.raw
		}
	}
}

// Same tells whether two entries make the same line.
func (f *File) Same(o *File) bool {
	a, b := f.Entry, o.Entry
	a.Dev, b.Dev = 0, 0
	return a == b && f.Sum == o.Sum && f.ReadAt == o.ReadAt && f.Moving == o.Moving && f.Sparse == o.Sparse &&
		samePieces(f.Pieces, o.Pieces) && maps.EqualFunc(f.Xattr, o.Xattr, bytes.Equal)
}

func samePieces(a, b []tree.Sum) bool {
	if len(a) != len(b) {
		return false
	}
	if len(a) > 0 && &a[0] == &b[0] {
		return true
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}
