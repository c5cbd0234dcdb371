package host

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Commands is a server that the operator's own commands start, stop and look at: in a terminal
// multiplexer, say. What it says stands in a log, or a command follows it.
type Commands struct {
	Install          string
	Begin, End, Look []string // start, stop, status: program and arguments
	Listen           []string // a command that prints what the server says, for as long as it runs
	Log              string   // the file in which it says it; "": none
	Console          string   // as a Service's
	Say              []string
	Env              []string
}

const (
	lookLimit  = 15 * time.Second // of a status command
	lookPause  = 300 * time.Millisecond
	beginLimit = time.Minute
)

// run runs one of the commands to its end, in the install.
func (c *Commands) run(argv []string, limit time.Duration) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Dir, cmd.Env = c.Install, c.Env
	cmd.WaitDelay = time.Second // what it leaves running may keep its output open
	out, err := cmd.CombinedOutput()
	text := strings.TrimSpace(string(out[:min(len(out), 2000)]))
	if errors.Is(err, exec.ErrWaitDelay) {
		err = nil
	}
	if ctx.Err() != nil {
		return text, fmt.Errorf("%s did not end within %s: it must return once it has done its work", argv[0], limit)
	}
	return text, err
}

// processes are those that run from the install, and what they began.
func (c *Commands) processes() (pids []int, since time.Time) {
	for _, p := range Outside(c.Install, nil) {
		pids = append(append(pids, p.PID), below(p.PID)...)
		if since.IsZero() || p.Since.Before(since) {
			since = p.Since
		}
	}
	slices.Sort(pids)
	return slices.Compact(pids), since
}

// Status asks the status command: it ends with status 0 where the server runs, and with
// another one where it does not. Where it can't be run, nothing is known. Where it says that
// the server is down, and processes run from the install, the two disagree, and that is told.
func (c *Commands) Status() *Status {
	st := &Status{By: "by its own commands"}
	pids, since := c.processes()
	out, err := c.run(c.Look, lookLimit)
	var exit *exec.ExitError
	switch {
	case err == nil:
		st.Running, st.Processes, st.Since = true, pids, since
		if len(pids) > 0 {
			st.PID = pids[0]
		}
	case errors.As(err, &exit) && exit.ExitCode() > 0:
		if len(pids) > 0 {
			st.Trouble = fmt.Sprintf("%s says that it is down, and processes %v run from the install", c.Look[0], pids)
		}
		st.Last = &Exit{Status: "not known: its own commands run it"}
	default:
		st.Running, st.Silent = true, true
		st.Trouble = fmt.Sprintf("%s: %v %s", c.Look[0], err, out)
	}
	return st
}

// Start runs the start command, and waits until the status command says that it runs.
func (c *Commands) Start(ctx context.Context, _ []string, _ Launch) (*Status, error) {
	if st := c.Status(); st.Running {
		return nil, &AlreadyRunning{st.PID, st.Since, st.How()}
	}
	began := time.Now()
	out, err := c.run(c.Begin, beginLimit)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %s", strings.Join(c.Begin, " "), err, out)
	}
	for end := time.Now().Add(lookLimit); ; {
		st := c.Status()
		if st.Running {
			if st.Since.Before(began) {
				st.Since = began
			}
			return st, nil
		}
		if time.Now().After(end) {
			return nil, fmt.Errorf("%s ended well, and %s still says that the server is down", c.Begin[0], c.Look[0])
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lookPause):
		}
	}
}

// Stop runs the stop command, and waits until the status command and the processes agree that
// the server has ended. Nothing is signalled: only the operator's commands know how.
func (c *Commands) Stop(o StopOrder, note func(StopStep)) (*Exit, error) {
	if note == nil {
		note = func(StopStep) {}
	}
	limit := o.Wait + o.Terminate + stopSlack
	was, _ := c.processes()
	by := keepers(was)
	if slices.Contains(tellers, filepath.Base(c.End[0])) { // they are told by their own command
		by = nil
	}
	out, err := c.run(c.End, limit)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %s", strings.Join(c.End, " "), err, out)
	}
	unknown, returned, told := 0, time.Now(), false
	for end := time.Now().Add(limit); ; time.Sleep(lookPause) {
		pids, _ := c.processes()
		if len(pids) > 0 && !told && time.Since(returned) > 3*time.Second {
			told = true
			note(StopStep{Do: "returned", Line: c.End[0], PIDs: pids})
		}
		st := c.Status()
		if unknown++; !st.Silent {
			unknown = 0
		}
		if unknown > 3 && len(pids) == 0 {
			return nil, fmt.Errorf("%s ended well, and whether the server did can't be told: %s", c.End[0], st.Trouble)
		}
		if !st.Running && len(pids) == 0 {
			e := &Exit{At: time.Now(), Status: "by " + c.End[0], Asked: true, By: "command"}
			if err := staysDown(by, func() (int, bool) {
				if pids, _ := c.processes(); len(pids) > 0 {
					return pids[0], true
				}
				st := c.Status()
				return st.PID, st.Running && !st.Silent
			}); err != nil {
				return nil, err
			}
			note(StopStep{Do: "gone", Exit: e})
			return e, nil
		}
		if time.Now().After(end) {
			note(StopStep{Do: "still-running", PIDs: pids})
			return nil, fmt.Errorf("%s has ended, and the server has not, %s later: processes %v run on; nothing is signalled "+
				"where commands of your own run it", c.End[0], limit, pids)
		}
	}
}

