package install

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"freshkeel/internal/host"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
)

// BecomeOwner is what a command that root runs over somebody else's folder does
// first: it becomes that user for good, with that user's home and locker, before
// anything in the folder is read. So nothing that the user can write to decides
// what root does. The name of the user is returned, "" where there was nothing to
// do: the caller is not root, or the folder is root's.
//
// self is this program, and answer the command that stays root to tell which
// processes hold a port (see Answer).
func BecomeOwner(dir, self string, answer []string) (name string, err error) {
	if os.Geteuid() != 0 {
		return "", nil
	}
	fi, err := os.Stat(dir)
	if err != nil || !fi.IsDir() {
		return "", nil // told by whoever opens it
	}
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return "", err
	}
	e, _, err := tree.Describe(real, "")
	if err != nil || e.UID.Int() <= 0 {
		return "", err
	}
	o := host.OwnerOf(e.UID.Int(), e.GID.Int())
	if o.Home == "" && os.Getenv("FRESHKEEL_HOME") == "" {
		return "", tell.Advise(fmt.Errorf("%s belongs to %s, who has no home folder on this machine for a locker", dir,
			o.Name),
			"name a folder of that user's: FRESHKEEL_HOME=/var/lib/freshkeel/"+filepath.Base(real))
	}
	if err := host.Become(o, real, self, answer); err != nil {
		return "", tell.Advise(fmt.Errorf("%s belongs to %s, and root does not work in a folder that somebody else "+
			"decides on: %w", dir, o.Name, err),
			"run the command as that user, with a program that the user can run")
	}
	return o.Name, nil
}

// Trusted refuses an install in which somebody else than the caller and root
// decides what a command does: by its profile, by Fresh Keel's own folder, or by
// exchanging one of the folders above them.
func Trusted(dir string) error {
	me := os.Geteuid()
	if me < 0 { // this system has no such users
		return nil
	}
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil // told by whoever reads it
	}
	top, _, err := tree.Describe(real, "")
	if err != nil {
		return err
	}
	for _, at := range []string{filepath.Join(real, profile.FileName), filepath.Join(real, tree.StateFolder)} {
		e, _, err := tree.Describe(at, "")
		if err != nil {
			continue // none yet, or told by whoever reads it
		}
		if e.Kind == tree.Link && (me == 0 || filepath.Base(at) == tree.StateFolder) {
			return tell.Advise(fmt.Errorf("%s is a link to %s: Fresh Keel works in the install's own folder alone", at,
				e.Target), "put the real thing in its place")
		}
		if e.Kind == tree.Link { // whoever writes to its target decides
			to, err := filepath.EvalSymlinks(at)
			if err != nil {
				continue // told by whoever reads it
			}
			if e, _, err = tree.Describe(to, ""); err != nil {
				return err
			}
			at = to
		}
		if me != 0 && filepath.Base(at) == tree.StateFolder && e.UID == 0 { // of no use here
			if top.UID.Int() != me {
				return tell.Advise(fmt.Errorf("%s belongs to root: permission denied", real),
					fmt.Sprintf("run it as the install's owner, user %d, or as root", top.UID))
			}
			return tell.Advise(fmt.Errorf("%s belongs to root: an earlier command made it", at),
				fmt.Sprintf("sudo chown -R %d %s", me, at))
		}
		if err := decides(at, e, me); err != nil {
			return err
		}
	}
	if me != 0 {
		return nil
	}
	return led(real, real)
}

// led refuses root's work in a folder of the install at dir to which whoever owns a folder
// on the way could lead it elsewhere.
func led(real, dir string) error {
	for at := real; ; at = filepath.Dir(at) {
		e, _, err := tree.Describe(at, "")
		if err != nil {
			return err
		}
		if e.UID != 0 || (others(e) && e.Mode&fs.ModeSticky == 0) {
			return tell.Advise(
				fmt.Errorf("%s can be exchanged by %s, and root must not be led elsewhere through it",
					at, writers(e)),
				fmt.Sprintf(
					"let the server have a user of its own: sudo chown -R USER %s; Fresh Keel then works as that "+
						"user; or: sudo chown root:root %s && sudo chmod go-w %s",
					dir,
					at,
					at,
				),
			)
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

// decides tells when somebody else than the caller and root can write to a file of
// ours. A group that the operator lets write is the operator's word, but for root.
func decides(at string, e tree.Entry, me int) error {
	switch {
	case e.UID.Int() != me && e.UID != 0:
	case e.Mode&0o002 != 0 || (me == 0 && others(e)):
	default:
		return nil
	}
	return tell.Advise(fmt.Errorf("%s can be written to by %s, who could have this command do anything in your name",
		at, writers(e)),
		fmt.Sprintf("run it as that user; or, if that is only an oversight: chown %d %s && chmod go-w %s", me, at, at))
}

// others tells whether somebody else than the owner and root may write.
func others(e tree.Entry) bool {
	return e.Mode&0o002 != 0 || (e.Mode&0o020 != 0 && e.GID != 0)
}

func writers(e tree.Entry) string {
	switch {
	case e.Mode&0o002 != 0:
		return "everybody"
	case e.Mode&0o020 != 0 && e.GID.Int() > 0:
		return fmt.Sprintf("%s and group %d", host.OwnerOf(e.UID.Int(), e.GID.Int()).Name, e.GID)
	}
	return host.OwnerOf(e.UID.Int(), e.GID.Int()).Name
}

// TrustedScript refuses to run as root what somebody else may write to.
func TrustedScript(path string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	fi, err := os.Stat(path)
	if err != nil {
		return nil // told by whoever runs it
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	if e, _, err := tree.Describe(real, ""); err == nil && fi.Mode().IsRegular() && (e.UID != 0 || others(e)) {
		return tell.Advise(fmt.Errorf("%s can be written to by %s, and would be run as root", path, writers(e)),
			fmt.Sprintf("let the server have a user of its own: sudo chown -R USER %s; or: sudo chown root:root %s && "+
				"sudo chmod go-w %s", filepath.Dir(path), path, path))
	}
	return nil
}
