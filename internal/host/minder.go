package host

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/launch"
	"freshkeel/internal/tree"

	"github.com/gofrs/flock"
)

// minder is the process that hosts one server.
type minder struct {
	l     Launch
	dir   Dir
	pid   int
	since time.Time
	stdin io.WriteCloser
	gone  chan struct{} // closed when no process of the server is left
	exit  Exit          // valid once gone is closed

	mu       sync.Mutex
	stopping bool
	talks    sync.WaitGroup // conversations that must be answered before the end
}

// Mind is the minder's whole life: it reads a Launch from in, tells out that
// it holds the install, is told to go on, starts the server, tells out that it
// did, and returns when the server is gone. It is to be the main work of a
// process of its own.
func Mind(in io.Reader, out io.WriteCloser) error {
	m := &minder{gone: make(chan struct{})}
	answer := json.NewEncoder(out)
	unlock, listener, err := m.begin(json.NewDecoder(in), answer)
	if err != nil {
		answer.Encode(reply{Error: err.Error()})
		out.Close()
		return err
	}
	defer unlock()
	answer.Encode(reply{Status: m.status()})
	out.Close()
	go m.serve(listener)
	<-m.gone
	m.talks.Wait()
	listener.Close()
	return nil
}

// begin does all that can fail, in the order that leaves nothing behind.
func (m *minder) begin(orders *json.Decoder, answer *json.Encoder) (unlock func(), l net.Listener, err error) {
	if err := orders.Decode(&m.l); err != nil {
		return nil, nil, fmt.Errorf("read the order: %w", err)
	}
	m.dir = Dir(m.l.RunDir)
	ignoreHangup()
	if err := becomeOwner(m.l); err != nil {
		return nil, nil, fmt.Errorf("become the install's owner: %w", err)
	}
	letGo, err := m.lock()
	if err != nil {
		return nil, nil, err
	}
	defer func() {
		if err != nil {
			letGo()
		}
	}()
	// Whoever ordered this may have died meanwhile, and what came after it may
	// have found no server and be moving files. Only now that the lock shows
	// this minder to everybody is it asked whether the order still stands.
	answer.Encode(reply{Held: true})
	var word string
	if err := orders.Decode(&word); err != nil || word != goOn {
		return nil, nil, errors.New("who ordered the start is gone")
	}
	if err := holdChildren(); err != nil {
		return nil, nil, fmt.Errorf("hold the server's processes: %w", err)
	}
	path, release, err := socketPath(m.l.RunDir)
	if err != nil {
		return nil, nil, err
	}
	os.Remove(m.dir.file("minder.sock")) // a dead minder's: the lock is ours
	l, err = net.Listen("unix", path)
	if err != nil {
		release()
		return nil, nil, err
	}
	if err := os.Chmod(path, 0o600); err != nil {
		return nil, nil, err
	}
	os.Remove(m.dir.file("exit.json"))
	log, err := openLog(m.dir.Console())
	if err != nil {
		l.Close()
		return nil, nil, err
	}
	if err := m.spawn(log); err != nil {
		l.Close()
		return nil, nil, err
	}
	return letGo, l, nil
}

// lock makes this the only minder of the install (P7). It is tried for a
// moment, since a status command looks at the lock by taking it briefly, and the
// minder before may be ending the last conversation about its server's end.
func (m *minder) lock() (func(), error) {
	l := flock.New(m.dir.file("minder.lock"), flock.SetPermissions(0o600))
	for range 240 {
		if ok, err := l.TryLock(); err != nil {
			return nil, fmt.Errorf("lock %s: %w", l.Path(), err)
		} else if ok {
			return func() { l.Unlock() }, nil
		}
		time.Sleep(25 * time.Millisecond)
	}
	st := m.dir.Status()
	return nil, &AlreadyRunning{st.PID, st.Since, "under its minder"}
}

// argv is the command line that runs a launch script.
func argv(l Launch) []string {
	full := filepath.Join(l.Install, filepath.FromSlash(l.Script))
	head := make([]byte, 4)
	if f, err := os.Open(full); err == nil {
		io.ReadFull(f, head)
		f.Close()
	}
	fi, err := os.Stat(full)
	runs := err == nil && fi.Mode()&0o111 != 0
	isScript := strings.HasPrefix(string(head), "#!")
	switch ext := strings.ToLower(filepath.Ext(l.Script)); {
	case ext == ".bat" || ext == ".cmd":
		return append([]string{"cmd", "/c", full}, l.Args...)
	// A script without its execute bit, or without its first line, is one
	// that the operator starts with sh.
	case err == nil && launch.LooksShell(l.Script, head) && (!runs || !isScript):
		return append([]string{"/bin/sh", full}, l.Args...)
	}
	return append([]string{full}, l.Args...)
}

// environ is the server's environment: the caller's, with the home of the
// user that it really runs as.
func environ(l Launch) []string {
	env := os.Environ()
	if l.UID < 0 {
		return env
	}
	u, err := user.LookupId(strconv.Itoa(l.UID))
	if err != nil {
		return env
	}
	env = slices.DeleteFunc(env, func(kv string) bool {
		return strings.HasPrefix(kv, "HOME=") || strings.HasPrefix(kv, "USER=") || strings.HasPrefix(kv, "LOGNAME=")
	})
	return append(env, "HOME="+u.HomeDir, "USER="+u.Username, "LOGNAME="+u.Username)
}

