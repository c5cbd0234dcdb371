package host

import (
	"errors"
	"os"
)

// sameNames tells whether names of the environment are the same whatever their case.
const sameNames = true

// sessionOf knows of no sessions here.
func sessionOf(int) int { return 0 }

func signalOne(p *os.Process, _ bool) { p.Kill() }

// terminateOne knows of no signal by which a process is asked to end.
func terminateOne(*os.Process) error { return errors.New("this system has no terminate signal") }

type console struct{ in, out *os.File }

// findConsole finds none: it ended with its minder.
func findConsole(Dir) *console { return &console{} }

func dropConsole(Dir) {}

// bootID is not known here: a process of before has other times.
func bootID() string { return "" }
