package tree

import (
	"os"

	"golang.org/x/sys/unix"
)

// HoleEnd tells how far a hole reaches that an open file has at a place: to where data begins
// again, or to the file's end. It is the place itself where data stands there, and where the
// file system does not tell (lseek(2), SEEK_DATA). It moves the place that Read goes on from.
func HoleEnd(f *os.File, at, size int64) int64 {
	next, err := unix.Seek(int(f.Fd()), at, unix.SEEK_DATA)
	if err == unix.ENXIO && at < size { // no more data
		return size
	}
	if err != nil || next < at {
		return at
	}
	return min(next, size)
}