// ended is told by the reaper when the last process of the tree is gone.
func (m *minder) ended(status string, log *logFile, drained <-chan struct{}) {
	// Output still in the pipe belongs to the log; a process that escaped the
	// tree may hold the pipe open, which must not hold up the end.
	select {
	case <-drained:
	case <-time.After(2 * time.Second):
	}
	log.Close()
	m.mu.Lock()
	m.exit = Exit{At: time.Now().Round(0), PID: m.pid, Status: status, Asked: m.stopping}
	m.mu.Unlock()
	if b, err := json.Marshal(m.exit); err == nil {
		tree.WriteFile(m.dir.file("exit.json"), b, 0o600)
	}
	close(m.gone)
}

func (m *minder) status() *Status {
	select {
	case <-m.gone: // this minder is about to end too
		return &Status{Last: &m.exit}
	default:
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return &Status{Running: true, PID: m.pid, Minder: os.Getpid(), Processes: descendants(), Since: m.since, Script: m.l.Script, Stopping: m.stopping}
}

// serve answers each conversation on its own, but hears their requests in the
// order in which they came: who asks for the status after a caller died in the
// middle of a stop must be told of that stop.
func (m *minder) serve(l net.Listener) {
	before := make(chan struct{})
	close(before)
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		m.talks.Add(1)
		heard, earlier := make(chan struct{}), before
		before = heard
		go func() {
			defer m.talks.Done()
			defer c.Close()
			m.talk(c, earlier, heard)
		}()
	}
}

func (m *minder) talk(c net.Conn, earlier <-chan struct{}, heard chan<- struct{}) {
	enc := json.NewEncoder(c)
	var q request
	c.SetReadDeadline(time.Now().Add(5 * time.Second))
	err := json.NewDecoder(bufio.NewReader(c)).Decode(&q)
	<-earlier
	var act func()
	if err == nil {
		act = m.hear(q, enc, c)
	}
	close(heard)
	if act != nil {
		act()
	}
}

// hear takes note of a request, and returns what is to be done about it, which
// may take its time.
func (m *minder) hear(q request, enc *json.Encoder, c net.Conn) func() {
	switch q.Do {
	case "status":
		st := m.status()
		return func() { enc.Encode(reply{Status: st}) }
	case "send":
		return func() {
			var r reply
			if err := m.send(q.Line); err != nil {
				r.Error = err.Error()
			}
			enc.Encode(r)
		}
	case "hold":
		return func() { m.hold(q, enc, c) }
	case "wait":
		return func() {
			<-m.gone
			enc.Encode(reply{Exit: &m.exit})
		}
	case "stop":
		if q.Stop == nil {
			return nil
		}
		first := m.beginStop()
		// Steps are told as long as somebody listens, and taken in any case.
		note := func(s StopStep) { enc.Encode(s) }
		if !first {
			return func() { m.awaitStop(*q.Stop, note) }
		}
		return func() { m.stop(*q.Stop, note) }
	}
	return func() { enc.Encode(reply{Error: fmt.Sprintf("%q is not known here", q.Do)}) }
}

// sendLimit is how long a server may leave its full input unread before a line
// to it is given up: a hanging server must not make the minder hang.
const sendLimit = 5 * time.Second

func (m *minder) send(line string) error {
	if d, ok := m.stdin.(interface{ SetWriteDeadline(time.Time) error }); ok {
		d.SetWriteDeadline(time.Now().Add(sendLimit))
	}
	if _, err := io.WriteString(m.stdin, line+"\n"); err != nil {
		return fmt.Errorf("the server does not read its console: %w", err)
	}
	return nil
}

// hold sends the lines before, and those after once the other end lets go: which
// it also does by dying, so that saving is never left paused.
func (m *minder) hold(q request, enc *json.Encoder, c net.Conn) {
	defer func() {
		for _, l := range q.After {
			if err := m.send(l); err != nil {
				break
			}
		}
		enc.Encode(reply{})
	}()
	var r reply
	for _, l := range q.Before {
		if err := m.send(l); err != nil {
			r.Error = err.Error()
			break
		}
	}
	if enc.Encode(r) != nil || r.Error != "" {
		return
	}
	c.SetReadDeadline(time.Time{})
	ended := make(chan struct{})
	go func() {
		io.Copy(io.Discard, c)
		close(ended)
	}()
	select {
	case <-ended:
	case <-m.gone:
	}
}

// beginStop tells whether this stop is the first under way.
func (m *minder) beginStop() (first bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	first, m.stopping = !m.stopping, true
	return first
}

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
	if !m.over(o.Notice+o.Wait+o.Terminate+10*time.Second, note) {
		note(StopStep{Do: "still-running", PIDs: descendants()})
	}
}

// stop ends the server by the order.
func (m *minder) stop(o StopOrder, note func(StopStep)) {
	gone := func(wait time.Duration) bool { return m.over(wait, note) }
	defer func() {
		m.mu.Lock()
		m.stopping = false // a later stop begins anew
		m.mu.Unlock()
	}()
	if o.Tell != "" && m.send(o.Tell) == nil {
		note(StopStep{Do: "told"})
		if gone(o.Notice) {
			return
		}
	}
	if o.Send != "" {
		s := StopStep{Do: "sent"}
		if err := m.send(o.Send); err != nil {
			s.Error = err.Error()
		}
		note(s)
		if gone(o.Wait) {
			return
		}
	}
	if o.Terminate > 0 {
		note(StopStep{Do: "terminate", PIDs: descendants()})
		signalTree(false)
		if gone(o.Terminate) {
			return
		}
	}
	if !o.Kill {
		note(StopStep{Do: "still-running", PIDs: descendants()})
		return
	}
	note(StopStep{Do: "kill", PIDs: descendants()})
	for range 50 { // a process may fork while the list is read
		signalTree(true)
		if gone(200 * time.Millisecond) {
			return
		}
	}
	note(StopStep{Do: "still-running", PIDs: descendants()})
}
