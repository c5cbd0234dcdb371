//go:build unix

package host

import (
	"os"

	"golang.org/x/sys/unix"
)

// sameNames tells whether names of the environment are the same whatever their case.
const sameNames = false

// sessionOf is the session of a process (setsid(2)); 0 where it can't be seen.
func sessionOf(pid int) int {
	sid, err := unix.Getsid(pid)
	if err != nil {
		return 0
	}
	return sid
}

func signalOne(p *os.Process, kill bool) {
	if kill {
		p.Kill()
		return
	}
	terminateOne(p)
}

// terminateOne gives a process the terminate signal.
func terminateOne(p *os.Process) error { return p.Signal(endSignal(p.Pid)) }
