//go:build unix

package tree

import (
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// list describes what a folder of the tree holds, but for what keep refuses. It
// asks relative to the open folder: half the time of looking each path up anew.
func (r *Root) list(rel string, keep func(path string) bool) ([]Entry, error) {
	fd, err := r.folder(rel)
	if err != nil {
		return nil, err
	}
	d := os.NewFile(uintptr(fd), r.Full(rel))
	defer d.Close()
	names, err := d.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	out := make([]Entry, 0, len(names))
	for _, name := range names {
		p := under(rel, name)
		if !keep(p) {
			continue
		}
		e, ok, err := describeIn(fd, name, p)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, &fs.PathError{Op: "look at", Path: r.Full(p), Err: err}
		}
		if ok {
			out = append(out, e)
		}
	}
	return out, nil
}

func permissions(mode uint32) fs.FileMode {
	m := fs.FileMode(mode & 0o777)
	for _, s := range special {
		if mode&s.bit != 0 {
			m |= s.as
		}
	}
	return m
}

var special = []struct {
	bit uint32
	as  fs.FileMode
}{{unix.S_ISUID, fs.ModeSetuid}, {unix.S_ISGID, fs.ModeSetgid}, {unix.S_ISVTX, fs.ModeSticky}}
