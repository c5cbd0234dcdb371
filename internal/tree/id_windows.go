package tree

import (
	"io/fs"
	"os"
)

// Windows has no inode in a FileInfo: every comparison there is by content.
func fillIdentity(*Entry, fs.FileInfo) {}

func chown(string, Entry) error { return nil }

// A folder can't be flushed on Windows; the file system's own log orders renames.
func syncDir(*os.File) error { return nil }

// Writable can't be told here without trying, which a check must not.
func Writable(string) error { return nil }

// Readable is not told by Windows before it is tried.
func Readable(string) error { return nil }

// Makeable tells whether this system can have a path.
func Makeable(path string) bool { return !WindowsForbids(path) }
