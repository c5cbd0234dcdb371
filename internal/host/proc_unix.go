//go:build unix

package host

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
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

// becomeOwner gives up root for good. The run folder goes to the owner first,
// since all that the minder writes stands there.
func becomeOwner(l Launch) error {
	if os.Geteuid() != 0 || l.UID < 0 {
		return nil
	}
	list, _ := filepath.Glob(filepath.Join(l.RunDir, "*"))
	for _, p := range append(list, l.RunDir, filepath.Dir(l.RunDir)) {
		if err := os.Lchown(p, l.UID, l.GID); err != nil {
			return err
		}
	}
	if err := syscall.Setgroups([]int{l.GID}); err != nil {
		return err
	}
	if err := syscall.Setgid(l.GID); err != nil {
		return err
	}
	return syscall.Setuid(l.UID)
}

// spawn starts the launch script in a session of its own and begins to reap.
func (m *minder) spawn(log *logFile) error {
	inR, inW, err := os.Pipe()
	if err != nil {
		return err
	}
	outR, outW, err := os.Pipe()
	if err != nil {
		return err
	}
	args := argv(m.l)
	m.since = time.Now().Round(0)
	m.pid, err = syscall.ForkExec(args[0], args, &syscall.ProcAttr{
		Dir: m.l.Install, Env: environ(m.l),
		Files: []uintptr{inR.Fd(), outW.Fd(), outW.Fd()},
		Sys:   &syscall.SysProcAttr{Setsid: true},
	})
	inR.Close()
	outW.Close()
	if err != nil {
		return fmt.Errorf("run %s: %w", m.l.Script, err)
	}
	m.stdin = inW
	drained := make(chan struct{})
	go func() {
		defer close(drained)
		buf := make([]byte, 32<<10)
		for {
			n, err := outR.Read(buf)
			log.Write(buf[:n])
			if err != nil {
				return
			}
		}
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
		}
	}
}

func signalTree(kill bool) {
	sig := syscall.SIGTERM
	if kill {
		sig = syscall.SIGKILL
	}
	for _, pid := range descendants() {
		syscall.Kill(pid, sig)
	}
}

// ownGroup has a command and its children killed together.
func ownGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
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
