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
	"time"
)

const (
	logLimit = 8 << 20 // bytes after which a console log is put aside
	logKept  = 4       // how many older ones are kept
)

// logFile is the console log, put aside when it grows past logLimit. Each
// start begins a new one.
type logFile struct {
	path string
	f    *os.File
	size int64
}

func openLog(path string) (*logFile, error) {
	l := &logFile{path: path}
	return l, l.rotate()
}

func older(path string, n int) string {
	return fmt.Sprintf("%s.%d.log", strings.TrimSuffix(path, ".log"), n)
}

func (l *logFile) rotate() error {
	if l.f != nil {
		l.f.Close()
	}
	if fi, err := os.Stat(l.path); err == nil && fi.Size() > 0 {
		for n := logKept - 1; n >= 1; n-- {
			os.Rename(older(l.path, n), older(l.path, n+1))
		}
		os.Rename(l.path, older(l.path, 1))
	}
	var err error
	l.f, err = os.OpenFile(l.path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	l.size = 0
	return err
}

// Write never fails for good: a server must not stall because the disk of its
// log is full. What can't be written is lost.
func (l *logFile) Write(b []byte) (int, error) {
	if l.size += int64(len(b)); l.size > logLimit {
		// Cut at a line end, so that no line is split between two files.
		if i := bytes.LastIndexByte(b, '\n'); i >= 0 {
			l.f.Write(b[:i+1])
			if l.rotate() != nil {
				return len(b), nil
			}
			l.f.Write(b[i+1:])
			l.size = int64(len(b) - i - 1)
			return len(b), nil
		}
	}
	l.f.Write(b)
	return len(b), nil
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
	var part []byte
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
			if f, err = os.Open(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
		got := 0
		for f != nil {
			n, err := f.Read(buf)
			part = append(part, buf[:n]...)
			got += n
			for {
				line, rest, ok := bytes.Cut(part, []byte("\n"))
				if !ok {
					break
				}
				each(strings.TrimRight(string(line), "\r"))
				part = rest
			}
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return err
			}
		}
		if next := successor(f, path); next != nil {
			// What was written between the last read and the rotation comes
			// first; nobody writes to the old file any more.
			rest, _ := io.ReadAll(f)
			part = append(part, rest...)
			f.Close()
			f = next
			continue
		}
		if over && got == 0 {
			if len(part) > 0 {
				each(string(part))
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
			next, err := os.Open(newer)
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
	next, err := os.Open(path) // behind by more than is kept
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
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return nil, err
	}
	from := max(0, fi.Size()-int64(n)*1024)
	b := make([]byte, fi.Size()-from)
	if _, err := f.ReadAt(b, from); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	lines := strings.Split(strings.TrimRight(strings.ReplaceAll(string(b), "\r\n", "\n"), "\n"), "\n")
	if from > 0 && len(lines) > 1 {
		lines = lines[1:]
	}
	return lines[max(0, len(lines)-n):], nil
}

// Await waits for a line of the console, from an offset on, that matches, and
// returns it; an error when none came within the time.
func Await(ctx context.Context, path string, from int64, within time.Duration, matches func(string) bool) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	for {
		text, err := readFrom(path, from)
		if err == nil {
			for _, line := range strings.SplitAfter(string(text), "\n") {
				if whole, ended := strings.CutSuffix(line, "\n"); ended && matches(strings.TrimRight(whole, "\r")) {
					return strings.TrimRight(whole, "\r"), nil
				}
			}
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func readFrom(path string, from int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(f, 1<<20))
}
