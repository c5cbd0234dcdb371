package host

import (
	"crypto/rand"
	"encoding/json"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/tree"

	"github.com/shirou/gopsutil/v4/process"
)

// markName is the variable by which every process of a server's tree is known,
// whatever its command line looks like: a server whose minder was killed is found
// by it. Its value is new with each start.
const markName = "FRESHKEEL_SERVER_MARK"

// started is what the run folder says of the server that was started last, for as
// long as nobody saw it end.
type started struct {
	Mark    string    `json:"mark"`
	PID     int       `json:"pid,omitempty"` // of the launch script, which leads a session
	Since   time.Time `json:"since"`
	Script  string    `json:"script"`
	Boot    string    `json:"boot,omitempty"` // of the machine: numbers of processes begin anew with each
	Install uint64    `json:"install"`        // its inode: a copy of the folder is another install
}

func newMark() string { return rand.Text() }

func (d Dir) startedFile() string { return d.file("server.json") }

// install is the folder that a run folder belongs to.
func (d Dir) install() string { return filepath.Dir(filepath.Dir(string(d))) }

func (d Dir) noteStart(s started) error {
	if e, _, err := tree.Describe(d.install(), ""); err == nil {
		s.Install = e.Inode
	}
	s.Boot = bootID()
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return tree.WriteFile(d.startedFile(), b, 0o600)
}

// left is the server whose minder is gone, with those of its processes that still
// run; nil where there is none.
func (d Dir) left() (*started, []int) {
	b, err := tree.ReadUpTo(d.startedFile(), mostAsked)
	s := &started{}
	if err != nil || json.Unmarshal(b, s) != nil || s.Mark == "" || s.Boot != bootID() {
		return nil, nil
	}
	if e, _, err := tree.Describe(d.install(), ""); err != nil || e.Inode != s.Install {
		return nil, nil
	}
	pids := s.processes(d.install())
	if len(pids) == 0 {
		return nil, nil
	}
	return s, pids
}

// processes lists those that carry the mark, and those that have lost it but are
// of the session that the launch script led and work in the install.
func (s *started) processes(install string) (pids []int) {
	all, err := everyProcess()
	if err != nil {
		return nil
	}
	if real, err := filepath.EvalSymlinks(install); err == nil {
		install = real
	}
	for _, p := range all {
		if int(p.Pid) != os.Getpid() && s.has(p, install) && !zombie(p) {
			pids = append(pids, int(p.Pid))
		}
	}
	slices.Sort(pids)
	return pids
}

func (s *started) has(p *process.Process, install string) bool {
	if env, err := p.Environ(); err == nil && slices.Contains(env, markName+"="+s.Mark) {
		return true
	}
	if s.PID == 0 || sessionOf(int(p.Pid)) != s.PID {
		return false
	}
	cwd, err := p.Cwd()
	return err == nil && tree.Inside(install, cwd)
}

// signal sends each of some processes a signal, once it was seen that it still is
// one of the server's: the number may be another's by now.
func (s *started) signal(install string, pids []int, kill bool) {
	for _, pid := range pids {
		held, err := os.FindProcess(pid) // holds the process itself, where the system can
		if err != nil {
			continue
		}
		if p, err := process.NewProcess(int32(pid)); err == nil && s.has(p, install) {
			signalOne(held, kill)
		}
		held.Release()
	}
}

// handed are the variables of the environment that a server gets, as patterns: what
// finds programs and files, and what its runtime and its terminal are told. The
// rest of what an operator's shell has may hold secrets.
var handed = []string{
	"PATH", "HOME", "USER", "LOGNAME", "SHELL", "PWD", "LANG", "LANGUAGE", "LC_*", "TZ", "TERM", "COLUMNS", "LINES",
	"NO_COLOR", "TMPDIR", "TMP", "TEMP", "DISPLAY", "XDG_RUNTIME_DIR", "XDG_DATA_HOME", "XDG_CONFIG_HOME",
	"LD_LIBRARY_PATH", "JAVA_HOME", "JDK_HOME", "JRE_HOME", "JAVA_OPTS", "JAVA_TOOL_OPTIONS", "JDK_JAVA_OPTIONS",
	"CLASSPATH", "DOTNET_ROOT*", "DOTNET_GC*", "MONO_PATH", "PYTHONPATH", "PYTHONUNBUFFERED", "NODE_PATH", "WINEPREFIX",
	"WINEARCH", "WINEDEBUG",
	"SystemRoot", "SystemDrive", "windir", "ComSpec", "PATHEXT", "OS", "USERPROFILE", "USERNAME", "COMPUTERNAME",
	"HOMEDRIVE", "HOMEPATH", "APPDATA", "LOCALAPPDATA", "ProgramData", "ProgramFiles*", "CommonProgramFiles*",
	"ALLUSERSPROFILE", "PUBLIC", "NUMBER_OF_PROCESSORS", "PROCESSOR_*",
	"FRESHKEEL_DEMO_*", // what the simulated server is told
}

// ServerEnv is what of an environment, "NAME=value", a server gets: what servers
// need, and what more names. Those are names too, with * for any letters.
func ServerEnv(env, more []string) (out []string) {
	for _, kv := range env {
		name, _, ok := strings.Cut(kv, "=")
		if ok && name != markName && (matches(handed, name) || matches(more, name)) {
			out = append(out, kv)
		}
	}
	return out
}

func matches(patterns []string, name string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		ok, err := path.Match(p, name)
		return err == nil && (ok || (sameNames && strings.EqualFold(p, name)))
	})
}

// Handed tells whether a variable, or those that a pattern names, are handed to servers anyway.
func Handed(name string) bool { return slices.Contains(handed, name) }
