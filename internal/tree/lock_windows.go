package tree

import (
	"errors"
	"os"

	"github.com/gofrs/flock"
)

// RenameHeld renames a file that a lock of ours is on. Windows renames no file that is
// open, and the lock holds it open: it is let go just before. Whoever takes it in that
// moment keeps the rename from happening, which is an error and loses nothing.
func RenameHeld(lock *flock.Flock, from, to string) error {
	return errors.Join(lock.Unlock(), os.Rename(from, to))
}

// RemoveHeld removes a file that a lock of ours is on, and ends the lock.
func RemoveHeld(lock *flock.Flock) error { return errors.Join(lock.Unlock(), os.Remove(lock.Path())) }
