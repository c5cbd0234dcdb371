package host

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"slices"
	"strconv"
	"sync"
	"time"
)

// Owner is a user of this machine that root can become.
type Owner struct {
	UID, GID int
	Groups   []int
	Name     string // "user 1001" where it has none
	Home     string // "" where it has none
	Place    string // that it was given for a locker, as it has no home that it can write in; "" for none
}

// OwnerOf looks a user up. A user without a name, of a container's, say, has the
// group that is given and no home.
func OwnerOf(uid, gid int) Owner {
	o := Owner{UID: uid, GID: gid, Groups: []int{gid}, Name: fmt.Sprintf("user %d", uid)}
	u, err := user.LookupId(strconv.Itoa(uid))
	if err != nil {
		return o
	}
	o.Name, o.Home = u.Username, u.HomeDir
	if n, err := strconv.Atoi(u.Gid); err == nil {
		o.GID, o.Groups = n, []int{n}
	}
	if ids, err := u.GroupIds(); err == nil {
		for _, id := range ids {
			if n, err := strconv.Atoi(id); err == nil && !slices.Contains(o.Groups, n) {
				o.Groups = append(o.Groups, n)
			}
		}
	}
	return o
}

// asked is what a process which was root may still ask of root: which processes hold a
// port; to start, stop or read the service of its own server, which must run as that user
// from that user's install, or to have it run its program with other words; and, of the person at
// root's terminal, the answer to a question of ours, or the lines that are typed. Nothing else is
// answered.
type asked struct {
	Question json.RawMessage `json:"question,omitempty"` // its fields: root draws it
	Said     int64           `json:"said,omitempty"`     // bytes that were said before it
	Typed    bool            `json:"typed,omitempty"`    // lines that are typed come from now on

	Net  string `json:"net,omitempty"`
	Port int    `json:"port,omitempty"`

	Unit  string        `json:"unit,omitempty"`
	Do    string        `json:"do,omitempty"` // see unitAnswer
	Words []string      `json:"words,omitempty"`
	ID    int           `json:"id,omitempty"` // of what follows
	Query *journalQuery `json:"query,omitempty"`
	Guard *Guarding     `json:"guard,omitempty"`
}

type answered struct {
	Said  string        `json:"said,omitempty"` // by the person
	PIDs  []int         `json:"pids,omitempty"`
	Lines []journalLine `json:"lines,omitempty"`
	Error string        `json:"error,omitempty"`
}

// mostAsked bounds a question and an answer, in bytes, and answerLimit how long
// one is waited for.
const (
	mostAsked    = 64 << 10
	mostAnswered = 32 << 20
	answerLimit  = 5 * time.Second
)

// answer is what root does while the rest of a command works as the user uid. It reads questions from
// in until that ends, and looks at nothing but the system's table of connections, and at services of
// that user that run from dir, the install.
//
// A journal that is followed comes out of heard.
func (r *Rest) answer(in io.Reader, out, heard io.Writer) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	followed := &followers{out: json.NewEncoder(heard), of: map[int]context.CancelFunc{}}
	lines := bufio.NewScanner(in)
	lines.Buffer(make([]byte, 0, 4<<10), mostAsked)
	enc := json.NewEncoder(out)
	for lines.Scan() {
		var q asked
		var a answered
		err := json.Unmarshal(lines.Bytes(), &q)
		switch {
		case err != nil:
		case (q.Typed || len(q.Question) > 0) && r.Ask == nil:
			err = errors.New("nobody is there")
		case q.Typed:
			r.typed.listen()
		case len(q.Question) > 0:
			r.shownAll(q.Said)
			a.Said = r.typed.question(r.Ask(q.Question))
		case q.Unit != "" && q.Do == "leave":
			followed.leave(q.ID)
		case q.Unit != "":
			if a.Lines, err = unitAnswer(q, r.Owner, r.Dir, r.Held.Dir); err == nil && q.Do == "follow" {
				followed.begin(ctx, q)
			}
		case (q.Net != "tcp" && q.Net != "udp") || q.Port < 1 || q.Port > 65535:
			err = errors.New("not a port")
		default:
			a.PIDs, err = portHolders(q.Net, q.Port)
		}
		if err != nil {
			a.Error = err.Error()
		}
		if err := enc.Encode(a); err != nil {
			return err
		}
	}
	return lines.Err()
}

// heardLine is a line of what is followed, or its end.
type heardLine struct {
	ID    int         `json:"id"`
	Line  journalLine `json:"line,omitzero"`
	End   bool        `json:"end,omitempty"`
	Error string      `json:"error,omitempty"`
}

// followers are the journals that root follows for a user.
type followers struct {
	sync.Mutex
	out *json.Encoder
	of  map[int]context.CancelFunc
}

// say passes a line on; whoever heard it is gone where that fails.
func (f *followers) say(l heardLine) {
	f.Lock()
	defer f.Unlock()
	if f.out.Encode(l) != nil {
		f.of[l.ID]()
	}
}

func (f *followers) begin(ctx context.Context, q asked) {
	ctx, cancel := context.WithCancel(ctx)
	f.Lock()
	f.of[q.ID] = cancel
	f.Unlock()
	go func() {
		end := heardLine{ID: q.ID, End: true}
		if err := followJournal(ctx, q.Unit, false, *q.Query, func(l journalLine) {
			f.say(heardLine{ID: q.ID, Line: l})
		}); err != nil {
			end.Error = err.Error()
		}
		f.say(end)
	}()
}

