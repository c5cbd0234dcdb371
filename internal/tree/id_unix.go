//go:build unix

package tree

import (
	"errors"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

func fillIdentity(e *Entry, fi fs.FileInfo) {
	st, ok := fi.Sys().(*syscall.Stat_t)
	if !ok {
		return
	}
	e.UID, e.GID = ID(st.Uid), ID(st.Gid)
	e.Inode, e.Dev = st.Ino, uint64(st.Dev)
	e.Ctime = ctime(st)
}

func chown(full string, e Entry) error {
	if os.Geteuid() != 0 || e.UID == NoID {
		return nil
	}
	return os.Lchown(full, e.UID.Int(), e.GID.Int())
}

// syncDir flushes a folder. Some file systems have nothing to flush and say so.
func syncDir(d *os.File) error {
	if err := d.Sync(); err != nil && !errors.Is(err, syscall.EINVAL) && !errors.Is(err, syscall.ENOTSUP) {
		return err
	}
	return nil
}

// Writable tells why entries of a folder can't be made and renamed here.
func Writable(dir string) error { return unix.Access(dir, unix.W_OK|unix.X_OK) }

// Readable tells why a file can't be read, or a folder not be listed, here.
func Readable(full string) error { return unix.Access(full, unix.R_OK) }

// Makeable tells whether this system can have a path.
func Makeable(string) bool { return true }
