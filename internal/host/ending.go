package host

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/process"
)

// over tells whether the server ended within a time, and says so.
func (m *minder) over(within time.Duration, note func(StopStep)) bool {
	select {
	case <-m.gone:
		note(StopStep{Do: "gone", Exit: &m.exit})
		return true
	case <-time.After(within):
		return false
	}
}

// awaitStop waits along with a stop under way.
func (m *minder) awaitStop(o StopOrder, note func(StopStep)) {
	if !m.over(o.Wait+o.Terminate+time.Duration(len(o.Try)+len(o.Last))*tryWait+10*time.Second, note) {
		note(StopStep{Do: "still-running", PIDs: m.processes()})
	}
}

// stop ends the server by the order.
func (m *minder) stop(o StopOrder, note func(StopStep)) {
	e := &end{m: m, o: o, note: note, held: m.holdLoop(o.Loop)}
	defer func() {
		for _, pid := range e.held { // nothing is left held, whatever came of it
			hold(pid, false)
		}
		m.mu.Lock()
		m.stopping, m.ending = false, Exit{} // a later stop begins anew
		m.mu.Unlock()
	}()
	if o.Send != "" && e.line(o.Send) && e.gone(o.Wait) {
		return
	}
	if o.Send == "" && e.tryLines(o.Try) {
		return
	}
	if o.Terminate > 0 {
		note(StopStep{Do: "terminate", PIDs: m.processes()})
		m.by("terminate", "")
		m.signal(false)
		if e.gone(o.Terminate) {
			return
		}
	}
	if e.tryLines(o.Last) {
		return
	}
	if !o.Kill {
		note(StopStep{Do: "still-running", PIDs: m.processes()})
		return
	}
	note(StopStep{Do: "kill", PIDs: m.processes()})
	m.by("kill", "")
	for range 50 { // a process may fork while the list is read
		m.signal(true)
		if e.gone(200 * time.Millisecond) {
			return
		}
	}
	note(StopStep{Do: "still-running", PIDs: m.processes()})
}

// by notes how the server is being ended.
func (m *minder) by(how, line string) {
	m.mu.Lock()
	m.ending.By, m.ending.Line = how, line
	m.mu.Unlock()
}

// end is one stop under way.
type end struct {
	m    *minder
	o    StopOrder
	note func(StopStep)
	held []int // processes of the script that would start the server again
}

// line sends one line, and tells whether the console took it.
func (e *end) line(line string) bool {
	s := StopStep{Do: "sent", Line: line}
	if err := e.m.send(line); err != nil {
		s.Error = err.Error()
	} else {
		e.m.by("line", line)
	}
	e.note(s)
	return s.Error == ""
}

// gone tells whether the server ended within a time. Once nothing is left but a script that
// is held still, that is ended too: there is nothing in it to save.
func (e *end) gone(within time.Duration) bool {
	if len(e.held) == 0 {
		return e.m.over(within, e.note)
	}
	for until := time.Now().Add(within); time.Now().Before(until); {
		if e.m.over(50*time.Millisecond, e.note) {
			return true
		}
		if left := e.m.processes(); !slices.ContainsFunc(
			left,
			func(pid int) bool { return !slices.Contains(e.held, pid) && !IsPause(pid) }, // it lets time pass for the script
		) {
			for _, pid := range left {
				e.m.mu.Lock()
				e.m.loop = true
				e.m.mu.Unlock()
				killOne(pid)
			}
		}
	}
	return e.m.over(0, e.note)
}

// tryWait is how long a line that may be the stop line is given to show any effect.
const tryWait = 5 * time.Second

// promptEnd is how soon after a line a server ends that was ended by that line for sure.
const promptEnd = 2 * time.Second

// unreadWait is how long a line may lie unread before it is clear that nobody reads the console.
const unreadWait = 2 * time.Second

// unknown are answers of a console to a line that it has no use for.
var unknown = regexp.MustCompile(
	`(?i)\b(unknown|invalid|unrecogni[sz]ed|no such|not a (valid )?command|not found|usage:|` +
		`did you mean|try .?help|type .?help)`,
)

