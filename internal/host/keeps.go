package host

import (
	"context"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/process"
)

// Kept is what keeps a server that was not started here: a terminal multiplexer with its console, or a
// supervisor that starts it again.
type Kept struct {
	By      string   // the program: tmux, screen, runsv …
	PID     int      // of it
	Session string   // of a multiplexer
	Send    []string // a command that types a line at its console, in which {line} is the line
	Has     []string // a command that ends with status 0 as long as the session is there
	Shell   bool     // it keeps a shell, in which the server was started by hand
	Service string   // of a supervisor: the folder or name that it keeps
	Console string   // the named pipe that is the server's standard input
}

// KeptBy is what keeps a process, as far as this user can see.
func KeptBy(pid int) (k Kept) {
	k.Console = inputOf(pid)
	env := map[string]string{}
	if list, err := (&process.Process{Pid: int32(pid)}).Environ(); err == nil {
		for _, kv := range list {
			name, value, _ := strings.Cut(kv, "=")
			env[name] = value
		}
	}
	for at := pid; at > 1; {
		p := &process.Process{Pid: int32(at)}
		parent, err := p.Ppid()
		if err != nil {
			return k
		}
		at = int(parent)
		name := strings.ToLower(programOf(at))
		args, _ := (&process.Process{Pid: parent}).CmdlineSlice()
		switch {
		case name == "tmux" && env["TMUX"] != "":
			socket, _, _ := strings.Cut(env["TMUX"], ",")
			k.By, k.PID, k.Session = name, at, said("tmux", "-S", socket, "display-message", "-p", "-t", env["TMUX_PANE"],
				"#{session_name}")
			if k.Session == "" {
				return Kept{By: name, PID: at, Console: k.Console}
			}
			k.Send = []string{"tmux", "-S", socket, "send-keys", "-t", k.Session, "{line}", "Enter"}
			k.Has = []string{"tmux", "-S", socket, "has-session", "-t", "=" + k.Session}
			return k
		case name == "screen" && env["STY"] != "":
			_, session, _ := strings.Cut(env["STY"], ".")
			k.By, k.PID, k.Session = name, at, session
			k.Send = []string{"screen", "-S", session, "-X", "stuff", "{line}\r"}
			k.Has = []string{"screen", "-S", session, "-Q", "select", "."}
			return k
		case slices.Contains(supervisors, name) && len(args) > 1:
			k.By, k.PID, k.Service = name, at, args[len(args)-1]
			if cwd, err := (&process.Process{Pid: parent}).Cwd(); err == nil && !filepath.IsAbs(k.Service) {
				k.Service = filepath.Join(cwd, k.Service)
			}
			if name == "runsv" { // it works in the folder of its service
				k.Service, _ = (&process.Process{Pid: parent}).Cwd()
			}
			return k
		case slices.Contains(shells, name) && len(args) < 2:
			k.Shell = true // somebody sits there, or sat
		}
	}
	return k
}

// supervisors start again what ends, and are told by a command of theirs.
var supervisors = []string{"runsv", "s6-supervise"}

// said is what a command prints, in a line; "" where it fails.
func said(argv ...string) string {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, argv[0], argv[1:]...).Output()
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}
