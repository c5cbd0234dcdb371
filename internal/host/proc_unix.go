//go:build unix

package host

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// detached gives the minder a session of its own, away from the terminal.
func detached() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }

// ignoreHangup takes the signals and does nothing. To ignore them properly
// would be handed down: the server would be deaf to them too.
func ignoreHangup() {
	signal.Notify(make(chan os.Signal, 1), syscall.SIGHUP, syscall.SIGINT, syscall.SIGQUIT, syscall.SIGPIPE)
}

// hangups are the hangups that this process gets from now on.
func hangups() <-chan os.Signal {
	c := make(chan os.Signal, 1)
	signal.Notify(c, syscall.SIGHUP)
	return c
}

// hangUp sends a process a hangup, which a minder takes and does nothing for but to look at its folder.
func hangUp(pid int) { syscall.Kill(pid, syscall.SIGHUP) }

// become gives up root for good, in every thread.
func become(o Owner) error {
	if err := syscall.Setgroups(o.Groups); err != nil {
		return err
	}
	if err := syscall.Setgid(o.GID); err != nil {
		return err
	}
	if err := syscall.Setuid(o.UID); err != nil {
		return err
	}
	if os.Geteuid() != o.UID || syscall.Setuid(0) == nil {
		return errors.New("the system let this process stay root")
	}
	return keepMemory()
}

// ownFiles has the files from a number on, as many as are given, end with this process: what it
// starts does not get them.
func ownFiles(from, to int) {
	for fd := from; fd < to; fd++ {
		syscall.CloseOnExec(fd)
	}
}

// spawn starts the launch script in a session of its own and begins to reap.
func (m *minder) spawn(log *logFile) error {
	c, err := openConsole(m.dir)
	if err != nil {
		return err
	}
	args := Argv(m.l)
	m.pid, err = syscall.ForkExec(args[0], args, &syscall.ProcAttr{
		Dir: m.l.Install, Env: m.environ(),
		Files: []uintptr{c.stdin.Fd(), c.stdout.Fd(), c.stdout.Fd()},
		Sys:   &syscall.SysProcAttr{Setsid: true},
	})
	c.stdin.Close()
	c.stdout.Close()
	if err != nil {
		return fmt.Errorf("run %s: %w", m.l.Script, err)
	}
	m.stdin = c.in
	drained := make(chan struct{})
	go func() {
		defer close(drained)
		io.Copy(log, c.out)
	}()
	go func() { m.ended(m.reap(), log, drained) }()
	return nil
}

// reap waits for every process of the tree and returns the launch script's
// exit status once none is left. Orphans come here too, where the system hands
// them to the nearest holder (see holdChildren).
func (m *minder) reap() (status string) {
	for {
		var ws syscall.WaitStatus
		pid, err := syscall.Wait4(-1, &ws, 0, nil)
		switch {
		case errors.Is(err, syscall.EINTR):
		case err != nil: // ECHILD: none left to wait for
			for len(descendants()) > 0 {
				time.Sleep(50 * time.Millisecond)
			}
			return status
		case pid == m.pid:
			status = exitStatus(ws)
			m.mu.Lock()
			m.script = status
			m.mu.Unlock()
		}
	}
}

func signalTree(kill bool) {
	for _, pid := range descendants() {
		sig := syscall.SIGKILL
		if !kill {
			sig = endSignal(pid)
		}
		syscall.Kill(pid, sig)
	}
}

// hold has a process stand still, or go on.
func hold(pid int, still bool) bool {
	sig := syscall.SIGCONT
	if still {
		sig = syscall.SIGSTOP
	}
	return syscall.Kill(pid, sig) == nil
}

func killOne(pid int) { syscall.Kill(pid, syscall.SIGKILL) }

// ownGroup has a command and its children killed together. It is a session of its
// own, away from the terminal: what runs there could type at it otherwise.
func ownGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}

// OpenFileLimit is how many files at once a server that is started from here
// may have open; 0: it can't be told. A child is asked, since a Go program
// raises its own limit and hands the old one down.
func OpenFileLimit() int {
	out, err := exec.Command("/bin/sh", "-c", "ulimit -n").Output()
	if err != nil {
		return 0
	}
	n, _ := strconv.Atoi(strings.TrimSpace(string(out))) // "unlimited" is none
	return n
}
