package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

const (
	logLimit = 8 << 20  // bytes after which a console log is put aside
	logKept  = 4        // how many older ones are kept
	lineMost = 64 << 10 // bytes of a line that are kept
	cutMark  = " … (cut here: the line goes on)\n"

	// followerWait is how long the oldest log waits for a follower that still
	// reads it, before it is dropped: a server that floods its console is slowed
	// down by that, and not stopped.
	followerWait = 3 * time.Second
)

// logFile is the console log, put aside when it grows past logLimit. Each
// start begins a new one.
type logFile struct {
	path string
	f    *os.File
	size int64
	line int         // bytes of the line that was begun
	cut  bool        // and no more of it is written
	anew atomic.Bool // its file was taken away: the next line goes to a new one
}

func openLog(path string) (*logFile, error) {
	l := &logFile{path: path}
	return l, l.rotate()
}

// appendLog goes on with the log that is there.
func appendLog(path string) (*logFile, error) {
	l := &logFile{path: path}
	if err := l.open(); err != nil {
		return nil, err
	}
	if fi, err := l.f.Stat(); err == nil {
		l.size = fi.Size()
	}
	return l, nil
}

// open opens the log, a regular file and nothing else in its place.
func (l *logFile) open() (err error) {
	if fi, err := os.Lstat(l.path); err == nil && !fi.Mode().IsRegular() {
		os.Remove(l.path)
	}
	l.f, err = os.OpenFile(l.path, os.O_CREATE|os.O_WRONLY|os.O_APPEND|noFollow, 0o600)
	l.size = 0
	return err
}

func older(path string, n int) string {
	return fmt.Sprintf("%s.%d.log", strings.TrimSuffix(path, ".log"), n)
}

func (l *logFile) rotate() error {
	if l.f != nil {
		l.f.Close()
	}
	if fi, err := os.Lstat(l.path); err == nil && fi.Size() > 0 && fi.Mode().IsRegular() {
		awaitFollowers(older(l.path, logKept))
		for n := logKept - 1; n >= 1; n-- {
			tree.Rename(older(l.path, n), older(l.path, n+1))
		}
		tree.Rename(l.path, older(l.path, 1))
	}
	return l.open()
}

// awaitFollowers waits, within bounds, until nobody reads the log that is about to
// be dropped.
func awaitFollowers(path string) {
	for end := time.Now().Add(followerWait); followed(path) && time.Now().Before(end); {
		time.Sleep(5 * time.Millisecond)
	}
}

// Write never fails for good: a server must not stall because the disk of its
// log is full. What can't be written is lost, and so is what of a line goes beyond
// lineMost.
func (l *logFile) Write(b []byte) (int, error) {
	for rest := b; len(rest) > 0; {
		part := rest
		i := bytes.IndexByte(rest, '\n')
		whole := l.line+len(rest) <= lineMost
		if i >= 0 && !whole { // line by line, only where one may be too long
			part = rest[:i+1]
		}
		rest = rest[len(part):]
		l.write(part)
	}
	return len(b), nil
}

// write writes lines that are short enough, or a part of one line.
func (l *logFile) write(b []byte) {
	if last := bytes.LastIndexByte(b, '\n'); last >= 0 {
		if l.cut { // the rest of a line that was marked already
			b = b[bytes.IndexByte(b, '\n')+1:]
			l.cut, l.line = false, 0
			if len(b) > 0 {
				l.write(b)
			}
			return
		}
		if bytes.IndexByte(b, '\n') == last && l.line+last > lineMost {
			b = append(b[:max(0, lineMost-l.line):max(0, lineMost-l.line)], cutMark...)
			last = len(b) - 1
		}
		l.put(b[:last+1])
		if l.size > logLimit { // at a line's end, so that none is split between two files
			l.rotate()
		}
		l.put(b[last+1:])
		l.line = len(b) - last - 1
		return
	}
	if l.cut {
		return
	}
	if l.line+len(b) > lineMost {
		b = append(b[:max(0, lineMost-l.line):max(0, lineMost-l.line)], cutMark...)
		l.cut = true
	}
	l.put(b)
	l.line += len(b)
}

func (l *logFile) put(b []byte) {
	if l.anew.CompareAndSwap(true, false) {
		l.f.Close()
		l.open()
	}
	l.size += int64(len(b))
	l.f.Write(b)
}

func (l *logFile) Close() { l.f.Close() }

// followPause is how long a follower rests at the end of the log.
const followPause = 20 * time.Millisecond

