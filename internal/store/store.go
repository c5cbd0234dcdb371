// Package store keeps named objects in another place than this machine's own
// disk: a folder of another disk (Folder), an object store that speaks S3 (S3),
// and either of them with what is in it encrypted (Sealed). It knows nothing of
// backups.
package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Object is what a List names.
type Object struct {
	Name string // with forward slashes
	Size int64  // bytes
}

// Store holds objects by name. One is safe for concurrent use.
type Store interface {
	// List names every object whose name begins with prefix, which is "" or ends
	// in a slash, sorted.
	List(ctx context.Context, prefix string) ([]Object, error)
	// Put stores size bytes of r under name, whole and durable, or not at all.
	// An object that was there under that name is replaced.
	Put(ctx context.Context, name string, r io.ReaderAt, size int64) error
	// Get reads an object; an error that is fs.ErrNotExist where there is none.
	Get(ctx context.Context, name string) (io.ReadCloser, error)
	// Remove removes an object; one that is not there is no error.
	Remove(ctx context.Context, name string) error
	// Where is the place as people know it, without secrets.
	Where() string
}

// Unreachable says that the place can't be used at all: not there, not
// answering, or not letting us in. Do is what helps, if that is known.
type Unreachable struct {
	Where string
	Why   string
	Do    string

	passing bool // it may be there again in a moment
	spoke   bool // it is there, and only would not
}

func (u *Unreachable) Error() string { return u.Where + ": " + u.Why }

// Read reads a whole object of at most so many bytes.
func Read(ctx context.Context, s Store, name string, most int64) ([]byte, error) {
	r, err := s.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("%s in %s has more than %d bytes", name, s.Where(), most)
	}
	return b, err
}

// Put stores bytes.
func Put(ctx context.Context, s Store, name string, b []byte) error {
	return s.Put(ctx, name, strings.NewReader(string(b)), int64(len(b)))
}

// Folder is a Store in a folder that is there: on another disk, or a share.
type Folder struct{ dir string }

// OpenFolder opens the store in a folder. It never makes the folder: where a disk
// is not mounted, that would fill the one beneath.
func OpenFolder(dir string) (*Folder, error) {
	fi, err := os.Stat(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &Unreachable{Where: dir, Why: "there is no such folder: is the disk mounted?",
			Do: "mount the disk; if the copy is new, make the folder first: mkdir " + words.Shell(dir)}
	case err != nil:
		return nil, &Unreachable{Where: dir, Why: err.Error()}
	case !fi.IsDir():
		return nil, &Unreachable{Where: dir, Why: "it is not a folder"}
	}
	return &Folder{dir}, nil
}

// Where is the folder.
func (f *Folder) Where() string { return f.dir }

func (f *Folder) full(name string) (string, error) {
	if !fs.ValidPath(name) || name == "." {
		return "", fmt.Errorf("%q is not a name in %s", name, f.dir)
	}
	return filepath.Join(f.dir, filepath.FromSlash(name)), nil
}

// Open opens the file of an object as it stands.
func (f *Folder) Open(name string) (*os.File, error) {
	full, err := f.full(name)
	if err != nil {
		return nil, err
	}
	return tree.OpenRegular(full)
}

// half begins the name of a file that is being written.
const half = ".half-"

// List walks the folder.
func (f *Folder) List(ctx context.Context, prefix string) (out []Object, err error) {
	root := f.dir
	if prefix != "" {
		if root, err = f.full(path.Clean(prefix)); err != nil {
			return nil, err
		}
	}
	err = filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if d.IsDir() || !d.Type().IsRegular() || strings.HasPrefix(d.Name(), half) {
			return ctx.Err()
		}
		fi, err := d.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(f.dir, p)
		out = append(out, Object{filepath.ToSlash(rel), fi.Size()})
		return err
	})
	return out, err
}

// Put writes beside, flushes and renames.
func (f *Folder) Put(ctx context.Context, name string, r io.ReaderAt, size int64) (err error) {
	full, err := f.full(name)
	if err != nil {
		return err
	}
	dir := filepath.Dir(full)
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		for d := dir; d != f.dir; d = filepath.Dir(d) {
			if err := tree.SyncDir(filepath.Dir(d)); err != nil {
				return err
			}
		}
	}
	out, err := os.CreateTemp(dir, half+"*")
	if err != nil {
		return err
	}
	defer func() {
		out.Close()
		if err != nil {
			os.Remove(out.Name())
		}
	}()
	if n, err := io.Copy(out, reading{ctx, io.NewSectionReader(r, 0, size)}); err != nil {
		return err
	} else if n != size {
		return fmt.Errorf("%s: %d bytes of %d", name, n, size)
	}
	if err := out.Sync(); err != nil {
		return err
	}
	if err := out.Close(); err != nil {
		return err
	}
	if err := tree.Rename(out.Name(), full); err != nil {
		return err
	}
	return tree.SyncDir(dir)
}

// reading ends when its context does.
type reading struct {
	ctx context.Context
	r   io.Reader
}

func (r reading) Read(b []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.r.Read(b)
}

// Get opens the file.
func (f *Folder) Get(_ context.Context, name string) (io.ReadCloser, error) { return f.Open(name) }

// Remove removes the file.
func (f *Folder) Remove(_ context.Context, name string) error {
	full, err := f.full(name)
	if err != nil {
		return err
	}
	if err := os.Remove(full); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Sweep removes what was being written when a writer died. Nobody may be writing.
func (f *Folder) Sweep() {
	filepath.WalkDir(f.dir, func(p string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && strings.HasPrefix(d.Name(), half) {
			os.Remove(p)
		}
		return nil
	})
}
