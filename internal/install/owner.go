package install

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Enter is where a command over the install at dir begins: it comes to the folder once, keeps it
// for all that is opened there later, and tells as whom the command is to work. A command that
// root runs over somebody else's folder works as that user, before anything in the folder is read:
// so nothing that the user can write to decides what root does. owner is nil where there is nothing
// to become: the caller is not root, the folder is root's, or it is not there, which whoever opens
// it tells.
//
// Root works as itself only in a folder to which nobody else can lead it, and as another user only
// where nobody but that user laid a link on the way.
func Enter(dir string) (owner *host.Owner, err error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	h, err := tree.Hold(abs)
	if err != nil {
		return nil, nil
	}
	tree.Keep(abs, h)
	switch {
	case os.Geteuid() != 0:
		return nil, nil
	case h.UID == 0:
		return nil, led(h, abs)
	}
	if err := linked(h, abs); err != nil {
		return nil, err
	}
	return withHome(host.OwnerOf(h.UID.Int(), h.GID.Int()), h)
}

// linked refuses root's work as the owner of a folder to which somebody else led it by a link: that
// would let them decide what is done in the owner's name.
func linked(h *tree.Held, dir string) error {
	for _, d := range h.Others(h.UID) {
		if d.Link {
			return tell.Advise(fmt.Errorf("the way to %s leads through a link in %s, which %s can exchange, to a folder of %s",
				dir, d.At, deciders(d), host.OwnerOf(h.UID.Int(), h.GID.Int()).Name),
				"name the folder itself, if it is the right one: "+h.Dir)
		}
	}
	return nil
}

// Trusted refuses an install in which somebody else than the caller and root
// decides what a command does: by its profile, by Fresh Keel's own folder, or by
// exchanging one of the folders above them.
func Trusted(dir string) error {
	h, done, err := hold(dir)
	if err != nil {
		return nil // told by whoever reads it
	}
	defer done()
	return trusted(h, dir)
}

// hold is the folder that is kept for this command, or the one that stands at dir now.
func hold(dir string) (h *tree.Held, done func(), err error) {
	if h := tree.Kept(dir); h != nil {
		return h, func() {}, nil
	}
	if h, err = tree.Hold(dir); err != nil {
		return nil, nil, err
	}
	return h, func() { h.Close() }, nil
}

func trusted(h *tree.Held, dir string) error {
	me := os.Geteuid()
	if me < 0 { // this system has no such users
		return nil
	}
	for _, name := range []string{profile.FileName, tree.StateFolder} {
		if err := trustedFile(h, name, me); err != nil {
			return err
		}
	}
	if me != 0 {
		return nil
	}
	return led(h, dir)
}

// trustedFile refuses a file or folder of ours in a folder where somebody else decides what it is.
func trustedFile(h *tree.Held, name string, me int) error {
	at := filepath.Join(h.Dir, name)
	e, _, err := h.Describe(name)
	if err != nil {
		return nil // none yet, or told by whoever reads it
	}
	if e.Kind == tree.Link && (me == 0 || name == tree.StateFolder) {
		return tell.Advise(fmt.Errorf("%s is a link to %s: Fresh Keel works in the install's own folder alone", at,
			e.Target), "put the real thing in its place")
	}
	if e.Kind == tree.Link { // whoever writes to its target decides
		to, err := filepath.EvalSymlinks(at)
		if err != nil {
			return nil // told by whoever reads it
		}
		if e, _, err = tree.Describe(to, ""); err != nil {
			return err
		}
		at = to
	}
	if me != 0 && name == tree.StateFolder && e.UID == 0 { // of no use here
		if h.UID.Int() != me {
			return tell.Advise(fmt.Errorf("%s belongs to root: permission denied", h.Dir),
				fmt.Sprintf("run it as the install's owner, user %d, or as root", h.UID))
		}
		return tell.Advise(fmt.Errorf("%s belongs to root: an earlier command made it", at),
			fmt.Sprintf("sudo chown -R %d %s", me, words.Shell(at)))
	}
	if err := decides(at, e, me); err != nil || me != 0 {
		return err
	}
	more, err := h.Writers(name)
	if err == nil && len(more) > 0 {
		err = mayDoAnything(at, deciders(more...), me)
	}
	return err
}

// led refuses root's work in a folder, of the install at dir, to which somebody else could lead it,
// or into which they could write.
func led(h *tree.Held, dir string) error {
	at, who := h.Dir, ""
	inside, err := tree.WritersOf(h.File())
	switch {
	case err != nil:
		return err
	case h.UID != 0:
		who = writers(h.Entry)
	case len(inside) > 0:
		who = deciders(inside...)
	case len(h.By) > 0:
		at, who = h.By[0].At, deciders(h.By[0])
	default:
		return nil
	}
	return tell.Advise(
		fmt.Errorf("%s can be exchanged by %s, and root must not be led elsewhere through it", at, who),
		fmt.Sprintf(
			"let the server have a user of its own: sudo chown -R USER %s; Fresh Keel then works as that "+
				"user; or: sudo chown root:root %s && sudo chmod go-w %s", words.Shell(dir), words.Shell(at), words.Shell(at)))
}

// deciders names users and groups.
func deciders(list ...tree.Decider) string {
	var out []string
	for _, d := range list {
		switch {
		case d.Everyone:
			return "everybody"
		case d.UID == tree.NoID:
			out = append(out, fmt.Sprintf("group %d", d.GID))
		default:
			out = append(out, host.OwnerOf(d.UID.Int(), 0).Name)
		}
	}
	return strings.Join(out, " and ")
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
	return mayDoAnything(at, writers(e), me)
}

func mayDoAnything(at, who string, me int) error {
	do := "run it by sudo, as root: it then works as that user" // who can't change whose the file is
	if me == 0 {
		do = fmt.Sprintf("run it as that user; or, if that is only an oversight: chown root %s && chmod go-w %s", words.Shell(at),
			words.Shell(at))
	}
	return tell.Advise(fmt.Errorf("%s can be written to by %s, who could have this command do anything in your name",
		at, who), do)
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

// RootsAlone refuses a program that somebody else than root could exchange.
func RootsAlone(path string) error {
	h, err := tree.Hold(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer h.Close()
	e, _, err := h.Describe(filepath.Base(path))
	if err != nil {
		return err
	}
	f, err := tree.OpenRegular(path)
	if err != nil {
		return err
	}
	defer f.Close()
	others, err := tree.WritersOf(f)
	if err == nil && (e.UID != 0 || h.UID != 0 || len(others)+len(h.Others(0)) > 0) {
		err = tell.Advise(fmt.Errorf("%s can be exchanged by others than root", path),
			"sudo install -o root -m 755 "+words.Shell(path)+" /usr/local/bin/freshkeel, and run it from there")
	}
	return err
}

// TrustedScript refuses to run as root what somebody else may write to.
func TrustedScript(path string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	f, err := tree.OpenRegular(path)
	if err != nil {
		return nil // told by whoever runs it
	}
	defer f.Close()
	e, err := tree.DescribeOpen(f, "")
	if err != nil {
		return err
	}
	others, err := tree.WritersOf(f)
	if err != nil {
		return err
	}
	who := deciders(others...)
	switch {
	case e.UID != 0:
		who = writers(e)
	case len(others) == 0:
		return nil
	}
	return tell.Advise(fmt.Errorf("%s can be written to by %s, and would be run as root", path, who),
		fmt.Sprintf("let the server have a user of its own: sudo chown -R USER %s; or: sudo chown root:root %s && "+
			"sudo chmod go-w %s", words.Shell(filepath.Dir(path)), words.Shell(path), words.Shell(path)))
}
