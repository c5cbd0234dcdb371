package host

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"syscall"
	"time"

	"freshkeel/internal/tree"

	"github.com/shirou/gopsutil/v4/process"
)

// A unit is stopped by its manager, which signals those of its processes that the unit says (KillMode=), and
// kills what is left after a time of the unit's own. The server may be among those that it never tells, a
// script's child, say: such processes get the terminate signal from here, before anything is killed. What else
// is in the unit's group, as in one of a multiplexer that hosts more, is nobody's to signal here.

// ofInstall are the processes of a group that run from the install, and what they began.
func (s *Service) ofInstall(group string) (own, others []int) {
	all := groupProcesses(group)
	for _, pid := range all {
		if p := (&process.Process{Pid: int32(pid)}); runsFrom(p, tree.Real(s.Dir)) != "" && !slices.Contains(own, pid) {
			own = append(append(own, pid), below(pid)...)
		}
	}
	slices.Sort(own)
	own = slices.Compact(own)
	for _, pid := range all {
		if !slices.Contains(own, pid) {
			others = append(others, pid)
		}
	}
	return own, others
}

// stopping is one stop of a unit under way.
type stopping struct {
	*Service
	o     StopOrder
	note  func(StopStep)
	group string
	by    string
	told  []int // processes that were signalled from here
}

// untold are the processes of the install that the manager would not signal.
func (st *stopping) untold(u *Unit) (pids []int) {
	if u.Kill == "control-group" || u.Kill == "" {
		return nil
	}
	own, _ := st.ofInstall(st.group)
	for _, pid := range own {
		if pid != u.Main && !IsShell(pid) && !IsPause(pid) {
			pids = append(pids, pid)
		}
	}
	return pids
}

// tell gives processes the terminate signal and waits for their end. The script that began them, which is
// the unit's main process, is held still meanwhile: its end would have the manager kill them, or start another.
func (st *stopping) tell(pids []int, main int) error {
	if len(pids) == 0 {
		return nil
	}
	if main > 0 && !slices.Contains(pids, main) && IsShell(main) && hold(main, true) {
		defer hold(main, false)
	}
	st.by, st.told = "terminate", pids
	st.note(StopStep{Do: "untold", PIDs: pids})
	for _, pid := range pids {
		if p, err := os.FindProcess(pid); err == nil {
			signalOne(p, false)
		}
	}
	alive := func() (left []int) {
		for _, pid := range pids {
			if Alive(pid) && !zombie(&process.Process{Pid: int32(pid)}) {
				left = append(left, pid)
			}
		}
		return left
	}
	for end := time.Now().Add(max(st.o.Wait, st.o.Terminate)); time.Now().Before(end); time.Sleep(look) {
		if len(alive()) == 0 {
			return nil
		}
	}
	return st.kill(alive())
}

// kill kills what is left of the install's processes, where the order allows it.
func (st *stopping) kill(left []int) error {
	if len(left) == 0 {
		return nil
	}
	if !st.o.Kill {
		st.note(StopStep{Do: "still-running", PIDs: left})
		return &StillRunning{left}
	}
	st.note(StopStep{Do: "kill", PIDs: left})
	st.by = "kill"
	for _, pid := range left {
		killOne(pid)
	}
	return nil
}

// end has the manager stop the unit, and waits until it has and until no process of the install is left.
func (st *stopping) end(u *Unit) (*Unit, error) {
	if !u.Stops { // else its own command comes first
		if err := st.tell(st.untold(u), u.Main); err != nil {
			return nil, err
		}
	}
	limit := st.o.Wait + st.o.Terminate + stopSlack
	if !st.o.Hopeless { // its manager kills it when the unit says so
		limit = max(limit, u.Within+10*time.Second)
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	if err := st.bus.end(ctx); err != nil {
		return nil, err
	}
	var last *Unit
	settled := func(u *Unit) bool { last = u; return !u.Job && (u.Active == "inactive" || u.Active == "failed") }
	err := st.settle(ctx, look, settled)
	if err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return nil, err
	}
	if err == nil { // what the manager left, it never told
		own, _ := st.ofInstall(st.group)
		own = slices.DeleteFunc(own, func(pid int) bool { return slices.Contains(st.told, pid) })
		if err := st.tell(own, 0); err != nil {
			return nil, err
		}
	}
	own, others := st.ofInstall(st.group)
	if err == nil && len(own) == 0 {
		if len(others) > 0 {
			st.note(StopStep{Do: "left", PIDs: others})
		}
		return last, nil
	}
	if len(own) == 0 { // the manager does not come to an end, and nothing of the server is left
		own = others
	}
	if err := st.kill(own); err != nil {
		return nil, err
	}
	again, cancelAgain := context.WithTimeout(context.Background(), stopSlack)
	defer cancelAgain()
	if len(others) == 0 { // processes that may not be signalled from here, the manager may
		if own, _ := st.ofInstall(st.group); len(own) > 0 {
			if err := st.bus.kill(again); err != nil {
				return nil, err
			}
		}
	}
	gone := func(u *Unit) bool {
		own, _ := st.ofInstall(st.group)
		return settled(u) && len(own) == 0
	}
	if err := st.settle(again, look, gone); err != nil {
		return nil, &StillRunning{own}
	}
	return last, nil
}

// Terminate gives processes the terminate signal; those that have ended meanwhile are none.
func Terminate(pids []int) error {
	for _, pid := range pids {
		p, err := os.FindProcess(pid)
		if err == nil {
			err = terminateOne(p)
		}
		if err != nil && !errors.Is(err, os.ErrProcessDone) && Alive(pid) {
			return fmt.Errorf("process %d: %w", pid, err)
		}
	}
	return nil
}

// Programs names processes by what they run, for people.
func Programs(pids []int) (out []string) {
	for _, pid := range pids {
		out = append(out, fmt.Sprintf("process %d (%s)", pid, programOf(pid)))
	}
	return out
}

// Lost tells what a kill cost; "" where nothing was killed.
func (e *Exit) Lost() string {
	if e == nil || e.By != "kill" {
		return ""
	}
	return "killed" + map[bool]string{true: " by " + e.Killer}[e.Killer != ""] + ": what it had not saved is lost"
}

// killed tells of a unit whose processes its manager killed as they took too long.
func (u *Unit) killed() string {
	if u.Result != "timeout" || (u.Code != 2 && u.Code != 3) ||
		u.Status != int(syscall.SIGKILL) { // waitid(2): killed, dumped
		return ""
	}
	return fmt.Sprintf("its manager after %s (TimeoutStopSec of %s)", u.Within, u.Name)
}
