package host

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// console are the two ends of a server's standard input and output: the server's,
// and the minder's.
type console struct {
	stdin, stdout *os.File // the server's
	in, out       *os.File // the minder's
}

const (
	pipeIn  = "console.in"
	pipeOut = "console.out"
)

// openConsole makes the pipes. They have names, and the server's ends are open for
// both directions: so the server neither reads an end of its input nor is killed
// by its next line when its minder is, and another minder finds them.
func openConsole(d Dir) (*console, error) {
	for _, name := range []string{pipeIn, pipeOut} {
		os.Remove(d.file(name))
		if err := unix.Mkfifo(d.file(name), 0o600); err != nil {
			return plainConsole() // this file system has none
		}
	}
	c := &console{}
	var errs []error
	open := func(name string, flags int) *os.File {
		f, err := os.OpenFile(d.file(name), flags|unix.O_NOFOLLOW, 0)
		errs = append(errs, err)
		return f
	}
	c.stdin, c.stdout = blocking(open(pipeIn, unix.O_RDWR|unix.O_NONBLOCK)),
		blocking(open(pipeOut, unix.O_RDWR|unix.O_NONBLOCK))
	c.in, c.out = open(pipeIn, unix.O_WRONLY|unix.O_NONBLOCK), open(pipeOut, unix.O_RDONLY|unix.O_NONBLOCK)
	return c, errors.Join(errs...)
}

// blocking has a server's end wait like any pipe: few programs know of one that
// does not. It was opened without waiting, so that nothing else in its place can
// hold the minder up.
func blocking(f *os.File) *os.File {
	if f != nil {
		f.Fd() // which is what sets it (os.File.Fd)
		unix.SetNonblock(int(f.Fd()), false)
	}
	return f
}

// findConsole opens the minder's ends of a console that another minder made; nil
// for an end that is not there.
func findConsole(d Dir) *console {
	c := &console{}
	open := func(name string, flags int) *os.File {
		f, err := os.OpenFile(d.file(name), flags|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
		if err != nil {
			return nil
		}
		if fi, err := f.Stat(); err != nil || fi.Mode()&os.ModeNamedPipe == 0 {
			f.Close()
			return nil
		}
		return f
	}
	c.in, c.out = open(pipeIn, unix.O_WRONLY), open(pipeOut, unix.O_RDONLY)
	return c
}

func dropConsole(d Dir) {
	os.Remove(d.file(pipeIn))
	os.Remove(d.file(pipeOut))
}

// bootID tells one start of the machine from another (random(4)).
func bootID() string {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return string(b)
}
