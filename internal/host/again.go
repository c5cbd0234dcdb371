package host

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/process"
)

// A server may be run by somebody who starts it again whenever it ends: a supervisor, a loop in a shell, a
// container's restart rule. A stop is none then, and no file may be exchanged.

// BackAgain says that a server was started again by somebody else right after its stop.
type BackAgain struct {
	After time.Duration // since it had ended
	PID   int
	By    string // who began it, as far as that can be seen; ""
}

func (b *BackAgain) Error() string {
	by := "whoever runs it"
	if b.By != "" {
		by = b.By + ", which began it,"
	}
	return fmt.Sprintf("the server stopped, and is back after %s (process %d): %s has to be told that it is to stay down",
		b.After.Round(100*time.Millisecond), b.PID, by)
}

// How long it is looked whether a stopped server comes back: where what began it lives on, and where not.
const (
	backLook  = 5 * time.Second
	backShort = 1500 * time.Millisecond
)

// multiplexers keep a server's terminal, outlive it, and start nothing again.
var multiplexers = []string{"tmux", "screen", "dtach", "abduco", "zellij"}

// keepers are the processes that began others and are none of them, nor the first of all.
func keepers(pids []int) (out []int) {
	for _, pid := range pids {
		p := &process.Process{Pid: int32(pid)}
		parent, err := p.Ppid()
		if err != nil || parent <= 1 || slices.Contains(pids, int(parent)) || slices.Contains(out, int(parent)) {
			continue
		}
		name := programOf(int(parent))
		if !slices.Contains(multiplexers, strings.ToLower(name)) && name != "systemd" {
			out = append(out, int(parent))
		}
	}
	return out
}

// tellers are commands by which what runs a server is told that it is to stay down.
var tellers = []string{"sv", "s6-svc", "s6-rc", "systemctl", "service", "rc-service", "docker", "podman"}

// staysDown looks for a while whether a server that has ended comes back, which now tells. by are the
// processes that had begun it.
func staysDown(by []int, now func() (pid int, running bool)) error {
	gone := time.Now()
	limit := backShort
	if slices.ContainsFunc(by, Alive) {
		limit = backLook
	}
	for time.Since(gone) < limit {
		if pid, running := now(); running {
			b := &BackAgain{After: time.Since(gone), PID: pid}
			for _, k := range append(keepers([]int{pid}), by...) {
				if name := programOf(k); name != "" && Alive(k) {
					b.By = fmt.Sprintf("%s (process %d)", name, k)
					break
				}
			}
			return b
		}
		time.Sleep(lookPause)
	}
	return nil
}

// Fronted tells whether a command keeps the server in the foreground.
func (d Dir) Fronted() bool {
	held, _ := d.front().held()
	return held
}

// StaysDown looks whether a server that a command kept in the foreground comes back after its stop: whoever
// runs that command may start it again.
func (d Dir) StaysDown() error {
	err := staysDown([]int{os.Getpid()}, func() (int, bool) {
		st := d.Status()
		return st.PID, st.Running
	})
	if back := (*BackAgain)(nil); errors.As(err, &back) {
		back.By = "" // its processes may be numbered elsewhere: in a container
	}
	return err
}
