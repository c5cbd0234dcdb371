package host

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"freshkeel/internal/launch"
	"freshkeel/internal/tree"
)

// minder is the process that hosts one server.
type minder struct {
	l     Launch
	dir   Dir
	pid   int
	since time.Time
	mark  started
	taken bool // over from a minder that was killed: its server's processes are not children
	stdin io.WriteCloser
	log   *logFile
	gone  chan struct{} // closed when no process of the server is left
	exit  Exit          // valid once gone is closed

	mu       sync.Mutex
	stopping bool
	ending   Exit           // By and Line, as far as the stop under way knows
	loop     bool           // the script that would start the server again was ended with it
	script   string         // how the launch script ended
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
	defer m.afterCrash()
	defer unlock()
	answer.Encode(reply{Status: m.status()})
	out.Close()
	go m.serve(listener)
	go m.answerAgain()
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
	left, _ := m.dir.left()
	switch {
	case m.l.TakeOver && left == nil:
		return nil, nil, ErrNotRunning
	case !m.l.TakeOver && left != nil: // its minder was killed since the caller looked (P7)
		return nil, nil, &AlreadyRunning{left.PID, left.Since, "without a minder"}
	}
	l, release, err := m.dir.listen()
	if err != nil {
		return nil, nil, err
	}
	os.Remove(m.dir.file("exit.json"))
	if m.l.TakeOver {
		err = m.takeOver(left)
	} else {
		err = m.start()
	}
	if err != nil {
		l.Close()
		release()
		return nil, nil, err
	}
	if m.l.Key {
		go m.pressKey()
	}
	return func() { release(); letGo() }, l, nil
}

// start starts the server. Its mark is on the disk before any process has it.
func (m *minder) start() error {
	log, err := openLog(m.dir.Console())
	if err != nil {
		return err
	}
	m.log, m.since = log, time.Now().Round(0)
	m.mark = started{Mark: newMark(), Since: m.since, Script: m.l.Script}
	if err := m.dir.noteStart(m.mark); err != nil {
		return err
	}
	if err := m.spawn(log); err != nil {
		os.Remove(m.dir.startedFile())
		return err
	}
	m.mark.PID = m.pid
	if err := m.dir.noteStart(m.mark); err != nil { // the mark alone tells too
		fmt.Fprintf(log, "freshkeel: the number of the server's process could not be noted: %v\n", err)
	}
	return nil
}

// takenStatus is how a server ended whose own parent was no minder of its any more.
const takenStatus = "exit status not known: its minder had been killed"

// takeOver goes on with a server whose minder was killed: with its console, where
// that has a name, and until no process with its mark is left.
func (m *minder) takeOver(s *started) error {
	m.taken, m.mark, m.pid, m.since, m.l.Script = true, *s, s.PID, s.Since, s.Script
	log, err := appendLog(m.dir.Console())
	if err != nil {
		return err
	}
	m.log = log
	c := findConsole(m.dir)
	if c.in != nil {
		m.stdin = c.in
	}
	drained := make(chan struct{})
	if c.out != nil {
		go func() {
			defer close(drained)
			io.Copy(log, c.out)
		}()
	} else {
		close(drained)
	}
	go func() {
		for len(m.processes()) > 0 {
			time.Sleep(100 * time.Millisecond)
		}
		m.ended(takenStatus, log, drained)
	}()
	return nil
}

// processes are all of the server's, the nearest first.
func (m *minder) processes() []int {
	if m.taken {
		return m.mark.processes(m.dir.install())
	}
	return descendants()
}

// signal ends the server's processes, and no other (P4).
func (m *minder) signal(kill bool) {
	if m.taken {
		m.mark.signal(m.dir.install(), m.processes(), kill)
		return
	}
	signalTree(kill)
}

// lock makes this the only minder of the install (P7). It is tried for a
// moment, since a status command looks at the lock by taking it briefly, and the
// minder before may be ending the last conversation about its server's end.
func (m *minder) lock() (func(), error) {
	l := tree.NewLock(m.dir.file("minder.lock"))
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

// Argv is the command line that runs a launch script.
func Argv(l Launch) []string {
	full := filepath.Join(l.Install, filepath.FromSlash(l.Script))
	head := make([]byte, 4)
	if f, err := tree.OpenRegular(full); err == nil {
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

// environ is the server's environment: the one that was ordered, and its mark.
func (m *minder) environ() []string { return append(slices.Clone(m.l.Env), markName+"="+m.mark.Mark) }

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
	if m.loop {
		status = "with the loop that starts it again"
	}
	m.exit = Exit{At: time.Now().Round(0), PID: m.pid, Status: status, Asked: m.stopping, By: m.ending.By,
		Line: m.ending.Line}
	m.mu.Unlock()
	if b, err := json.Marshal(m.exit); err == nil {
		tree.WriteFile(m.dir.file("exit.json"), b, 0o600)
	}
	os.Remove(m.dir.startedFile())
	dropConsole(m.dir)
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
	return &Status{Running: true, PID: m.pid, Minder: os.Getpid(), Processes: m.processes(), Since: m.since,
		Script: m.l.Script, Stopping: m.stopping, Ended: m.script}
}

// mostTalks bounds how many conversations a minder has at once.
const mostTalks = 200

// serve answers each conversation on its own, but hears their requests in the
// order in which they came: who asks for the status after a caller died in the
// middle of a stop must be told of that stop.
func (m *minder) serve(l net.Listener) {
	var talking atomic.Int32
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
		if talking.Add(1) > mostTalks {
			talking.Add(-1)
			c.Close()
			continue
		}
		m.talks.Add(1)
		heard, earlier := make(chan struct{}), before
		before = heard
		go func() {
			defer m.talks.Done()
			defer talking.Add(-1)
			defer c.Close()
			m.talk(c, earlier, heard)
		}()
	}
}

// patient gives the other end a while to read each answer: one that never reads
// must not keep the minder from its end.
type patient struct{ net.Conn }

func (p patient) Write(b []byte) (int, error) {
	p.SetWriteDeadline(time.Now().Add(answerLimit))
	return p.Conn.Write(b)
}

func (m *minder) talk(c net.Conn, earlier <-chan struct{}, heard chan<- struct{}) {
	enc := json.NewEncoder(patient{c})
	var q request
	c.SetReadDeadline(time.Now().Add(answerLimit))
	err := json.NewDecoder(io.LimitReader(c, mostAsked)).Decode(&q)
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
	if m.stdin == nil {
		return errors.New("the server's console went with its minder, which was killed")
	}
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
