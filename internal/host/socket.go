package host

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"freshkeel/internal/tree"
)

// A minder listens on a socket in the install. Some file systems hold no sockets
// (exFAT, FAT), and outside Linux a long path is no socket's address: there it listens
// in a private folder of the system's for such things, and a file in the socket's
// place names it.

const (
	socketFile    = "minder.sock"
	elsewhereFile = "minder.at"
)

// socketLimit is what a socket address holds on the systems at hand, in bytes
// (unix(7): 108 with the closing zero; 104 on others).
const socketLimit = 100

// dial reaches the minder, or fails with ErrNotRunning.
func (d Dir) dial() (net.Conn, error) {
	path, done, err := d.socket()
	if b, e := tree.ReadUpTo(d.file(elsewhereFile), 4<<10); e == nil && filepath.IsAbs(string(b)) {
		path, err = string(b), nil
	}
	if err != nil {
		return nil, ErrNotRunning
	}
	defer done()
	c, err := net.DialTimeout("unix", path, 2*time.Second)
	if err != nil {
		return nil, ErrNotRunning
	}
	return c, nil
}

// listen makes the socket, for the owner alone. The caller holds the minder's lock, so
// what stands in its place is a dead minder's. release takes away what was made.
func (d Dir) listen() (l net.Listener, release func(), err error) {
	os.Remove(d.file(socketFile))
	os.Remove(d.file(elsewhereFile))
	path, done, err := d.socket()
	if err == nil {
		if l, err = listenAt(path); err == nil {
			return l, done, nil
		}
		done()
		os.Remove(d.file(socketFile)) // a file system without sockets may leave a plain file
	}
	inside := err
	private, err := os.MkdirTemp("", "freshkeel-") // mode 0700
	if err != nil {
		return nil, nil, inside
	}
	release = func() {
		os.Remove(d.file(elsewhereFile))
		os.RemoveAll(private)
	}
	path = filepath.Join(private, socketFile)
	if l, err = listenAt(path); err == nil {
		if err = tree.WriteFile(d.file(elsewhereFile), []byte(path), 0o600); err == nil {
			return l, release, nil
		}
		l.Close()
	}
	release()
	return nil, nil, fmt.Errorf("%w; nor does %s hold the socket: %w", inside, private, err)
}

func listenAt(path string) (net.Listener, error) {
	l, err := net.Listen("unix", path)
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(path, 0o600); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

// socket is the socket's path inside the install. One too long for an address is
// reached through the folder's descriptor, where the system has that.
func (d Dir) socket() (path string, done func(), err error) {
	path = tree.Reached(d.file(socketFile))
	if len(path) <= socketLimit {
		return path, func() {}, nil
	}
	if !tree.ShowsOpen {
		return "", func() {}, fmt.Errorf("%s is too long for a socket address", path)
	}
	f, err := os.Open(string(d))
	if err != nil {
		return "", func() {}, err
	}
	return fmt.Sprintf("/proc/self/fd/%d/%s", f.Fd(), socketFile), func() { f.Close() }, nil
}