func (f *followers) leave(id int) {
	f.Lock()
	defer f.Unlock()
	if cancel := f.of[id]; cancel != nil {
		cancel()
	}
}

// asker is the other end of Rest.answer; nil: this process asks the system itself.
var asker struct {
	sync.Mutex
	in     io.WriteCloser
	out    *bufio.Reader
	heard  hearers
	became bool // this process is the rest of a command of root's
}

// hearers hear what root follows, each by its number.
type hearers struct {
	sync.Mutex
	last  int
	of    map[int]chan heardLine
	alone bool // this process goes on without root's
}

// pass passes on what is heard, until root's process is gone.
func (h *hearers) pass(from io.Reader) {
	in := json.NewDecoder(from)
	for {
		var l heardLine
		err := in.Decode(&l)
		h.Lock()
		to := h.of[l.ID]
		if err != nil {
			for _, to := range h.of {
				close(to)
			}
			h.of = nil
		}
		h.Unlock()
		if err != nil && h.alone {
			return
		}
		if err != nil { // root's process is gone, and the command with it, as if both were killed
			killOne(os.Getpid())
			return
		}
		if to != nil {
			to <- l
		}
	}
}

// askFollow has root follow the journal of a unit until ctx ends.
func askFollow(ctx context.Context, unit string, q journalQuery, each func(journalLine)) error {
	h := &asker.heard
	h.Lock()
	if h.of == nil {
		h.Unlock()
		return errors.New("root does not answer any more")
	}
	h.last++
	id, lines := h.last, make(chan heardLine)
	h.of[id] = lines
	h.Unlock()
	leave := context.AfterFunc(ctx, func() { askRoot(asked{Unit: unit, Do: "leave", ID: id}) })
	defer leave()
	if err := askRoot(asked{Unit: unit, Do: "follow", ID: id, Query: &q}); err != nil {
		h.Lock()
		delete(h.of, id)
		h.Unlock()
		return err
	}
	for l := range lines {
		if l.End {
			h.Lock()
			delete(h.of, id)
			h.Unlock()
			if l.Error != "" {
				return errors.New(l.Error)
			}
			return nil
		}
		if ctx.Err() == nil {
			each(l.Line)
		}
	}
	return errors.New("root does not answer any more")
}

// PortHolders lists the processes that hold a port; 0 stands for one that
// can't be seen from here.
func PortHolders(network string, port int) ([]int, error) {
	asker.Lock()
	defer asker.Unlock()
	if asker.in == nil {
		return portHolders(network, port)
	}
	a, err := ask(asked{Net: network, Port: port})
	if err != nil || a.Error != "" {
		return portHolders(network, port) // what can be seen from here
	}
	return a.PIDs, nil
}

// asks tells whether root is asked for what this process may not do any more.
func asks() bool {
	asker.Lock()
	defer asker.Unlock()
	return asker.in != nil
}

// askRoot has root do something.
func askRoot(q asked) error {
	asker.Lock()
	defer asker.Unlock()
	a, err := ask(q)
	if err == nil && a.Error != "" {
		err = errors.New(a.Error)
	}
	return err
}

// askLines has root do something of which it tells in lines.
func askLines(q asked) (out []string, err error) {
	asker.Lock()
	defer asker.Unlock()
	a, err := ask(q)
	if err == nil && a.Error != "" {
		err = errors.New(a.Error)
	}
	for _, l := range a.Lines {
		out = append(out, l.Text)
	}
	return out, err
}

// askJournal has root read the journal.
func askJournal(unit string, q journalQuery) ([]journalLine, error) {
	asker.Lock()
	defer asker.Unlock()
	a, err := ask(asked{Unit: unit, Do: "journal", Query: &q})
	if err == nil && a.Error != "" {
		err = errors.New(a.Error)
	}
	return a.Lines, err
}

// ask puts one question to root. An answer that does not come in time is the last that was
// asked for.
func ask(q asked) (a answered, err error) {
	if asker.in == nil {
		return a, errors.New("root does not answer any more")
	}
	type reply struct {
		a   answered
		err error
	}
	got := make(chan reply, 1)
	go func(in io.Writer, out *bufio.Reader) {
		var r reply
		if r.err = json.NewEncoder(in).Encode(q); r.err == nil {
			var line []byte
			for more := true; more && r.err == nil && len(line) < mostAnswered; {
				var part []byte
				part, r.err = out.ReadSlice('\n')
				line = append(line, part...)
				if more = errors.Is(r.err, bufio.ErrBufferFull); more {
					r.err = nil
				}
			}
			if r.err == nil {
				r.err = json.Unmarshal(line, &r.a)
			}
		}
		got <- r
	}(asker.in, asker.out)
	limit := answerLimit
	switch {
	case q.Unit != "":
		limit = 2 * busLimit
	case len(q.Question) > 0: // a person takes the time that they take
		limit = 24 * time.Hour
	}
	select {
	case r := <-got:
		return r.a, r.err
	case <-time.After(limit):
		asker.in.Close()
		asker.in = nil
		return a, errors.New("root does not answer")
	}
}
