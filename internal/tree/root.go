package tree

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Root is a folder that is held open. Its methods take paths below it and reach
// each by descriptors from there, without following any link: whoever exchanges
// a folder for a link meanwhile leads nobody out of it. Close it in any case.
//
// It knows nothing of mounts. A file system that is mounted
// below the root is part of it, and so are the folders that Graft has made part of it.
type Root struct {
	dir  string
	d    *os.File         // the folder
	away map[string]*Root // the folders that stand elsewhere, by name
}

// OpenRoot holds a folder: the one that is kept for this path (see Keep), or the one that stands
// there now. Links on the way to that are followed: that is the caller's own word.
func OpenRoot(dir string) (*Root, error) {
	d, err := openDir(dir)
	if err != nil {
		return nil, err
	}
	if fi, err := d.Stat(); err != nil || !fi.IsDir() {
		d.Close()
		return nil, errors.Join(err, fmt.Errorf("%s is not a folder", dir))
	}
	r := &Root{dir: dir, d: d}
	for name, folder := range Grafted(dir) {
		away, err := OpenRoot(folder)
		if err != nil {
			r.Close()
			return nil, fmt.Errorf("%s, which belongs to %s: %w", name, dir, err)
		}
		if r.away == nil {
			r.away = map[string]*Root{}
		}
		r.away[name] = away
	}
	return r, nil
}

// openDir opens a folder, from its own descriptor where that is kept.
func openDir(dir string) (*os.File, error) {
	if h := Kept(dir); h != nil {
		return h.again()
	}
	return os.Open(dir)
}

// Close lets go of the folder.
func (r *Root) Close() error {
	for _, away := range r.away {
		away.Close()
	}
	return r.d.Close()
}

// Full is the path of something below the root as people write it.
func (r *Root) Full(rel string) string {
	at, rest := r.holds(rel)
	return filepath.Join(at.dir, filepath.FromSlash(rest))
}

// holds is the root that a path really lies below, and its path there: another one where
// the path begins with the name of a folder that stands elsewhere; "." is that folder.
func (r *Root) holds(rel string) (*Root, string) {
	if len(r.away) == 0 {
		return r, rel
	}
	name, rest, _ := strings.Cut(rel, "/")
	if away, ok := r.away[name]; ok {
		if rest == "" {
			rest = "."
		}
		return away, rest
	}
	return r, rel
}

// ErrNotRegular says that something else stands where a file was to be read: a
// link, a folder, a pipe.
var ErrNotRegular = errors.New("not a regular file")

// Real is a path without links, as far as it exists: what of it is not there yet
// stays as it is.
func Real(path string) string {
	rest := ""
	for at := path; ; {
		if real, err := filepath.EvalSymlinks(at); err == nil {
			return filepath.Join(real, rest)
		}
		// Cut as it stands: «link/..» is not the folder that holds the link.
		i := strings.LastIndexByte(at, filepath.Separator)
		if i <= 0 {
			return filepath.Clean(path)
		}
		at, rest = at[:i], at[i+1:]+string(filepath.Separator)+rest
	}
}

// MakeDirs makes a folder of our own and those above it that are missing, and makes
// their names durable: what is written into them later would go with them.
func MakeDirs(dir string, mode fs.FileMode) error {
	var made []string
	for at := dir; ; at = filepath.Dir(at) {
		if _, err := os.Lstat(at); err == nil || at == filepath.Dir(at) {
			break
		}
		made = append(made, at)
	}
	if err := os.MkdirAll(dir, mode); err != nil {
		return err
	}
	for _, at := range made {
		if err := SyncDir(filepath.Dir(at)); err != nil {
			return err
		}
	}
	return nil
}

// Local tells whether a path stays below the folder that it is relative to, in
// the form in which paths are kept here: slash-separated and clean. It need not
// be UTF-8.
func Local(rel string) bool {
	for elem := range strings.SplitSeq(rel, "/") {
		if elem == "" || elem == "." || elem == ".." {
			return false
		}
	}
	return !strings.ContainsRune(rel, 0) && filepath.IsLocal(filepath.FromSlash(rel))
}

func notLocal(op, rel string) error {
	return &fs.PathError{Op: op, Path: rel, Err: errors.New("the path leads out of the folder")}
}

// Has tells whether anything stands at rel.
func (r *Root) Has(rel string) bool {
	_, _, err := r.Describe(rel)
	return err == nil
}

// ownLimit bounds a file of our own that is read whole, in bytes.
const ownLimit = 1 << 30

// ReadOwn reads a small file of our own whole: a regular one, of no more than
// ownLimit. Anything else in its place is an error and never waited for.
func ReadOwn(path string) ([]byte, error) { return ReadUpTo(path, ownLimit) }

// ReadUpTo is ReadOwn with another limit.
func ReadUpTo(path string, limit int64) ([]byte, error) {
	f, err := OpenRegular(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return ReadOpenUpTo(f, limit)
}

// ReadOpenUpTo is ReadUpTo for a file that is open.
func ReadOpenUpTo(f *os.File, limit int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(b)) > limit {
		err = &fs.PathError{Op: "read", Path: f.Name(), Err: fmt.Errorf("it is larger than %d bytes", limit)}
	}
	return b, err
}

// OpenRegular opens a file to be read, and nothing but a regular file: a pipe in
// its place would keep the caller waiting for ever.
func OpenRegular(path string) (*os.File, error) { return OpenRegularTo(path, os.O_RDONLY, 0) }

// OpenRegularTo is OpenRegular with other flags, and a mode for a file that is made.
func OpenRegularTo(path string, flags int, mode fs.FileMode) (*os.File, error) {
	f, err := os.OpenFile(path, flags|nonblocking, mode)
	if err != nil {
		return nil, err
	}
	if err := regular(f, path); err != nil {
		return nil, err
	}
	return f, nil
}

// regular closes f where it is no regular file.
func regular(f *os.File, path string) error {
	fi, err := f.Stat()
	if err == nil && !fi.Mode().IsRegular() {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrNotRegular}
	}
	if err != nil {
		f.Close()
	}
	return err
}

// RemoveAll removes a folder, of which a program may have made parts read-only.
func RemoveAll(dir string) {
	if os.RemoveAll(dir) == nil {
		return
	}
	filepath.WalkDir(dir, func(at string, e fs.DirEntry, err error) error {
		if e != nil && e.IsDir() {
			os.Chmod(at, 0o700)
		}
		return nil
	})
	os.RemoveAll(dir)
}
