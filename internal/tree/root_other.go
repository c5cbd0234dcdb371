//go:build !unix

package tree

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

const nonblocking = 0

// ErrLink says that a link stands where a file or folder was to be, or on the way to it.
var ErrLink = errors.New("a link stands there, or on the way to it")

// full is the path of rel, once no link stands on the way to it. Here that is a
// look before the leap: the folders have one owner, and no service of ours runs
// with more rights than they.
func (r *Root) full(op, rel string) (string, error) {
	if !Local(rel) {
		return "", notLocal(op, rel)
	}
	on, at := r.holds(rel)
	for dir := filepath.Dir(filepath.FromSlash(at)); dir != "."; dir = filepath.Dir(dir) {
		if fi, err := os.Lstat(filepath.Join(on.dir, dir)); err == nil &&
			fi.Mode()&(fs.ModeSymlink|fs.ModeIrregular) != 0 {
			return "", &fs.PathError{Op: op, Path: r.Full(rel), Err: ErrLink}
		}
	}
	return r.Full(rel), nil
}

// Open opens the regular file at rel to be read.
func (r *Root) Open(rel string) (*os.File, error) {
	full, err := r.full("open", rel)
	if err != nil {
		return nil, err
	}
	if fi, err := os.Lstat(full); err == nil && !fi.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: full, Err: ErrNotRegular}
	}
	return OpenRegular(full)
}

// ReadInto reads the regular file at rel as far as b has room.
func (r *Root) ReadInto(rel string, b []byte) (n int, err error) {
	f, err := r.Open(rel)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	n, err = io.ReadFull(f, b)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	return n, err
}

// Describe is Describe for the file, folder or link at rel.
func (r *Root) Describe(rel string) (e Entry, ok bool, err error) {
	full, err := r.full("look at", rel)
	if err != nil {
		return e, false, err
	}
	return Describe(full, rel)
}

// DescribeOpen describes an open file, under a name.
func DescribeOpen(f *os.File, as string) (Entry, error) {
	fi, err := f.Stat()
	if err != nil {
		return Entry{}, err
	}
	e, _, err := describe(f.Name(), as, fi)
	return e, err
}

// Names lists what the folder at rel holds, in no order.
func (r *Root) Names(rel string) ([]string, error) {
	full := r.dir
	if rel != "" && rel != "." {
		var err error
		if full, err = r.full("list", rel); err != nil {
			return nil, err
		}
	}
	d, err := os.Open(full)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.Readdirnames(-1)
}

// Rename moves one path to another, over nothing: the caller has looked.
func (r *Root) Rename(from, to string) error {
	a, err := r.full("rename", from)
	if err != nil {
		return err
	}
	b, err := r.full("rename to", to)
	if err != nil {
		return err
	}
	return Rename(a, b)
}

// MkdirAll makes the folder at rel and those above it that are missing.
func (r *Root) MkdirAll(rel string, mode fs.FileMode) error {
	if rel == "." || rel == "" {
		return nil
	}
	full, err := r.full("make the folder", rel)
	if err != nil {
		return err
	}
	return os.MkdirAll(full, mode)
}

// Sync makes the entries of the folder at rel durable.
func (r *Root) Sync(string) error { return nil }

// Mend gives the thing at rel the mode, owner and times of e, as Mend does.
func (r *Root) Mend(rel string, e Entry) error {
	full, err := r.full("mend", rel)
	if err != nil {
		return err
	}
	return Mend(full, e)
}