// Follow calls each with every line of the console log at path, from its
// beginning, and goes on over rotation until ctx ends (nil is returned) or
// until ended is closed and all was read. A log that does not exist yet is
// waited for.
func Follow(ctx context.Context, path string, ended <-chan struct{}, each func(line string)) error {
	var f *os.File
	defer func() {
		if f != nil {
			f.Close()
		}
	}()
	var lines words.Lines
	buf := make([]byte, 32<<10)
	for {
		over := false
		select {
		case <-ctx.Done():
			return nil
		case <-ended:
			over = true
		default:
		}
		if f == nil {
			var err error
			if f, err = openFollowed(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		got := 0
		for f != nil {
			n, err := f.Read(buf)
			lines.Add(buf[:n], each)
			got += n
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return err
			}
		}
		if next := successor(f, path); next != nil {
			// Lines that were written between the last read and the rotation come
			// first; nobody writes to the old file any more.
			for n := 1; n > 0; {
				n, _ = f.Read(buf)
				lines.Add(buf[:n], each)
			}
			f.Close()
			f = next
			continue
		}
		if over && got == 0 {
			if rest := lines.Rest(); rest != "" {
				each(rest)
			}
			return nil
		}
		if got == 0 {
			select {
			case <-time.After(followPause):
			case <-ctx.Done():
			}
		}
	}
}

// followFile calls each with the last n lines of a log that others write and rotate, by another
// file in its place or by emptying it, and with those that come, until ctx ends (nil is returned)
// or until ended is closed and all was read.
func followFile(ctx context.Context, path string, n int, ended <-chan struct{}, each func(string)) error {
	f, err := tree.OpenRegular(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	defer func() { f.Close() }()
	var lines words.Lines
	at := int64(0)
	if f != nil {
		var last []string
		if last, at, err = tailOf(f, n); err != nil {
			return err
		}
		for _, l := range last {
			each(l)
		}
	}
	for err == nil || errors.Is(err, fs.ErrNotExist) {
		over := false
		select {
		case <-ctx.Done():
			return nil
		case <-ended:
			over = true
		case <-time.After(followPause):
		}
		got := 0
		if f != nil {
			if fi, err := f.Stat(); err == nil && fi.Size() < at { // it was emptied
				at = 0
				lines.Drop()
			}
			b, err := io.ReadAll(io.NewSectionReader(f, at, 1<<20))
			if err != nil {
				return err
			}
			got = len(b)
			at += int64(got)
			lines.Add(b, each)
		}
		if got == 0 && !standsAt(f, path) { // another one took its place
			var next *os.File
			if next, err = tree.OpenRegular(path); err == nil {
				f.Close()
				f, at = next, 0
				lines.Drop()
				continue
			}
		}
		if over && got == 0 {
			return nil
		}
	}
	return err
}

// standsAt tells whether a file that may be nil stands at a path.
func standsAt(f *os.File, path string) bool { return f != nil && at(f, path) }

// openFollowed opens a log to be followed: it is not dropped while it is read.
func openFollowed(path string) (*os.File, error) {
	f, err := tree.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	follow(f)
	return f, nil
}

// successor opens the log that came after f, when f was put aside: a follower
// that is behind by more than one finds them in turn. Nil while f is the newest.
func successor(f *os.File, path string) *os.File {
	if f == nil || at(f, path) {
		return nil
	}
	for range 10 { // the names may move on while they are read
		for n := 1; n <= logKept; n++ {
			if !at(f, older(path, n)) {
				continue
			}
			newer := path
			if n > 1 {
				newer = older(path, n-1)
			}
			next, err := openFollowed(newer)
			if err == nil && at(f, older(path, n)) {
				return next
			}
			if err == nil {
				next.Close()
			}
			break
		}
		time.Sleep(time.Millisecond)
	}
	next, err := openFollowed(path) // behind by more than is kept
	if err != nil {
		return nil
	}
	return next
}

// at tells whether f stands at path.
func at(f *os.File, path string) bool {
	a, err1 := f.Stat()
	b, err2 := os.Stat(path)
	return err1 == nil && err2 == nil && os.SameFile(a, b)
}

// Tail returns the last n lines of the console log.
func Tail(path string, n int) ([]string, error) {
	f, err := tree.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines, _, err := tailOf(f, n)
	return lines, err
}

// mostTail bounds how much of a log's end is read for its last lines, in bytes.
const mostTail = 32 << 20

// tailOf are the last n lines of a file, and how long it was then.
func tailOf(f *os.File, n int) (lines []string, size int64, err error) {
	fi, err := f.Stat()
	if err != nil || fi.Size() == 0 {
		return nil, 0, err
	}
	from := max(0, fi.Size()-min(int64(n)*1024, mostTail))
	b := make([]byte, fi.Size()-from)
	if _, err := f.ReadAt(b, from); err != nil && !errors.Is(err, io.EOF) {
		return nil, 0, err
	}
	lines = strings.Split(strings.TrimRight(strings.ReplaceAll(string(b), "\r\n", "\n"), "\n"), "\n")
	if from > 0 && len(lines) > 1 {
		lines = lines[1:]
	}
	return lines[max(0, len(lines)-n):], fi.Size(), nil
}

func readFrom(path string, from int64) ([]byte, error) {
	f, err := tree.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(f, 1<<20))
}
