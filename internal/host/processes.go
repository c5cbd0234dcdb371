package host

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshkeel/internal/tree"

	psnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"
)

// child is a process that has not ended, and the one that began it.
type child struct{ pid, parent int }

// everyProcess lists all processes. What is known of one is asked for when it is needed:
// the library's own list asks for much of each, which takes longer than all else here.
func everyProcess() (all []*process.Process, err error) {
	pids, err := process.Pids()
	for _, pid := range pids {
		all = append(all, &process.Process{Pid: pid})
	}
	return all, err
}

// descendants lists every process below this one.
func descendants() []int { return below(os.Getpid()) }

// below lists every process below pid, nearest first.
func below(pid int) (out []int) {
	children := map[int][]int{}
	for _, p := range parents() {
		children[p.parent] = append(children[p.parent], p.pid)
	}
	for queue := children[pid]; len(queue) > 0; queue = queue[1:] {
		out = append(out, queue[0])
		queue = append(queue, children[queue[0]]...)
	}
	return out
}

// zombie tells whether a process has ended, and only its parent has not heard.
func zombie(p *process.Process) bool {
	st, err := p.Status()
	return err == nil && slices.Contains(st, process.Zombie)
}

// Process is one process of this machine.
type Process struct {
	PID     int
	Command string // its program and what it runs, without further arguments: they may hold secrets
	User    string
	Since   time.Time
	Unit    string // of Outside: the service that it belongs to
	OwnUnit bool   // it is a service of a user's own
}

// HowToStop is the command that ends a process which Fresh Keel did not start.
func (p Process) HowToStop() string {
	switch {
	case p.OwnUnit:
		return fmt.Sprintf(
			"it is the service %s. To let Fresh Keel run it as that: freshkeel profile set host.unit %s, "+
				"and host.user true; else: systemctl --user disable --now %s",
			p.Unit,
			p.Unit,
			p.Unit,
		)
	case p.Unit != "":
		return fmt.Sprintf(
			"it is the service %s. To let Fresh Keel run it as that: freshkeel profile set host.unit %s; "+
				"else: sudo systemctl disable --now %s",
			p.Unit,
			p.Unit,
			p.Unit,
		)
	}
	return "stop it at its own console, or have it taken over: freshkeel start --take-over"
}

// interpreters run a file that is named in their arguments.
var interpreters = []string{"java", "javaw", "sh", "bash", "dash", "ash", "zsh", "ksh", "mono", "dotnet", "node",
	"python", "python3", "cmd"}

// Outside lists the processes that run from the install but not below its
// minder: its own programs, and interpreters that run one of its files. An
// operator's shell or editor in the folder is neither, and a script of the
// operator's that runs this very command is no server.
func Outside(install string, st *Status) (out []Process) {
	all, err := everyProcess()
	if err != nil {
		return nil
	}
	if real, err := filepath.EvalSymlinks(install); err == nil {
		install = real
	}
	mine := append(lineage(), st.own()...)
	for _, p := range all {
		if slices.Contains(mine, int(p.Pid)) {
			continue
		}
		what := runsFrom(p, install)
		if what == "" {
			continue
		}
		user, _ := p.Username()
		made, _ := p.CreateTime()
		out = append(out, Process{PID: int(p.Pid), Command: what, User: user, Since: time.UnixMilli(made)})
	}
	var pids []int
	for _, p := range out {
		pids = append(pids, p.PID)
		pids = append(pids, below(p.PID)...)
	}
	for i := range out {
		out[i].Unit, out[i].OwnUnit = unitOf(out[i].PID, pids, install)
	}
	return out
}

// own are a server's processes and its minder.
func (st *Status) own() []int {
	if st == nil || !st.Running {
		return nil
	}
	if st.Minder == 0 {
		return st.Processes
	}
	return append(append(below(st.Minder), st.Processes...), st.Minder)
}

// lineage is this process and all above it.
func lineage() (pids []int) {
	for pid := int32(os.Getpid()); pid > 0; {
		pids = append(pids, int(pid))
		p, err := process.NewProcess(pid)
		if err != nil {
			break
		}
		if pid, err = p.Ppid(); err != nil {
			break
		}
	}
	return pids
}

// runsFrom tells what of the install a process runs, "" for nothing.
func runsFrom(p *process.Process, install string) string {
	state := filepath.Join(install, tree.StateFolder)
	if exe, err := p.Exe(); err == nil && tree.Inside(install, exe) && !tree.Inside(state, exe) {
		return exe
	}
	args, err := p.CmdlineSlice()
	if err != nil || len(args) < 2 {
		return ""
	}
	prog := strings.TrimSuffix(filepath.Base(args[0]), ".exe")
	jar := slices.Index(args, "-jar") // a runtime by whatever name
	if !slices.Contains(interpreters, prog) && (jar < 1 || jar+1 == len(args)) {
		return ""
	}
	cwd, err := p.Cwd()
	if err != nil {
		return ""
	}
	if !slices.Contains(interpreters, prog) {
		args = []string{prog, args[jar+1]}
	}
	for i, a := range args[1:] {
		if strings.HasPrefix(a, "-") ||
			(i > 0 && prog != "java" && prog != "javaw" && !strings.HasPrefix(args[i], "-")) {
			continue
		}
		if !filepath.IsAbs(a) {
			a = filepath.Join(cwd, a)
		}
		if fi, err := os.Stat(a); err == nil && fi.Mode().IsRegular() && tree.Inside(install, a) {
			return prog + " " + a
		}
	}
	return ""
}

// Holder is a process that has files of an install open.
type Holder struct {
	Process
	Files []string // absolute
}

