//go:build unix

package tree

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// list describes what a folder of the tree holds, but for what keep refuses. It
// asks relative to the open folder: half the time of looking each path up anew.
func list(dir, rel string, keep func(path string) bool) ([]Entry, error) {
	d, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
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
		var st unix.Stat_t
		err := unix.Fstatat(int(d.Fd()), name, &st, unix.AT_SYMLINK_NOFOLLOW)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, &fs.PathError{Op: "look at", Path: filepath.Join(dir, name), Err: err}
		}
		e := Entry{Path: p, Mode: permissions(uint32(st.Mode)), UID: int(st.Uid), GID: int(st.Gid), Mtime: st.Mtim.Nano(), Inode: st.Ino, Ctime: st.Ctim.Nano(), Dev: uint64(st.Dev)}
		switch st.Mode & unix.S_IFMT {
		case unix.S_IFREG:
			e.Kind, e.Size = File, st.Size
		case unix.S_IFDIR:
			e.Kind = Dir
		case unix.S_IFLNK:
			e.Kind = Link
			if e.Target, err = os.Readlink(filepath.Join(dir, name)); errors.Is(err, fs.ErrNotExist) {
				continue
			} else if err != nil {
				return nil, err
			}
		default:
			continue
		}
		out = append(out, e)
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
