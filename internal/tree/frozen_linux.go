package tree

import (
	"os"

	"golang.org/x/sys/unix"
)

// Attributes of a file that forbid a rename whatever its mode says
// (ioctl_iflags(2)).
const (
	frozen     = 0x10 // FS_IMMUTABLE_FL
	appendOnly = 0x20 // FS_APPEND_FL
)

// Frozen tells of a file or folder that its file system lets nobody rename or
// replace: "immutable", "append-only", or "".
func Frozen(full string) string {
	f, err := os.OpenFile(full, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return ""
	}
	defer f.Close()
	flags, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	switch {
	case err != nil:
		return ""
	case flags&frozen != 0:
		return "immutable"
	case flags&appendOnly != 0:
		return "append-only"
	}
	return ""
}

// FlushAll flushes the whole file system that a folder is on: for many new files
// far quicker than one after the other. ok is false where there is no such call.
func FlushAll(dir string) (ok bool, err error) {
	d, err := os.Open(dir)
	if err != nil {
		return true, err
	}
	defer d.Close()
	return true, unix.Syncfs(int(d.Fd()))
}

// BeginFlush has the system begin to write a file to its disk, and does not wait: a
// later FlushAll then finds little left to do. It is a hint, whose failing is none.
func BeginFlush(f *os.File) { unix.SyncFileRange(int(f.Fd()), 0, 0, unix.SYNC_FILE_RANGE_WRITE) }