// OpenElsewhere lists the processes that have files of the install open and are
// neither its server nor this command or what runs it.
func OpenElsewhere(install string, st *Status) (out []Holder) {
	all, err := everyProcess()
	if err != nil {
		return nil
	}
	if real, err := filepath.EvalSymlinks(install); err == nil {
		install = real
	}
	mine := append(lineage(), st.own()...)
	state := filepath.Join(install, tree.StateFolder)
	for _, p := range all {
		if slices.Contains(mine, int(p.Pid)) {
			continue
		}
		files, err := p.OpenFiles()
		if err != nil {
			continue // another user's, or one that has just ended
		}
		h := Holder{}
		for _, f := range files {
			if f.Path != install && tree.Inside(install, f.Path) && !tree.Inside(state, f.Path) &&
				!slices.Contains(h.Files, f.Path) {
				h.Files = append(h.Files, f.Path)
			}
		}
		if len(h.Files) > 0 {
			h.Process = describe(p)
			out = append(out, h)
		}
	}
	return out
}

// describe names a process without its further arguments.
func describe(p *process.Process) Process {
	name, err := p.Exe()
	if err != nil {
		name, _ = p.Name()
	}
	user, _ := p.Username()
	made, _ := p.CreateTime()
	return Process{PID: int(p.Pid), Command: name, User: user, Since: time.UnixMilli(made)}
}

// Find describes a process; ok is false where it can't be seen.
func Find(pid int) (p Process, ok bool) {
	one, err := process.NewProcess(int32(pid))
	if err != nil || pid == 0 {
		return p, false
	}
	return describe(one), true
}

// MostOpen is how many files the busiest of some processes has open.
func MostOpen(pids []int) (most int) {
	for _, pid := range pids {
		if p, err := process.NewProcess(int32(pid)); err == nil {
			if n, err := p.NumFDs(); err == nil {
				most = max(most, int(n))
			}
		}
	}
	return most
}

// Alive tells whether a process exists.
func Alive(pid int) bool {
	ok, err := process.PidExists(int32(pid))
	return err == nil && ok
}

// portsOf lists the ports that a process listens on.
func portsOf(pid int32) (ports []Port) {
	conns, err := psnet.ConnectionsPid("inet", pid)
	if err != nil {
		return nil
	}
	for _, c := range conns {
		switch {
		case c.Type == unixStream && c.Status == "LISTEN":
			ports = append(ports, Port{"tcp", int(c.Laddr.Port)})
		case c.Type == unixDatagram && c.Laddr.Port != 0 && c.Raddr.Port == 0:
			ports = append(ports, Port{"udp", int(c.Laddr.Port)})
		}
	}
	return ports
}

// Peers are the addresses of those who are connected to ports that some processes listen on over tcp,
// sorted; of ports that are given, where there are any. Over udp the system knows none.
func Peers(pids []int, ports []Port) (out []string) {
	listens := map[uint32]bool{}
	for _, p := range PortsOf(pids) {
		if p.Net == "tcp" && (len(ports) == 0 || slices.Contains(ports, p)) {
			listens[uint32(p.Number)] = true
		}
	}
	for _, pid := range pids {
		conns, err := psnet.ConnectionsPid("tcp", int32(pid))
		if err != nil {
			continue
		}
		for _, c := range conns {
			if c.Status == "ESTABLISHED" && listens[c.Laddr.Port] {
				out = append(out, c.Raddr.IP)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Datagrams is how many came over udp to the network that a process is in, so far; known is false where the system does
// not count them.
func Datagrams(pid int) (n uint64, known bool) {
	for _, file := range []string{"snmp", "snmp6"} {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/net/%s", pid, file))
		if err != nil {
			continue
		}
		column := -1
		for line := range strings.Lines(string(b)) { // snmp has a row of names and one of numbers, snmp6 a pair a line
			words := strings.Fields(line)
			at := -1
			switch {
			case len(words) == 2 && words[0] == "Udp6InDatagrams":
				at = 1
			case len(words) > 1 && words[0] == "Udp:" && column < 0:
				column = slices.Index(words, "InDatagrams")
			case len(words) > column && words[0] == "Udp:":
				at = column
			}
			if at > 0 {
				if m, err := strconv.ParseUint(words[at], 10, 64); err == nil {
					n, known = n+m, true
				}
			}
		}
	}
	return n, known
}

// The kinds of sockets, as the library counts them (socket(2)).
const (
	unixStream   = 1
	unixDatagram = 2
)

// portHolders asks the system itself.
func portHolders(network string, port int) (pids []int, err error) {
	conns, err := psnet.Connections(network)
	if err != nil {
		return nil, err
	}
	for _, c := range conns {
		if int(c.Laddr.Port) == port && (network == "udp" || c.Status == "LISTEN") {
			pids = append(pids, int(c.Pid))
		}
	}
	return pids, nil
}

// Using lists the files that some processes run, have open, or have mapped into their
// memory, by their whole paths; seen is false where none of them can be looked at.
func Using(pids []int) (files []string, seen bool) {
	for _, pid := range pids {
		p, err := process.NewProcess(int32(pid))
		if err != nil {
			continue
		}
		if exe, err := p.Exe(); err == nil {
			files, seen = append(files, exe), true
		}
		if open, err := p.OpenFiles(); err == nil {
			for _, f := range open {
				files, seen = append(files, f.Path), true
			}
		}
		files = append(files, mapped(pid)...)
	}
	slices.Sort(files)
	return slices.Compact(files), seen
}

// Use is how processes use a file: it is open for reading, or open or mapped for writing, or mapped as a program; Says
// is for what a process says its lines to.
type Use struct{ Reads, Writes, Runs, Says bool }