// Wait returns when the status command says that the server is down, or when none of the
// processes that it had is left.
func (c *Commands) Wait(ctx context.Context) (*Exit, error) {
	first, _ := c.processes()
	for {
		st := c.Status()
		gone := len(first) > 0 &&
			!slices.ContainsFunc(st.Processes, func(p int) bool { return slices.Contains(first, p) })
		if !st.Running || (gone && !st.Silent) {
			return &Exit{At: time.Now(), Status: "not known: its own commands run it"}, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lookPause):
		}
	}
}

// Send puts a line on the server's console, by the operator's own way.
func (c *Commands) Send(line string) error {
	return say(line, c.Console, c.Say, c.Install, c.Env, "the server")
}

// Hold puts lines on the console, and others when release is called.
func (c *Commands) Hold(before, after []string) (func(), error) { return holdBy(c.Send, before, after) }

// Tail are the last lines of the log.
func (c *Commands) Tail(n int) ([]string, error) {
	if c.Log == "" {
		return nil, errors.New("where the server says its lines is not known: [ready] log names the file")
	}
	return Tail(c.Log, n)
}

// Follow hears the command that follows what the server says. What stands in [ready] log is
// heard besides, by whoever watches.
func (c *Commands) Follow(ctx context.Context, ended <-chan struct{}, each func(string)) error {
	if len(c.Listen) == 0 {
		select {
		case <-ctx.Done():
		case <-ended:
		}
		return nil
	}
	return listen(ctx, c.Listen, c.Install, c.Env, ended, each)
}

// listen hears a command that prints what a server says, until ctx or the server ends.
func listen(ctx context.Context, argv []string, dir string, env []string, ended <-chan struct{},
	each func(string)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Dir, cmd.Env, cmd.WaitDelay = dir, env, time.Second
	r, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return fmt.Errorf("%s: %w", argv[0], err)
	}
	go func() {
		select {
		case <-ctx.Done():
		case <-ended:
			time.Sleep(lookPause) // its last lines
			cancel()
		}
	}()
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, mostEnd)
	for lines.Scan() {
		each(strings.TrimRight(lines.Text(), "\r"))
	}
	cmd.Wait()
	return nil
}

// mostEnd bounds a line of what a command or the journal says, in bytes.
const mostEnd = 1 << 20

// Live follows the log, or hears the command that follows what the server says.
func (c *Commands) Live(ctx context.Context, n int, ended <-chan struct{}, each func(string)) error {
	switch {
	case c.Log != "":
		return followFile(ctx, c.Log, n, ended, each)
	case len(c.Listen) == 0:
		_, err := c.Tail(n) // tells what is missing
		return err
	}
	return c.Follow(ctx, ended, each)
}

// Mark is the end of the log.
func (c *Commands) Mark() Mark { return markOf(c.Log) }

// After are the lines of the log behind a mark.
func (c *Commands) After(m Mark) ([]string, error) {
	if c.Log == "" {
		return nil, errors.New("where the server says its lines is not known")
	}
	return linesFrom(c.Log, m.size)
}

// Runs tells whether there is a program: by its full path, or along the search path of an
// environment.
func Runs(program string, env []string) bool {
	can := func(at string) bool {
		fi, err := os.Stat(at)
		return err == nil && fi.Mode().IsRegular() && (!HasModes || fi.Mode()&0o111 != 0)
	}
	if strings.ContainsAny(program, `/\`) {
		return can(program)
	}
	for _, kv := range env {
		if v, is := strings.CutPrefix(kv, "PATH="); is {
			for _, dir := range filepath.SplitList(v) {
				if can(filepath.Join(dir, program)) {
					return true
				}
			}
		}
	}
	return false
}