// tryLines sends line after line until one ends the server, and tells whether one did. A
// console that nobody reads is given up at once.
func (e *end) tryLines(lines []string) bool {
	credit := ""
	for _, line := range lines {
		from := e.logSize()
		if !e.line(line) {
			return false
		}
		sent, last, answered := time.Now(), time.Now(), false
		for size := from; ; {
			if credit != "" && !answered && time.Since(sent) > promptEnd {
				e.m.by("line", credit) // the line before had an answer, and works still
			}
			if e.gone(100 * time.Millisecond) {
				return true
			}
			if n := unread(e.m.stdin); n > 0 && time.Since(sent) > unreadWait {
				e.note(StopStep{Do: "unread", Line: line})
				return false
			}
			if now := e.logSize(); now != size {
				text := e.logFrom(from)
				size, last = now, time.Now()
				if unknown.MatchString(text) {
					break
				}
				if !answered && time.Since(sent) < time.Second {
					answered, credit = true, line
				}
			}
			if time.Since(last) > tryWait || time.Since(sent) > e.o.Wait+tryWait {
				break
			}
		}
	}
	return false
}

func (e *end) logSize() int64 {
	fi, err := os.Stat(e.m.dir.Console())
	if err != nil {
		return 0
	}
	return fi.Size()
}

func (e *end) logFrom(from int64) string {
	text, _ := readFrom(e.m.dir.Console(), from)
	return string(text)
}

// shells are programs that run scripts.
var shells = []string{"sh", "bash", "dash", "ash", "ksh", "zsh", "busybox", "cmd"}

// IsShell tells whether a process is one that runs scripts.
func IsShell(pid int) bool { return slices.Contains(shells, programOf(pid)) }

// IsPause tells whether a process only lets time pass, for a script.
func IsPause(pid int) bool { return slices.Contains([]string{"sleep", "timeout"}, programOf(pid)) }

// programOf is the name of the program that a process runs.
func programOf(pid int) string {
	p, err := process.NewProcess(int32(pid))
	if err != nil {
		return ""
	}
	exe, err := p.Exe()
	if err != nil {
		exe, _ = p.Name()
	}
	return strings.TrimSuffix(filepath.Base(exe), ".exe")
}

// holdLoop holds the shells still that run a script by this name: what they started goes on,
// and is not started again when it ends.
func (m *minder) holdLoop(script string) (held []int) {
	if script == "" {
		return nil
	}
	runs := func(pid int32) bool {
		p, err := process.NewProcess(pid)
		if err != nil {
			return false
		}
		args, err := p.CmdlineSlice()
		return err == nil &&
			slices.ContainsFunc(args, func(a string) bool { return filepath.Base(a) == filepath.Base(script) })
	}
	for _, pid := range m.processes() {
		if !IsShell(pid) || !runs(int32(pid)) {
			continue
		}
		p, err := process.NewProcess(int32(pid))
		if err != nil {
			continue
		}
		// A part of the script's own, as in a pipe, has a parent with the same words.
		if parent, err := p.Ppid(); err == nil && slices.Contains(held, int(parent)) {
			continue
		}
		if hold(pid, true) {
			held = append(held, pid)
		}
	}
	return held
}

// pressKey presses a key for a script that waits for one once its server has ended.
func (m *minder) pressKey() {
	server := false // one was seen
	var alone time.Time
	for {
		select {
		case <-m.gone:
			return
		case <-time.After(250 * time.Millisecond):
		}
		pids := m.processes()
		if slices.ContainsFunc(pids, func(pid int) bool { return !IsShell(pid) }) {
			server, alone = true, time.Time{}
			continue
		}
		if alone.IsZero() {
			alone = time.Now()
		}
		if server && len(pids) > 0 && time.Since(alone) > time.Second {
			m.send("")
			alone = time.Now()
		}
	}
}

// Port is a port that processes hold: "udp" or "tcp", and its number.
type Port struct {
	Net    string
	Number int
}

func (p Port) compare(q Port) int {
	if p.Number != q.Number {
		return p.Number - q.Number
	}
	return strings.Compare(p.Net, q.Net)
}

// PortsOf lists the ports that some processes listen on, in order of their numbers.
func PortsOf(pids []int) (ports []Port) {
	for _, pid := range pids {
		ports = append(ports, portsOf(int32(pid))...)
	}
	slices.SortFunc(ports, Port.compare)
	return slices.Compact(ports)
}
