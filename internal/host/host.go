// Package host starts, stops and minds a server's processes.
//
// The minder is a small detached process, one for each running server. It
// holds the server's console (standard input and output), writes its log,
// knows every process that the launch script left behind, and answers on a
// socket in the install. It lives as long as the server does and no longer; a
// command that dies takes neither with it.
//
// Signals go to the minder's own descendants alone, or, where a minder was killed
// and another took over, to the processes that carry the mark of that server's
// start. There is no search by name, and so no way to hit somebody else's process.
//
// It does not decide whether a server is up, it knows no
// profile, and it never becomes root.
package host

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"freshkeel/internal/tree"
)

// Dir is the run folder of one install: .freshkeel/run.
type Dir string

func (d Dir) file(name string) string { return filepath.Join(string(d), name) }

// Console is the running server's log; older ones are console.1.log and up.
func (d Dir) Console() string { return d.file("console.log") }

// Launch is what to start. It is handed to the minder on its standard input.
type Launch struct {
	Install string   `json:"install"`
	Script  string   `json:"script"` // relative to Install
	Args    []string `json:"args"`
	RunDir  string   `json:"run_dir"`
	Env     []string `json:"env"` // the server's, "NAME=value"; the minder has no other

	TakeOver bool `json:"take_over,omitempty"` // go on with the server whose minder was killed
	// a command that is run when the server ended by itself, and not well; and its environment
	Crashed    []string `json:"crashed,omitempty"`
	CrashedEnv []string `json:"crashed_env,omitempty"`

	Key bool `json:"key,omitempty"` // the script waits for a key as its last step, which is pressed for it
}

// Exit is how a server ended.
type Exit struct {
	Began  time.Time `json:"began,omitzero"`   // when it was started, as far as that is known
	At     time.Time `json:"at"`               // when no process of it was left
	PID    int       `json:"pid"`              // of the launch script
	Status string    `json:"status"`           // "status 0", "signal killed"
	Asked  bool      `json:"asked"`            // it was told to stop
	By     string    `json:"by,omitempty"`     // of one that was told: "line", "terminate" or "kill"
	Killer string    `json:"killer,omitempty"` // of one that somebody else killed
	Line   string    `json:"line,omitempty"`   // the line that ended it
}

// Status is how a server stands.
type Status struct {
	Running   bool      `json:"running"`
	PID       int       `json:"pid,omitempty"`       // of the launch script
	Minder    int       `json:"minder,omitempty"`    // its minder's
	Processes []int     `json:"processes,omitempty"` // all of the server's
	Since     time.Time `json:"since,omitzero"`
	Script    string    `json:"script,omitempty"`
	Stopping  bool      `json:"stopping,omitempty"`
	Ended     string    `json:"script_ended,omitempty"` // how the launch script ended, where processes of it live on
	Last      *Exit     `json:"last_exit,omitempty"`    // how it ended, when it isn't running

	Partly   bool   `json:"partly,omitempty"`   // of a server of parts: not all of them run
	By       string `json:"by,omitempty"`       // where no minder runs it: what does
	Restarts int    `json:"restarts,omitempty"` // by its service manager, since it was started
	Trouble  string `json:"trouble,omitempty"`  // why no more is known

	Left   bool `json:"minder_killed,omitempty"` // its minder was killed, and another has not taken over yet
	Silent bool `json:"minder_silent,omitempty"` // its minder lives and does not answer: nothing else is known
}

// StopOrder is how to end a server. Waits are bounds, not pauses.
type StopOrder struct {
	Send      string        `json:"send"`
	Try       []string      `json:"try,omitempty"`  // lines of which one may end it; where Send is ""
	Last      []string      `json:"last,omitempty"` // lines that may end it, tried before it is killed
	Wait      time.Duration `json:"wait"`
	Terminate time.Duration `json:"terminate"`
	Kill      bool          `json:"kill"`
	Hopeless  bool          `json:"hopeless,omitempty"` // nothing of it is worth waiting long for
	Loop      string        `json:"loop,omitempty"`     // the script that would start it again: held still meanwhile
}

// StopStep is one thing that happened while it stopped.
type StopStep struct {
	Do    string `json:"do"` // sent, unread, terminate, untold, left, kill, gone, still-running
	Line  string `json:"line,omitempty"`
	PIDs  []int  `json:"pids,omitempty"`
	Exit  *Exit  `json:"exit,omitempty"`
	Error string `json:"error,omitempty"`
}

type request struct {
	Do     string     `json:"do"` // status, send, hold, stop, wait
	Line   string     `json:"line,omitempty"`
	Before []string   `json:"before,omitempty"`
	After  []string   `json:"after,omitempty"`
	Stop   *StopOrder `json:"stop,omitempty"`
}

type reply struct {
	Held   bool    `json:"held,omitempty"` // a beginning minder's: it waits for the word
	Error  string  `json:"error,omitempty"`
	Status *Status `json:"status,omitempty"`
	Exit   *Exit   `json:"exit,omitempty"`
}

