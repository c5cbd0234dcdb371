package host

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// holdChildren makes this process the one to which orphans below it go
// (prctl(2), PR_SET_CHILD_SUBREAPER), so that a launch script which puts its
// server in the background and ends does not lose it.
func holdChildren() error { return unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

// keepMemory lets no other process of the user whom this one has become read its
// memory, which has what root knew (prctl(2), PR_SET_DUMPABLE).
func keepMemory() error { return unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) }

// InheritNothing has no process that is started from now on get a file that this one was given by
// whoever started it (close_range(2), Linux 5.11), but for those that it is meant to have.
func InheritNothing() error {

	if err := unix.CloseRange(3, ^uint(0), unix.CLOSE_RANGE_CLOEXEC); err == nil {
		return nil
	}
	list, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return fmt.Errorf("see which files are open: %w", err)
	}
	for _, e := range list {
		if fd, err := strconv.Atoi(e.Name()); err == nil && fd > 2 {
			unix.CloseOnExec(fd)
		}
	}
	return nil
}

// mapped lists the files in a process's memory (proc_pid_maps(5)).
func mapped(pid int) (files []string) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/maps", pid))
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(b)) {
		if i := strings.IndexByte(line, '/'); i >= 0 {
			files = append(files, strings.TrimSpace(line[i:]))
		}
	}
	return files
}

// parents lists the processes that have not ended, each with its parent (proc_pid_stat(5)):
// one read of each.
func parents() (all []child) {
	dir, err := os.Open("/proc")
	if err != nil {
		return nil
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1)
	for _, name := range names {
		pid, err := strconv.Atoi(name)
		if err != nil {
			continue
		}
		b, err := os.ReadFile("/proc/" + name + "/stat")
		if err != nil {
			continue // it has ended
		}
		// Behind its name, which may hold anything, in brackets.
		fields := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
		if len(fields) < 2 || fields[0] == "Z" || fields[0] == "X" {
			continue
		}
		if parent, err := strconv.Atoi(fields[1]); err == nil {
			all = append(all, child{pid, parent})
		}
	}
	return all
}

// endSignal is the signal that asks a process to end: the terminate signal; or the interrupt,
// where the program takes that one alone (proc_pid_status(5), SigCgt). A shell takes it as
// its child's, and is never meant by it.
func endSignal(pid int) syscall.Signal {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil || IsShell(pid) {
		return syscall.SIGTERM
	}
	_, rest, _ := strings.Cut(string(b), "\nSigCgt:")
	word, _, _ := strings.Cut(strings.TrimSpace(rest), "\n")
	caught, err := strconv.ParseUint(word, 16, 64)
	takes := func(s syscall.Signal) bool { return caught&(1<<(uint(s)-1)) != 0 }
	if err == nil && takes(syscall.SIGINT) && !takes(syscall.SIGTERM) {
		return syscall.SIGINT
	}
	return syscall.SIGTERM
}

// unread is how many bytes of a server's input it has not read; -1: not known (ioctl_tty(2),
// TIOCINQ).
func unread(in io.Writer) int {
	f, is := in.(*os.File)
	if !is {
		return -1
	}
	raw, err := f.SyscallConn()
	if err != nil {
		return -1
	}
	n := -1
	raw.Control(func(fd uintptr) {
		if got, err := unix.IoctlGetInt(int(fd), unix.TIOCINQ); err == nil {
			n = got
		}
	})
	return n
}
