package host

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"freshkeel/internal/tree"
)

// Root works over somebody else's folder by two processes. The one that was called stays root, and
// keeps the terminal: it reads no file of the folder, shows what the other says, and answers the few
// questions of owner.go. The other, begun by it, becomes the folder's owner before it reads anything
// there, and does the command. It has a session of its own, pipes for its input and output, the
// owner's environment, and no descriptor of root's but the folder's: so neither it nor what it starts
// can type at root's terminal, read what is typed there, or paint on it.

// Rest is the rest of a command that root began over somebody else's folder.
type Rest struct {
	Owner Owner
	Dir   string // the folder's path, as the command names it
	Held  *tree.Held
	Self  []string // this program, and the word by which it begins with BeOwner
	Args  []string // the command's words
	Env   []string // root's environment, of which OwnerEnv is handed on
	Seen  Seen
	In    io.Reader // what is typed; read once it is asked for, a line at a time
	Out   io.Writer // for a terminal, one that makes all harmless
	Err   io.Writer // may be Out
	// Ask draws a question at the terminal, from its fields.
	Ask func(fields json.RawMessage) error

	typed typed
	shown atomic.Int64 // bytes of what the other process said that were shown
}

// Seen is what the process that becomes the owner is told of root's terminal.
type Seen struct {
	Live   bool `json:"live"`   // errors go to a terminal
	Colour bool `json:"colour"` // results are coloured
	Out    bool `json:"out"`    // results go to a terminal
	Width  int  `json:"width"`
	Asks   bool `json:"asks"` // a person is there
}

// restOrder is what that process reads first.
type restOrder struct {
	Owner Owner  `json:"owner"`
	Dir   string `json:"dir"`
	Real  string `json:"real"`
	Self  string `json:"self"`
	Seen  Seen   `json:"seen"`
}

// The files of that process besides its standard ones.
const (
	answersFile   = 3 // the order, and what root answers
	questionsFile = 4
	heardFile     = 5 // what root follows for it
	folderFile    = 6
	restFiles     = 7 // this many are all that it has
)

// Run runs the rest of the command, and returns its exit status once it has ended. signals are passed
// on to it.
func (r *Rest) Run(signals <-chan os.Signal) (status int, err error) {
	var p pipes
	defer p.close()
	answers, answer := p.toThem()
	question, questions := p.fromThem()
	heard, hears := p.toThem()
	in, keys := p.toThem()
	said, out := p.fromThem()
	warned, errs := said, out
	if r.Err != r.Out {
		warned, errs = p.fromThem()
	}
	if p.err != nil {
		return 0, p.err
	}
	cmd := exec.Command(r.Self[0], append(slices.Clone(r.Self[1:]), r.Args...)...)
	cmd.Env, cmd.SysProcAttr = OwnerEnv(r.Env, r.Owner), detached()
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, said, warned
	cmd.ExtraFiles = []*os.File{answersFile - 3: answers, questionsFile - 3: question, heardFile - 3: heard,
		folderFile - 3: r.Held.File()}
	if err := cmd.Start(); err != nil {
		return 0, fmt.Errorf("start the part of the command that becomes %s: %w", r.Owner.Name, err)
	}
	p.begun()
	r.typed = typed{in: bufio.NewReader(r.In), to: keys}
	order := restOrder{r.Owner, r.Dir, r.Held.Dir, r.Self[0], r.Seen}
	if err := json.NewEncoder(answer).Encode(order); err != nil {
		cmd.Process.Kill()
	}
	go r.answer(questions, answer, hears)
	ended := make(chan struct{})
	go pass(signals, cmd.Process, ended)
	var shown sync.WaitGroup
	shown.Go(func() { r.relay(r.Out, out) })
	if errs != out {
		shown.Go(func() { r.relay(r.Err, errs) })
	}
	status, err = exitCode(cmd.Wait())
	close(ended)
	all := make(chan struct{})
	go func() {
		shown.Wait()
		close(all)
	}()
	select {
	case <-all:
	case <-time.After(restLimit): // something that it left behind has its output open
	}
	return status, err
}

// restLimit is how long what was said is waited for once the process has ended.
const restLimit = 2 * time.Second