// AlreadyRunning refuses a second server of one install.
type AlreadyRunning struct {
	PID   int
	Since time.Time
	How   string // "under its minder", or "started outside Fresh Keel"
}

func (a *AlreadyRunning) Error() string {
	if a.PID == 0 {
		return "the server may be running: it is " + a.How
	}
	return fmt.Sprintf("the server is running already: process %d, for %s, %s", a.PID,
		time.Since(a.Since).Round(time.Second), a.How)
}

// ErrNotRunning says that no minder answers.
var ErrNotRunning = errors.New("the server is not running")

// Start has a minder, which is the command self, start the server and returns
// once the launch script's process exists. The minder outlives the caller. Where a command
// keeps the server in the foreground, that one starts it, so that it stays where it was.
func Start(ctx context.Context, self []string, l Launch) (*Status, error) {
	if st, err, asked := Dir(l.RunDir).frontStarts(l); asked {
		return st, err
	}
	return startHere(ctx, self, l)
}

func startHere(ctx context.Context, self []string, l Launch) (*Status, error) {
	d := Dir(l.RunDir)
	if err := tree.MakeDirs(l.RunDir, 0o700); err != nil {
		return nil, err
	}
	if st := d.Status(); st.Running && !(l.TakeOver && st.Left) {
		return nil, &AlreadyRunning{st.PID, st.Since, st.How()}
	}
	order, err := json.Marshal(l)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(self[0], self[1:]...)
	cmd.Dir, cmd.Env = l.Install, l.Env
	cmd.SysProcAttr = detached()
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start the minder: %w", err)
	}
	got := make(chan reply, 1)
	go func() {
		got <- converse(in, json.NewDecoder(io.LimitReader(out, mostSaid)), order)
		cmd.Wait() // in case this process outlives it
	}()
	select {
	case r := <-got:
		if r.Error != "" {
			return nil, errors.New(r.Error)
		}
		return r.Status, nil
	case <-time.After(30 * time.Second):
		return nil, errors.New("start the minder: no answer within 30s")
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// goOn is what a minder that holds the install waits for: it never comes from
// a caller that died meanwhile.
const goOn = "go on"

// converse gives a minder its order, and the word to go on once it holds the
// install, and returns its last answer.
func converse(in io.WriteCloser, answers *json.Decoder, order []byte) reply {
	defer in.Close()
	in.Write(append(order, '\n'))
	for {
		var r reply
		if err := answers.Decode(&r); err != nil {
			return reply{Error: "the minder ended without a word: " + err.Error()}
		}
		if !r.Held {
			return r
		}
		json.NewEncoder(in).Encode(goOn)
	}
}

// statusLimit is how long a minder that lives may take to say how its server
// stands: one may just be beginning, or ending.
const statusLimit = 10 * time.Second

// silent holds the folders whose minder did not answer in this process.
var silent sync.Map

// Status asks the minder. Without one the server isn't running, and Last says
// how it ended; or its minder was killed, and Left says that it runs on. A minder
// that lives and says nothing leaves it Running and Silent: what is not known to
// be down is not touched.
func (d Dir) Status() *Status {
	limit := statusLimit
	if _, was := silent.Load(d); was { // it is not waited for as long again in one command
		limit = time.Second
	}
	for end := time.Now().Add(limit); ; {
		var r reply
		err := d.ask(request{Do: "status"}, min(limit, answerLimit),
			func(dec *json.Decoder) error { return dec.Decode(&r) })
		if err == nil && r.Status != nil {
			return r.Status
		}
		// No socket, or nobody behind it. A minder that holds its lock is just
		// beginning or ending, and worth another moment.
		if held, _ := d.held(); !held {
			break
		}
		if time.Now().After(end) {
			silent.Store(d, true)
			return &Status{Running: true, Silent: true}
		}
		time.Sleep(25 * time.Millisecond)
	}
	if s, pids := d.left(); s != nil {
		return &Status{Running: true, Left: true, PID: cmp.Or(s.PID, pids[0]), Processes: pids, Since: s.Since,
			Script: s.Script}
	}
	return &Status{Last: d.lastExit()}
}

// How says where a running server stands.
func (st *Status) How() string {
	switch {
	case st.Silent && st.By != "":
		return st.By + ", of which nothing is known: " + st.Trouble
	case st.By != "":
		return st.By
	case st.Left:
		return "without a minder, which was killed"
	case st.Silent:
		return "under a minder that does not answer"
	}
	return "under its minder"
}

func (d Dir) lastExit() *Exit {
	b, err := tree.ReadUpTo(d.file("exit.json"), mostAsked)
	e := &Exit{}
	if err != nil || json.Unmarshal(b, e) != nil {
		return nil
	}
	return e
}

// held tells whether a minder lives, by its lock.
func (d Dir) held() (bool, error) {
	if _, err := os.Stat(d.file("minder.lock")); errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	l := tree.NewLock(d.file("minder.lock"))
	ok, err := l.TryRLock()
	if ok {
		l.Unlock()
	}
	return !ok, err
}

// Send puts one line on the server's standard input.
func (d Dir) Send(line string) error {
	if strings.ContainsAny(line, "\r\n") {
		return errors.New("one line at a time")
	}
	var r reply
	if err := d.ask(request{Do: "send", Line: line}, sendLimit+answerLimit,
		func(dec *json.Decoder) error { return dec.Decode(&r) }); err != nil {
		return err
	}
	if r.Error != "" {
		return errors.New(r.Error)
	}
	return nil
}

// Hold puts lines on the server's console, and others when release is called or
// this process ends, however it does. release returns once they are sent.
func (d Dir) Hold(before, after []string) (release func(), err error) {
	c, err := d.dial()
	if err != nil {
		return nil, err
	}
	answers := json.NewDecoder(io.LimitReader(c, mostSaid))
	c.SetDeadline(time.Now().Add(time.Duration(len(before)+1)*sendLimit + answerLimit))
	var r reply
	if err = json.NewEncoder(c).Encode(request{Do: "hold", Before: before, After: after}); err == nil {
		err = answers.Decode(&r)
	}
	if err == nil && r.Error != "" {
		err = errors.New(r.Error)
	}
	if err != nil {
		c.Close()
		return nil, err
	}
	return func() {
		if half, ok := c.(interface{ CloseWrite() error }); ok {
			half.CloseWrite()
			c.SetReadDeadline(time.Now().Add(time.Duration(len(after)+1) * sendLimit))
			answers.Decode(&r)
		}
		c.Close()
	}, nil
}

// Stop ends the server. Once asked, the minder sees it through even if the
// caller dies. note, which may be nil, hears each step. A server that is left
// running, because the order forbids killing it, gives StillRunning.
func (d Dir) Stop(o StopOrder, note func(StopStep)) (*Exit, error) {
	var exit *Exit
	err := d.ask(request{Do: "stop", Stop: &o}, o.Wait+o.Terminate+stopSlack, func(dec *json.Decoder) error {
		for {
			var s StopStep
			if err := dec.Decode(&s); err != nil {
				return err
			}
			if note != nil {
				note(s)
			}
			switch s.Do {
			case "gone":
				exit = s.Exit
				return nil
			case "still-running":
				return &StillRunning{s.PIDs}
			}
		}
	})
	var still *StillRunning
	if err == nil || errors.As(err, &still) {
		return exit, err
	}
	// The server may have ended by itself just now, and its minder with it, in
	// the middle of a word.
	if st := d.Status(); !st.Running {
		return st.Last, nil
	}
	return nil, fmt.Errorf("stop: the minder does not answer: %w", err)
}

// StillRunning says which processes outlived a stop.
type StillRunning struct{ PIDs []int }

func (s *StillRunning) Error() string {
	return fmt.Sprintf("the server did not stop in time, and the profile does not allow killing it: processes %v "+
		"are still running", s.PIDs)
}

// Wait returns when no process of the server is left.
func (d Dir) Wait(ctx context.Context) (*Exit, error) {
	var r reply
	done := make(chan error, 1)
	go func() {
		done <- d.ask(request{Do: "wait"}, 0, func(dec *json.Decoder) error { return dec.Decode(&r) })
	}()
	select {
	case err := <-done:
		if r.Exit != nil {
			return r.Exit, nil
		}
		if e := d.lastExit(); e != nil {
			return e, nil
		}
		return nil, fmt.Errorf("the minder is gone: %v", err)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// mostSaid bounds what a minder may say in one conversation, in bytes: processes by
// the thousand have room in it, and one that never ends takes no memory.
const mostSaid = 4 << 20

// stopSlack is what a stop may take besides its own waits: telling, and ten
// seconds of killing processes that go on making new ones.
const stopSlack = 40 * time.Second

// ask has one conversation with the minder, within a time; 0 is as long as the
// server runs, for a caller that gives up by itself.
func (d Dir) ask(q request, within time.Duration, answer func(*json.Decoder) error) error {
	c, err := d.dial()
	if err != nil {
		return err
	}
	defer c.Close()
	if within > 0 {
		c.SetDeadline(time.Now().Add(within))
	}
	if err := json.NewEncoder(c).Encode(q); err != nil {
		return err
	}
	return answer(json.NewDecoder(io.LimitReader(c, mostSaid)))
}

func exitStatus(ws syscall.WaitStatus) string {
	if ws.Signaled() {
		return "signal " + ws.Signal().String()
	}
	return fmt.Sprintf("status %d", ws.ExitStatus())
}

// Forget takes away what the run folder says of a server, and leaves its logs: the folder was copied from another
// install, whose server that is.
func (d Dir) Forget() error {
	list, err := os.ReadDir(string(d))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range list {
		if strings.HasSuffix(e.Name(), ".log") {
			continue
		}
		if err := os.RemoveAll(d.file(e.Name())); err != nil {
			return err
		}
	}
	return nil
}
