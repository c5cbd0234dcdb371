package host

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"

	"freshkeel/internal/launch"

	"golang.org/x/sys/unix"
)

// note runs a script and stops each program of it when it has been loaded and before it does anything (ptrace(2),
// PTRACE_O_TRACEEXEC): so it is known under whatever name and path it was found, and nothing has to stand in its place. The first
// that is a server is written out, and all ends. It returns the script's status where it starts none.
func (a Apart) note(out, errs *os.File) int {
	failed := func(err error) int {
		fmt.Fprintf(errs, "freshkeel: %v\n", err)
		return apartFailed
	}
	cmd := exec.Command(a.Argv[0], a.Argv[1:]...)
	cmd.Dir, cmd.Env = a.At, a.Env
	cmd.SysProcAttr = &syscall.SysProcAttr{Ptrace: true}
	if err := cmd.Start(); err != nil {
		return failed(err)
	}
	first := cmd.Process.Pid
	known := map[int]bool{}
	status := 0
	for {
		var ws syscall.WaitStatus
		pid, err := syscall.Wait4(-1, &ws, syscall.WALL, nil)
		switch {
		case err == syscall.EINTR:
			continue
		case err != nil: // none is left
			return status
		case ws.Exited() && pid == first:
			status = ws.ExitStatus()
			continue
		case !ws.Stopped():
			continue
		}
		sig := 0
		begun := pid == first && !known[pid]
		loaded := begun || ws.StopSignal() == syscall.SIGTRAP && ws.TrapCause() == syscall.PTRACE_EVENT_EXEC
		if begun {
			if err := syscall.PtraceSetOptions(pid, syscall.PTRACE_O_TRACEEXEC|syscall.PTRACE_O_TRACEFORK|
				syscall.PTRACE_O_TRACEVFORK|syscall.PTRACE_O_TRACECLONE|unix.PTRACE_O_EXITKILL); err != nil {
				return failed(fmt.Errorf("watch what it starts: %w", err))
			}
		}
		if loaded {
			if s, is := a.about(pid); is {
				err := json.NewEncoder(out).Encode(s)
				unix.Kill(-1, unix.SIGKILL)
				if err != nil {
					return failed(err)
				}
				return 0
			}
		} else if ws.StopSignal() != syscall.SIGTRAP && !(ws.StopSignal() == syscall.SIGSTOP && !known[pid]) {
			sig = int(ws.StopSignal()) // its own; the first stop of a new process is ours
		}
		known[pid] = true
		_ = syscall.PtraceCont(pid, sig) // it may be gone
	}
}

// about is what a process was told to run, and whether that is a server.
func (a Apart) about(pid int) (s Started, serves bool) {
	at := fmt.Sprintf("/proc/%d/", pid)
	s.Program, _ = os.Readlink(at + "exe")
	s.Dir, _ = os.Readlink(at + "cwd")
	list := func(name string) []string {
		b, _ := os.ReadFile(at + name)
		if len(b) == 0 {
			return nil
		}
		return strings.Split(string(bytes.TrimSuffix(b, []byte{0})), "\x00")
	}
	s.Argv, s.Env = list("cmdline"), list("environ")
	_, serves = launch.Started(a.At, s.Program, s.Dir, s.Argv, s.Env)
	return s, serves
}
