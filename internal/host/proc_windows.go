package host

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"time"
)

func detached() *syscall.SysProcAttr {
	const detachedProcess = 0x00000008
	return &syscall.SysProcAttr{CreationFlags: syscall.CREATE_NEW_PROCESS_GROUP | detachedProcess, HideWindow: true}
}

func ignoreHangup() {}

// become has nobody to become: a service here runs as who it is.
func become(Owner) error { return nil }

// ownFiles has nothing to do: nothing here begins as somebody else.
func ownFiles(int, int) {}

func (m *minder) spawn(log *logFile) error {
	args := Argv(m.l)
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Dir, cmd.Env = m.l.Install, m.environ()
	cmd.Stdout, cmd.Stderr = log, log
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("run %s: %w", m.l.Script, err)
	}
	m.pid, m.stdin = cmd.Process.Pid, in
	go func() {
		err := cmd.Wait()
		status := "status 0"
		var ee *exec.ExitError
		if errors.As(err, &ee) {
			status = fmt.Sprintf("status %d", ee.ExitCode())
		}
		for len(descendants()) > 0 {
			time.Sleep(50 * time.Millisecond)
		}
		drained := make(chan struct{})
		close(drained)
		m.ended(status, log, drained)
	}()
	return nil
}

// Windows has no terminate signal for a process without a window: ending is
// ending.
func signalTree(bool) {
	for _, pid := range descendants() {
		if p, err := os.FindProcess(pid); err == nil {
			p.Kill()
		}
	}
}

// ownGroup leaves a command to be killed alone: its children are not known here.
func ownGroup(*exec.Cmd) {}

// OpenFileLimit is none: Windows has no such limit worth telling.
func OpenFileLimit() int { return 0 }

// hold has no way to hold a process still here.
func hold(int, bool) bool { return false }

func killOne(pid int) {
	if p, err := os.FindProcess(pid); err == nil {
		p.Kill()
	}
}

// hangups are none: no process is asked that way here.
func hangups() <-chan os.Signal { return nil }

func hangUp(int) {}
