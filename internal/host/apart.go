package host

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/launch"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Apart is a program that is run shut off: it has no network, sees no other process, and of files
// only the system's programs and libraries, what is shown to it, and its own folder, which stands
// where the install does and is all that it can write to. So it can reach neither the world nor the
// players nor another server, whatever its launch script names.
type Apart struct {
	Dir     string            `json:"dir"` // its own folder
	At      string            `json:"at"`  // the install's, in the place of which it stands
	Argv    []string          `json:"argv"`
	Env     []string          `json:"env"`
	Show    []string          `json:"show"`              // files and folders besides the system's, full paths: a runtime's, say
	Replace map[string]string `json:"replace,omitempty"` // programs in the place of which others stand: full path → what it is
	Memory  int64             `json:"memory"`            // see Bounds
	Openly  bool              `json:"openly"`            // it is not shut off: in Dir itself, by the operator's word
	Note    bool              `json:"note,omitempty"`    // see Ask
}

// ShowPrograms are the folders that have to be shown for programs to run which stand outside of the
// system's own: the runtime that a program belongs to, or the program alone, where its folder holds more
// than that (a home, an install).
func ShowPrograms(programs []string, install string) (out []string) {
	add := func(at string) {
		if at != "" && !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	for _, program := range programs {
		if !filepath.IsAbs(program) || tree.Inside(install, program) {
			continue
		}
		for _, at := range []string{filepath.Clean(program), tree.Real(program)} {
			dir := filepath.Dir(at)
			switch {
			case filepath.Base(dir) == "bin" && mayShow(filepath.Dir(dir), install):
				add(filepath.Dir(dir))
			case filepath.Base(dir) != "bin" && mayShow(dir, install):
				add(dir)
			default:
				add(at)
			}
		}
	}
	return out
}

// ShowsFor are the programs besides the system's that a launch script needs which is run apart, and stands in root: those that
// it runs, those that its search path and its runtime's variables name, and those that are given.
func ShowsFor(install, root, script string, env []string, programs ...string) []string {
	if commands, err := launch.Read(root, script, env); err == nil {
		for _, c := range commands {
			programs = append(programs, c.Path)
		}
	}
	for _, kv := range env {
		name, value, _ := strings.Cut(kv, "=")
		switch name {
		case "PATH":
			for _, dir := range filepath.SplitList(value) {
				programs = append(programs, filepath.Join(dir, "program"))
			}
		case "JAVA_HOME", "JDK_HOME", "JRE_HOME":
			programs = append(programs, filepath.Join(value, "bin", "java"))
		case "DOTNET_ROOT":
			programs = append(programs, filepath.Join(value, "dotnet"))
		}
	}
	return ShowPrograms(programs, install)
}

// mayShow tells whether a folder may be shown whole: none that holds homes, installs or the system's
// state, at any depth that is looked at.
func mayShow(dir, install string) bool {
	home, _ := os.UserHomeDir()
	if tree.Inside(dir, install) || tree.Inside(dir, home) || strings.Count(dir, "/") < 2 || filepath.Dir(dir) == "/home" {
		return false
	}
	for _, top := range []string{"/run", "/proc", "/sys", "/dev", "/etc", "/var/run"} {
		if tree.Inside(top, dir) {
			return false
		}
	}
	for _, ours := range []string{"freshkeel.toml", tree.StateFolder} {
		if _, err := os.Lstat(filepath.Join(dir, ours)); err == nil {
			return false
		}
	}
	return true
}

// Bounds end a program that is run apart. Zero is no bound.
type Bounds struct {
	Time   time.Duration
	Memory int64 // of all its processes together, in bytes
	Disk   func() bool
}

// ErrNotApart says that this system does not shut a program off.
var ErrNotApart = errors.New("this system does not shut a program off from the network and other processes")

// apartFailed is the exit status of a program that could not be shut off.
const apartFailed = 125

// ApartRun is a program that runs apart.
type ApartRun struct {
	cmd  *exec.Cmd
	in   io.WriteCloser
	done chan struct{}
	err  error
	once sync.Once

	group *memoryGroup // that bounds its memory; nil: it is counted
}

// RunApart starts a program apart; self is the command that shuts itself off and becomes it.
// line hears what it says. The program ends with ctx, and when it goes past a bound.
func RunApart(ctx context.Context, self []string, a Apart, b Bounds, line func(string)) (*ApartRun, error) {
	if b.Time > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, b.Time, ErrTooLong)
		context.AfterFunc(ctx, cancel)
	}
	r := &ApartRun{done: make(chan struct{})}
	out, w, err := r.start(self, a)
	if err != nil {
		return nil, err
	}
	a.Memory = b.Memory
	drop := func() {}
	if !a.Openly {
		r.group, drop = boundGroup(r.cmd.Process.Pid, b.Memory)
	}
	json.NewEncoder(w).Encode(a) // it waits for that, so that nothing of it is outside the group
	w.Close()
	read := make(chan struct{})
	go func() {
		defer close(read)
		var lines words.Lines
		b := make([]byte, 32<<10)
		for in := io.LimitReader(out, 64<<20); ; {
			n, err := in.Read(b)
			lines.Add(b[:n], line)
			if err != nil {
				io.Copy(io.Discard, out)
				break
			}
		}
		if rest := lines.Rest(); rest != "" {
			line(rest)
		}
	}()
	go r.mind(ctx, b)
	go func() {
		err := r.cmd.Wait()
		if r.group.killed() {
			err = fmt.Errorf("it took more than %d MiB of memory and was ended", b.Memory>>20)
		}
		drop()
		killApart(r.cmd) // what it left behind, where nothing else ends it
		select {         // what it said last; a process that it left behind may hold the other end for ever
		case <-read:
		case <-time.After(2 * time.Second):
		}
		out.Close()
		<-read
		var exit *exec.ExitError
		if errors.As(err, &exit) && exit.ExitCode() == apartFailed && !a.Openly {
			err = ErrNotApart
		}
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		r.once.Do(func() { r.err = err })
		close(r.done)
	}()
	return r, nil
}

