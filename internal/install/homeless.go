package install

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"freshkeel/internal/host"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
)

// lockersOf is the folder of root's in which users have a folder of their own, by their numbers, who have no home that
// they can write in: a server's own user most often.
var lockersOf = "/var/lib/freshkeel"

// homeOf is the folder of a user who has none of its own.
func homeOf(uid int) string { return filepath.Join(lockersOf, strconv.Itoa(uid)) }

// canLive tells whether a user can have a locker in its home.
func canLive(home string, uid int) bool {
	if home == "" {
		return false
	}
	if e, is, err := tree.Describe(filepath.Join(home, ".local", "state", "freshkeel"), ""); err == nil && is && e.UID.Int() == uid {
		return true // it has one there
	}
	fi, err := os.Stat(home)
	if err != nil || !fi.IsDir() {
		return false
	}
	e, is, err := tree.Describe(tree.Real(home), "")
	return err == nil && is && e.Kind == tree.Dir && e.UID.Int() == uid && e.Mode&0o300 == 0o300
}

// withHome is a user who has a place for a locker. One who has no home gets a folder that is that user's alone.
func withHome(o host.Owner, h *tree.Held) (*host.Owner, error) {
	if os.Getenv("FRESHKEEL_HOME") != "" || canLive(o.Home, o.UID) {
		return &o, nil
	}
	at, err := makeHome(o.UID, o.GID)
	if err != nil {
		return nil, tell.Advise(fmt.Errorf("%s belongs to %s, who has no home folder on this machine for a locker, and could not be "+
			"given one: %w", h.Dir, o.Name, err), "name a folder of that user's: FRESHKEEL_HOME=/srv/freshkeel/"+filepath.Base(h.Dir))
	}
	o.Place = at
	return &o, nil
}

// makeHome has root make the folder of a user who has no home. What stands there is taken where it is the user's alone.
func makeHome(uid, gid int) (string, error) {
	if err := os.MkdirAll(lockersOf, 0o755); err != nil {
		return "", err
	}
	above, err := tree.Hold(lockersOf)
	if err != nil {
		return "", err
	}
	defer above.Close()
	if above.UID != 0 || len(above.Others(0)) > 0 {
		return "", fmt.Errorf("%s can be exchanged by others than root", lockersOf)
	}
	at := homeOf(uid)
	if err := os.Mkdir(at, 0o700); err == nil {
		if err := os.Lchown(at, uid, gid); err != nil {
			return "", err
		}
	}
	e, is, err := tree.Describe(at, "")
	if err != nil || !is {
		return "", fmt.Errorf("%s could not be made: %w", at, err)
	}
	if e.Kind != tree.Dir || e.UID.Int() != uid || e.Mode&0o077 != 0 {
		return "", fmt.Errorf("%s is not a folder of that user's alone", at)
	}
	return at, nil
}

// ownHome is the folder of the user who runs this, where its home can't be written in; "" where there is none.
func ownHome(home string) string {
	uid := os.Geteuid()
	if uid <= 0 || canLive(home, uid) {
		return ""
	}
	at := homeOf(uid)
	if e, is, err := tree.Describe(at, ""); err != nil || !is || e.Kind != tree.Dir || e.UID.Int() != uid {
		return ""
	}
	return at
}
