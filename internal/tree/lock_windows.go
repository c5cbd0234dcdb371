package tree

import (
	"errors"
	"os"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sys/windows"
)

// RenameHeld renames a file that a lock of ours is on. Windows renames no file that is
// open, and the lock holds it open: it is let go just before. Whoever takes it in that
// moment keeps the rename from happening, which is an error and loses nothing.
func RenameHeld(lock *flock.Flock, from, to string) error {
	return errors.Join(lock.Unlock(), Rename(from, to))
}

// heldFor is for how long Rename waits for others to close a file.
const heldFor = 2 * time.Second

// Rename puts what stands at from in the place of what stands at to, at once. It is the one way by which
// anything of ours is replaced. Windows renames nothing that somebody has open, and replaces nothing either: what
// is ours must be closed before, and who else looks at it for a moment (a scanner for viruses, another command of
// ours) is waited for.
func Rename(from, to string) error {
	for end := time.Now().Add(heldFor); ; time.Sleep(10 * time.Millisecond) {
		err := os.Rename(from, to)
		held := errors.Is(err, windows.ERROR_ACCESS_DENIED) || errors.Is(err, windows.ERROR_SHARING_VIOLATION) ||
			errors.Is(err, windows.ERROR_LOCK_VIOLATION)
		if !held || time.Now().After(end) {
			return err
		}
	}
}

// RemoveHeld removes a file that a lock of ours is on, and ends the lock.
func RemoveHeld(lock *flock.Flock) error { return errors.Join(lock.Unlock(), os.Remove(lock.Path())) }