// start starts the process that is shut off, and returns what it says and where it gets its
// order.
func (r *ApartRun) start(self []string, a Apart) (out, w *os.File, err error) {
	order, w, err := os.Pipe()
	if err != nil {
		return nil, nil, err
	}
	defer order.Close()
	failed := func(err error) (*os.File, *os.File, error) {
		w.Close()
		return nil, nil, err
	}
	if a.Openly {
		r.cmd = exec.Command(a.Argv[0], a.Argv[1:]...)
		r.cmd.Env, r.cmd.Dir = a.Env, a.Dir
		ownGroup(r.cmd)
	} else {
		r.cmd = exec.Command(self[0], self[1:]...)
		r.cmd.Env, r.cmd.Dir = []string{}, "/"
		r.cmd.ExtraFiles = []*os.File{order}
		if err := shutOff(r.cmd); err != nil {
			return failed(err)
		}
	}
	out, said, err := os.Pipe()
	if err != nil {
		return failed(err)
	}
	r.cmd.Stdout, r.cmd.Stderr = said, said
	if r.in, err = r.cmd.StdinPipe(); err == nil {
		err = r.cmd.Start()
	}
	said.Close()
	if err != nil {
		out.Close()
		return failed(fmt.Errorf("%w: %v", ErrNotApart, err))
	}
	return out, w, nil
}

// mind holds the program to its bounds.
func (r *ApartRun) mind(ctx context.Context, b Bounds) {
	look := time.NewTicker(250 * time.Millisecond)
	defer look.Stop()
	for {
		select {
		case <-r.done:
			return
		case <-ctx.Done():
			killApart(r.cmd)
			return
		case <-look.C:
		}
		why := ""
		if b.Memory > 0 {
			used, all := memoryHeld(below(r.cmd.Process.Pid))
			switch {
			case used > b.Memory:
				why = fmt.Sprintf("it took %d MiB of memory and was ended", used>>20)
			case !all && r.group == nil:
				why = "it hides how much memory it holds, and was ended"
			}
		}
		if b.Disk != nil && why == "" && b.Disk() {
			why = "it wrote too much and was ended"
		}
		if why != "" {
			r.once.Do(func() { r.err = errors.New(why) })
			killApart(r.cmd)
			return
		}
	}
}

// Send writes a line to its console.
func (r *ApartRun) Send(line string) { io.WriteString(r.in, line+"\n") }

// Done is closed when it has ended.
func (r *ApartRun) Done() <-chan struct{} { return r.done }

// Err is how it ended, once Done is closed: nil for a status of 0.
func (r *ApartRun) Err() error { return r.err }

// End asks the program to end by a line, gives it a while, and ends it.
func (r *ApartRun) End(line string, wait time.Duration) {
	select {
	case <-r.done:
		return
	default:
	}
	if line != "" {
		r.Send(line)
		select {
		case <-r.done:
			return
		case <-time.After(wait):
		}
	}
	termApart(r.cmd)
	select {
	case <-r.done:
		return
	case <-time.After(wait):
	}
	killApart(r.cmd)
	<-r.done
}
