package set

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"

	"freshkeel/internal/locker/frame"
	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
)

// ReadFrames reads the frames of a set, still compressed.
func ReadFrames(path string) ([][]byte, error) {
	f, err := tree.OpenRegular(path)
	if err != nil {
		return nil, NoSet(path, err)
	}
	defer f.Close()
	return framesOf(f, path, false)
}

// framesOf is readFrames of an open file. ends keeps the first and the last of them alone:
// the others are nil.
func framesOf(f *os.File, path string, ends bool) ([][]byte, error) {
	r := bufio.NewReaderSize(f, 256<<10)
	var out [][]byte
	for {
		raw, err := frame.ReadMarked(r)
		switch {
		case errors.Is(err, io.EOF):
			return out, nil
		case errors.Is(err, frame.ErrNoMark) && len(out) == 0:
			return nil, err
		case err != nil:
			return nil, &Damage{Where: path, Why: err.Error()}
		}
		if n := len(out); ends && n > 1 {
			out[n-1] = nil
		}
		out = append(out, raw)
	}
}

// decodeBlocks reads a set's blocks on every core, into a list of about so many
// entries. What was read of frames is let go of.
func decodeBlocks(frames [][]byte, s *Set, entries int) error {
	type part struct {
		list []File
		err  error
	}
	parts := make([]chan part, len(frames))
	for i := range parts {
		parts[i] = make(chan part, 1)
	}
	workers := min(runtime.GOMAXPROCS(0), 4)
	ahead := make(chan bool, 2*workers) // bounds what is read and not entered yet
	var next atomic.Int32
	for range workers {
		go func() {
			var each lines
			var text []byte
			for {
				ahead <- true
				i := int(next.Add(1)) - 1
				if i >= len(frames) {
					<-ahead
					return
				}
				var p part
				if text, p.err = frame.Inflate(frames[i], text[:0]); p.err == nil {
					p.list, p.err = each.all(text, nil)
				}
				frames[i] = nil
				parts[i] <- p
			}
		}()
	}
	var bad error
	s.Entries = make([]File, 0, min(entries, 1<<20))
	for i := range parts {
		p := <-parts[i]
		<-ahead
		if p.err != nil && bad == nil {
			bad = fmt.Errorf("block %d: %w", i+1, p.err)
		}
		s.Entries = append(s.Entries, p.list...)
	}
	return bad
}

// setOf reads a set from its frames: head, blocks, end.
func setOf(frames [][]byte) (*Set, error) {
	if len(frames) < 2 {
		return nil, errors.New("it is cut short")
	}
	head, err := frame.Inflate(frames[0], nil)
	if err != nil {
		return nil, fmt.Errorf("its head can't be read: %w", err)
	}
	s, err := readHead(head)
	if err != nil {
		return nil, err
	}
	entries, err := endOf(frames)
	if err != nil {
		return nil, err
	}
	if len(frames) > 2 {
		if err := decodeBlocks(frames[1:len(frames)-1], s, entries); err != nil {
			return nil, err
		}
	}
	if entries != len(s.Entries) {
		return nil, fmt.Errorf("it has %d entries, its end says %d", len(s.Entries), entries)
	}
	return s, nil
}

// endOf is how many entries a set's last frame says that it has: without that
// frame it was cut short, at whatever place.
func endOf(frames [][]byte) (entries int, err error) {
	last, err := frame.Inflate(frames[len(frames)-1], nil)
	var end struct{ End *int }
	if err != nil || json.Unmarshal(last, &end) != nil || end.End == nil {
		return 0, errors.New("it is cut short")
	}
	return *end.End, nil
}

// Read reads the set in the file at path. One that is not there gives ErrNoSet, one that
// does not read back *Damage.
func Read(path string) (*Set, error) {
	frames, err := ReadFrames(path)
	if errors.Is(err, frame.ErrNoMark) {
		return readStream(path, false)
	}
	if err != nil {
		return nil, err
	}
	s, err := setOf(frames)
	if err != nil {
		return nil, &Damage{Where: path, Why: err.Error()}
	}
	return s, nil
}

// HeadOf is Read without the set's entries.
func HeadOf(path string) (*Set, error) {
	f, err := tree.OpenRegular(path)
	if err != nil {
		return nil, NoSet(path, err)
	}
	defer f.Close()
	head, err := frame.ReadMarked(bufio.NewReader(f))
	if errors.Is(err, frame.ErrNoMark) {
		return readStream(path, true)
	}
	if err == nil {
		head, err = frame.Inflate(head, nil)
	}
	if err != nil {
		return nil, &Damage{Where: path, Why: fmt.Sprintf("its head can't be read: %v", err)}
	}
	s, err := readHead(head)
	if err != nil {
		err = &Damage{Where: path, Why: err.Error()}
	}
	return s, err
}

// readStream reads a set that was written in one frame.
func readStream(path string, headOnly bool) (*Set, error) {
	f, err := tree.OpenRegular(path)
	if err != nil {
		return nil, NoSet(path, err)
	}
	defer f.Close()
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	s, err := decodeSet(bufio.NewReaderSize(z, 64<<10), headOnly)
	if err != nil {
		return nil, &Damage{Where: path, Why: err.Error()}
	}
	return s, nil
}

// ReadHead reads the head of a set that arrives as a stream.
func ReadHead(r io.Reader) (*Set, error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	return decodeSet(bufio.NewReaderSize(z, 64<<10), true)
}

// NoSet is ErrNoSet for the set at path, where err says that it is not there.
func NoSet(path string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", strings.TrimSuffix(filepath.Base(path), ".set"), ErrNoSet)
	}
	return err
}

// ErrNoSet says that the locker has no such set.
var ErrNoSet = errors.New("there is no backup or build of that name")

// Contained tells whether all entries lie in the folder that they are laid out in:
// none has a path that leads out of it, nor one through a link. A copy in another
// place has been in other hands.
func Contained(entries []File) error {
	links := map[string]bool{}
	for i := range entries {
		if entries[i].Kind == tree.Link {
			links[entries[i].Path] = true
		}
	}
	for i := range entries {
		at := entries[i].Path
		for part := range strings.SplitSeq(at, "/") {
			if part == "" || part == "." || part == ".." {
				return fmt.Errorf("its entry %q is no path in a folder", at)
			}
		}
		for up := strings.LastIndexByte(at, '/'); up > 0 && len(links) > 0; up = strings.LastIndexByte(at[:up], '/') {
			if links[at[:up]] {
				return fmt.Errorf("its entry %q leads through the link %q", at, at[:up])
			}
		}
	}
	return nil
}