// pipes are those between the two processes.
type pipes struct {
	theirs, ours []*os.File
	err          error
}

// toThem is a pipe that they read from and root writes to, fromThem one the other way.
func (p *pipes) toThem() (theirs, ours *os.File) {
	r, w := p.make()
	p.theirs, p.ours = append(p.theirs, r), append(p.ours, w)
	return r, w
}

func (p *pipes) fromThem() (theirs, ours *os.File) {
	r, w := p.make()
	p.theirs, p.ours = append(p.theirs, w), append(p.ours, r)
	return w, r
}

func (p *pipes) make() (r, w *os.File) {
	r, w, err := os.Pipe()
	if p.err == nil {
		p.err = err
	}
	return r, w
}

// begun closes what is theirs, once they have it.
func (p *pipes) begun() {
	for _, f := range p.theirs {
		f.Close()
	}
	p.theirs = nil
}

func (p *pipes) close() {
	p.begun()
	for _, f := range p.ours {
		f.Close()
	}
}

// pass passes signals on until the process has ended.
func pass(signals <-chan os.Signal, to *os.Process, ended <-chan struct{}) {
	for {
		select {
		case s := <-signals:
			to.Signal(s)
		case <-ended:
			return
		}
	}
}

// relay shows what is said. Where nobody takes it any more, the pipe is closed: whoever speaks
// learns it as if they had the output themselves.
func (r *Rest) relay(to io.Writer, from *os.File) {
	defer from.Close()
	b := make([]byte, 32<<10)
	for {
		n, err := from.Read(b)
		if n > 0 {
			if _, err := to.Write(b[:n]); err != nil {
				return
			}
			r.shown.Add(int64(n))
		}
		if err != nil {
			return
		}
	}
}

// shownAll waits, within a bound, until so much of what the other process said was shown: a question stands
// behind what it said before.
func (r *Rest) shownAll(said int64) {
	for end := time.Now().Add(restLimit); r.shown.Load() < said && time.Now().Before(end); {
		time.Sleep(time.Millisecond)
	}
}

// exitCode is the status by which a command ends that did what a process did.
func exitCode(err error) (int, error) {
	exit := (*exec.ExitError)(nil)
	switch {
	case err == nil:
		return 0, nil
	case !errors.As(err, &exit):
		return 0, err
	case exit.ExitCode() >= 0:
		return exit.ExitCode(), nil
	}
	return killedStatus, nil // as a shell says it of kill -9
}

const killedStatus = 128 + 9

// typed is what is typed at root's terminal: it comes to the other process by whole lines, and only
// those that are asked for.
type typed struct {
	in *bufio.Reader
	to *os.File

	mu        sync.Mutex
	listening bool
	waits     chan string // of a question that was asked while lines go on
}

// question reads the answer to a question that was drawn; drawn is how that went.
func (t *typed) question(drawn error) string {
	if drawn != nil {
		return ""
	}
	t.mu.Lock()
	if !t.listening {
		defer t.mu.Unlock()
		line, _ := t.in.ReadString('\n')
		return strings.TrimSpace(line)
	}
	t.waits = make(chan string, 1)
	waits := t.waits
	t.mu.Unlock()
	return strings.TrimSpace(<-waits)
}

// listen passes on what is typed from now on.
func (t *typed) listen() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.listening {
		return
	}
	t.listening = true
	go func() {
		for {
			line, err := t.in.ReadString('\n')
			t.mu.Lock()
			waits := t.waits
			t.waits = nil
			t.mu.Unlock()
			if waits != nil {
				waits <- line
			} else if _, werr := io.WriteString(t.to, line); werr != nil {
				return
			}
			if err != nil {
				t.to.Close()
				return
			}
		}
	}()
}

// Became is the part of a command that has become a folder's owner.
type Became struct {
	Owner
	Dir string
	Seen
}

// BeOwner makes this process, which root began by a Rest, the owner of the folder for good, with
// that user's environment. It comes before anything of the folder or of a home is read.
func BeOwner() (*Became, error) {
	ownFiles(answersFile, restFiles)
	answers := bufio.NewReaderSize(os.NewFile(answersFile, "answers"), mostAsked)
	line, err := answers.ReadBytes('\n')
	var o restOrder
	if err == nil {
		err = json.Unmarshal(line, &o)
	}
	if err != nil {
		return nil, fmt.Errorf("read which user to become: %w", err)
	}
	if err := become(o.Owner); err != nil {
		return nil, fmt.Errorf("become %s: %w", o.Owner.Name, err)
	}
	h, err := tree.HoldOpen(os.NewFile(folderFile, o.Real), o.Real)
	if err != nil {
		return nil, err
	}
	tree.Keep(o.Dir, h)
	if f, err := os.Open(o.Self); err != nil {
		return nil, fmt.Errorf("%s can't run %s, which the server's minder is: %w", o.Owner.Name, o.Self, err)
	} else {
		f.Close()
	}
	asker.in, asker.out, asker.became = os.NewFile(questionsFile, "questions"), answers, true
	asker.heard.of = map[int]chan heardLine{}
	go asker.heard.pass(os.NewFile(heardFile, "heard"))
	return &Became{o.Owner, o.Dir, o.Seen}, nil
}

// AskPerson has root put a question, by its fields, to the person at its terminal, once it has shown what
// this process said, so many bytes.
func AskPerson(fields any, said int64) (string, error) {
	b, err := json.Marshal(fields)
	if err != nil {
		return "", err
	}
	asker.Lock()
	defer asker.Unlock()
	a, err := ask(asked{Question: b, Said: said})
	if err == nil && a.Error != "" {
		err = errors.New(a.Error)
	}
	return a.Said, err
}

// HearTyped has the lines that are typed at root's terminal come to this process's standard input.
func HearTyped() error {
	if !HasBecome() {
		return nil
	}
	return askRoot(asked{Typed: true})
}

// ownerEnv are the variables of root's environment that an owner gets whom a command becomes, as
// patterns: what tells language, time, terminal and where programs are. Whatever else root has
// there may hold secrets of root's.
var ownerEnv = []string{"PATH", "LANG", "LANGUAGE", "LC_*", "TZ", "TERM", "COLORTERM", "COLUMNS", "LINES", "NO_COLOR",
	"JAVA_HOME", "JDK_HOME", "JRE_HOME", "DOTNET_ROOT*", "GOMEMLIMIT", "GOGC", "GOCOVERDIR",
	"FRESHKEEL_HOME", "FRESHKEEL_DEMO_*", "FRESHKEEL_TEST_*"}

// OwnerEnv is the environment of an owner whom a command of root's becomes: see ownerEnv.
func OwnerEnv(env []string, o Owner) (out []string) {
	for _, kv := range env {
		if name, _, ok := strings.Cut(kv, "="); ok && matches(ownerEnv, name) {
			out = append(out, kv)
		}
	}
	out = append(out, "USER="+o.Name, "LOGNAME="+o.Name, "SHELL=/bin/sh")
	if o.Home != "" {
		out = append(out, "HOME="+o.Home)
	}
	if o.Place != "" {
		out = append(out, "FRESHKEEL_HOME="+o.Place)
	}
	// Where that user's own service manager is reached, if it runs (user@.service(5)).
	at := filepath.Join("/run/user", strconv.Itoa(o.UID))
	if e, ok, err := tree.Describe(at, ""); err == nil && ok && e.Kind == tree.Dir && e.UID.Int() == o.UID {
		out = append(out, "XDG_RUNTIME_DIR="+at, "DBUS_SESSION_BUS_ADDRESS=unix:path="+at+"/bus")
	}
	return out
}

// Answer answers, as root does for the rest of a command, a user who has an install at dir.
func Answer(in io.Reader, out, heard io.Writer, uid int, dir string) error {
	h, err := tree.Hold(dir)
	if err != nil {
		return err
	}
	defer h.Close()
	return (&Rest{Owner: OwnerOf(uid, h.GID.Int()), Dir: dir, Held: h}).answer(in, out, heard)
}

// HasBecome tells whether this process is the rest of a command that root began, and has become
// another user.
func HasBecome() bool {
	asker.Lock()
	defer asker.Unlock()
	return asker.became
}
