package host

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/logline"
	"freshkeel/internal/tree"
)

// Host is how a server is run: what starts and ends it, knows its processes, and hears it.
// A minder is one (Dir), a unit of the system's service manager (Service) another, the
// operator's own commands (Commands) a third.
type Host interface {
	// Status is how it stands. What is not known to be down counts as running.
	Status() *Status
	// Start starts it and returns once it is known to be begun, not to be up.
	Start(ctx context.Context, self []string, l Launch) (*Status, error)
	// Stop ends it. note, which may be nil, hears each step.
	Stop(o StopOrder, note func(StopStep)) (*Exit, error)
	// Wait returns when the server that runs now has ended, though another one took its place.
	Wait(ctx context.Context) (*Exit, error)
	// Send puts one line on its console.
	Send(line string) error
	// Hold puts lines on its console, and others when release is called.
	Hold(before, after []string) (release func(), err error)
	// Tail are the last n lines that it said.
	Tail(n int) ([]string, error)
	// Follow calls each with the lines of this start, from the first on, until ctx ends, or
	// until ended is closed and all was read.
	Follow(ctx context.Context, ended <-chan struct{}, each func(string)) error
	// Live calls each with the last n lines, and with those that come, over starts and
	// rotation, until ctx ends, or until ended is closed and all was read.
	Live(ctx context.Context, n int, ended <-chan struct{}, each func(string)) error
	// Mark is where its lines end now, and After are those that came since.
	Mark() Mark
	After(m Mark) ([]string, error)
}

// Mark is a place among what a server says.
type Mark struct {
	size   int64     // of a log
	cursor string    // of the journal
	at     time.Time // where neither is known
}

// AwaitAnswer waits for the answer to a line that was sent: the first line after a mark that nobody
// speaks in and that the pattern matches where an answer stands. It gives the pattern's groups; an error
// when none came within the time.
func AwaitAnswer(ctx context.Context, h Host, m Mark, within time.Duration, p *regexp.Regexp) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var known logline.Reader // who is on
	if said, err := h.Tail(mostBefore); err == nil {
		for _, l := range said {
			known.Read(l)
		}
	}
	for {
		if lines, err := h.After(m); err == nil {
			for _, l := range lines {
				if groups := known.Read(l).Answer(p); groups != nil {
					return groups, nil
				}
			}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// mostBefore is how many lines before a question are read for who is on.
const mostBefore = 5000

// Unit is a unit as its service manager has it: what it runs, and by which rules.
type Unit struct {
	Name     string
	User     bool // of a user's own manager
	Known    bool // it is loaded
	Masked   bool
	Why      string // it is not
	Active   string // active, activating, deactivating, inactive, failed, reloading
	Sub      string
	Type     string // simple, forking, oneshot, notify, exec
	Restart  string // no, always, on-failure …
	Stays    bool   // it counts as active when what it ran has ended
	Restarts int    // since it was started by hand
	Main     int    // its main process
	Runs     string // of one start: the number that systemd gives it
	Result   string
	Code     int // of the main process that ended last
	Status   int
	Job      bool // a job of it waits or runs
	Began    time.Time
	Ended    time.Time
	Group    string // its control group

	Owner    string   // the user that it runs as; "": root, or the user itself
	Groups   []string // besides those that its user has of itself, or some of them
	Gives    string   // the first property that may give its program a right; "": none does
	Dir      string
	Lines    [][]string // what it runs: program and arguments
	Env      []string
	EnvFiles []string // that it reads its environment from besides
	Output   string   // where its lines go: journal, inherit, file, append, null …
	File     string   // the unit's own
	Laid     []string // files that lie over it
	Odd      string   // why its line can't be said anew; "": it can
	Lenient  bool     // its line begins with a dash: a failure of it is none
	Memory   int64    // bound, in bytes; 0: none
	Files    int      // how many may be open; 0: not said
	Locked   bool     // the file system is read-only to it, but for Writes
	Writes   []string
	Asserted []string // files that it asserts not to be there

	Kill   string        // which of its processes its manager signals at a stop: control-group, mixed, process, none
	Within time.Duration // how long they may take before they are killed; 0: for ever
	Kills  bool          // they are killed then
	Bound  []string      // units that stop with it
	Stops  bool          // a command of its own comes first at a stop
	Signal int           // that it is told to stop by
}

// Names tells whether what the unit runs, or the folder that it runs in, is of an install.
func (u *Unit) Names(install string) bool {
	real := tree.Real(install)
	in := func(at string) bool { return tree.Inside(install, at) || tree.Inside(real, at) }
	if in(u.Dir) {
		return true
	}
	for _, line := range u.Lines {
		for _, w := range line {
			if in(w) || strings.Contains(w, install+"/") || strings.Contains(w, real+"/") {
				return true
			}
		}
	}
	return false
}

// manager is a service manager as this program asks it. Looking needs no rights; what begins,
// ends or reads its journal may.
type manager interface {
	unit(ctx context.Context) (*Unit, error)
	begin(ctx context.Context) error
	end(ctx context.Context) error
	kill(ctx context.Context) error
	may(ctx context.Context) error // whether begin and end would be allowed
	journal(ctx context.Context, q journalQuery) ([]journalLine, error)
	// follow calls each with the lines of a query and with those that come, until ctx ends
	follow(ctx context.Context, q journalQuery, each func(journalLine)) error
	over(ctx context.Context) (*Over, error)
	mayWrite(ctx context.Context) error // nil: write would be allowed
	write(ctx context.Context, words []string) error
	mayGuard(ctx context.Context) error
	guard(ctx context.Context, g *Guarding) error // nil takes it away
	boundNow(ctx context.Context) ([]string, error)
	startBound(ctx context.Context) (started, failed []string, err error)
}

// journalQuery asks for a unit's lines in the journal: of one start, after a cursor or since a
// time, or the last ones.
type journalQuery struct {
	Runs   string    `json:"runs,omitempty"`
	Cursor string    `json:"cursor,omitempty"`
	Since  time.Time `json:"since,omitzero"`
	Last   int       `json:"last,omitempty"`
}

type journalLine struct {
	Cursor string `json:"cursor"`
	Text   string `json:"text"`
}

// Service is a server that the system's service manager runs.
type Service struct {
	Name string
	User bool
	// how a line comes to its console: a named pipe or socket that is its standard input, or a
	// command in which {line} is the line
	Console string
	Say     []string
	Listen  []string // a command that prints what the server says, where that is not the journal
	Env     []string // of these commands
	Dir     string   // likewise
	Log     string   // the file that the server speaks in, where the profile names one; "": the journal alone

	bus   manager
	began string // the start that this program made
	err   error  // of the bus
}

// OpenService is a unit of the system's manager, or of the user's own.
func OpenService(name string, user bool, console string, say, env []string, dir string) *Service {
	s := &Service{Name: name, User: user, Console: console, Say: say, Env: env, Dir: dir}
	s.bus, s.err = openManager(name, user)
	return s
}

// busLimit is how long the service manager may take to answer: while it reads its units anew, which
// a small machine under load does for many seconds, it answers nothing.
const busLimit = 30 * time.Second

// Unit is the unit as it is now.
func (s *Service) Unit() (*Unit, error) {
	if s.err != nil {
		return nil, s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), busLimit)
	defer cancel()
	return s.bus.unit(ctx)
}

// May tells whether this user may start and stop the unit; nil for yes.
func (s *Service) May() error {
	if s.err != nil {
		return s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), busLimit)
	defer cancel()
	return s.bus.may(ctx)
}

// Bound are the units that are active now and stop with this one.
func (s *Service) Bound() ([]string, error) {
	if s.err != nil {
		return nil, s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), busLimit)
	defer cancel()
	return s.bus.boundNow(ctx)
}

// StartBound starts the units again that stopped with this one; failed are those that it could not, and why.
func (s *Service) StartBound() (started, failed []string, err error) {
	if s.err != nil {
		return nil, nil, s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*busLimit)
	defer cancel()
	return s.bus.startBound(ctx)
}

// How names the unit.
func (s *Service) How() string {
	if s.User {
		return "as the user's service " + s.Name
	}
	return "as the service " + s.Name
}

// Status is how the unit stands. A manager that does not answer leaves it running: what is
// not known to be down is not touched.
func (s *Service) Status() *Status {
	u, err := s.Unit()
	if err != nil {
		return &Status{Running: true, Silent: true, By: s.How(), Trouble: err.Error()}
	}
	return s.status(u)
}

func (s *Service) status(u *Unit) *Status {
	st := &Status{By: s.How(), PID: u.Main, Since: u.Began, Restarts: u.Restarts, Script: s.Name}
	if u.Group != "" {
		st.Processes = groupProcesses(u.Group)
	}
	if len(st.Processes) == 0 && u.Main > 0 {
		st.Processes = append([]int{u.Main}, below(u.Main)...)
	}
	if u.Active != "activating" && u.Active != "deactivating" && (u.Sub == "exited" || u.Active == "inactive" ||
		u.Active == "failed") {
		// What is left in its group may be another's: a multiplexer that hosts more.
		st.Processes, _ = s.ofInstall(u.Group)
	}
	switch u.Active {
	case "active", "reloading":
		// One that stays active when its script has ended runs for as long as processes of it do.
		st.Running = len(st.Processes) > 0 || !(u.Sub == "exited")
	case "activating", "deactivating":
		st.Running, st.Stopping = true, u.Active == "deactivating"
	default:
		st.Running = len(st.Processes) > 0
	}
	if st.PID == 0 && len(st.Processes) > 0 {
		st.PID = st.Processes[0]
	}
	if !st.Running {
		st.PID, st.Since = 0, time.Time{}
		if st.Last = u.exit(); st.Last.At.IsZero() { // the manager has forgotten it
			st.Last = nil
		}
	}
	return st
}

// exit is how the unit's main process ended last.
func (u *Unit) exit() *Exit {
	e := &Exit{Began: u.Began, At: u.Ended, Asked: u.Result == "success"}
	switch u.Code {
	case 2, 3: // killed, dumped (waitid(2))
		e.Status = "signal " + signalName(u.Status)
	case 0:
		e.Status = "ended by its service"
	default:
		e.Status = fmt.Sprintf("status %d", u.Status)
	}
	if u.Result != "success" && u.Result != "exit-code" && u.Result != "signal" && u.Result != "" {
		e.Status += " (" + u.Result + ")"
	}
	return e
}

// look is how often it is looked at a unit while something is awaited.
const look = 20 * time.Millisecond

// Start has the manager start the unit, and waits until its job is done: for a unit that
// tells that it is ready, as long as the unit allows.
func (s *Service) Start(ctx context.Context, _ []string, _ Launch) (*Status, error) {
	u, err := s.Unit()
	if err != nil {
		return nil, err
	}
	if !u.Known {
		return nil, fmt.Errorf("the service %s can't be started: %s", s.Name, u.Why)
	}
	if st := s.status(u); st.Running {
		return nil, &AlreadyRunning{st.PID, st.Since, s.How()}
	}
	before := u.Runs
	s.began = ""
	if u.Active == "active" { // it has ended, and counts as active: it must be told of that first
		if err := s.bus.end(ctx); err != nil {
			return nil, err
		}
		if err := s.settle(ctx, look, func(u *Unit) bool { return u.Active != "active" && !u.Job }); err != nil {
			return nil, err
		}
	}
	if err := s.bus.begin(ctx); err != nil {
		return nil, err
	}
	accepted, refused := time.Now(), false
	ctx, cancel := context.WithTimeout(ctx, startLimit)
	defer cancel()
	err = s.settle(ctx, look, func(u *Unit) bool {
		if u.Runs != before {
			s.began = cmp.Or(s.began, u.Runs)
		}
		refused = u.Runs == before && !u.Job && u.Active != "active" && time.Since(accepted) > startRefused
		// A unit that says when it is ready is watched as any other meanwhile.
		return refused || u.Runs != before && (u.Main > 0 || !u.Job)
	})
	if err != nil {
		return nil, fmt.Errorf("the service %s did not begin: %w", s.Name, err)
	}
	if refused {
		return nil, fmt.Errorf(
			"its manager did not start the service %s: a condition of it does not hold, or it was started "+
				"too often (systemctl status %[1]s)",
			s.Name,
		)
	}
	u, err = s.Unit()
	if err != nil {
		return nil, err
	}
	st := s.status(u)
	if st.Since.IsZero() || st.Since.Before(accepted) {
		st.Since = accepted
	}
	return st, nil
}

const (
	startLimit   = 2 * time.Minute // for a service to begin, not to be up
	startRefused = time.Second     // after which a job that is gone and has begun nothing was refused
)

// settle looks at the unit every so often until what is awaited holds: less often where its manager takes its
// time to answer, which has others to serve.
func (s *Service) settle(ctx context.Context, every time.Duration, holds func(*Unit) bool) error {
	for {
		asked := time.Now()
		u, err := s.Unit()
		if err != nil {
			return err
		}
		if holds(u) {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(max(every, 4*time.Since(asked))):
		}
	}
}

// Ready waits for a unit that tells its manager when it is ready, within a time: its manager ends
// one that does not, in the time that the unit allows, which may be for ever. Of other units nothing
// is waited for.
func (s *Service) Ready(ctx context.Context, within time.Duration) error {
	var last *Unit
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	err := s.settle(ctx, 5*look, func(u *Unit) bool {
		last = u
		return !strings.HasPrefix(u.Type, "notify") || u.Active != "activating" || (s.began != "" && u.Runs != s.began)
	})
	if errors.Is(err, context.DeadlineExceeded) && last != nil {
		err = nil // what it stands at is told
	}
	if err == nil && strings.HasPrefix(last.Type, "notify") && last.Active != "active" && last.Active != "reloading" {
		err = fmt.Errorf("the service %s did not tell its manager that it is ready (%s, %s)", s.Name, last.Active, last.Result)
	}
	return err
}

// Wait returns when the start of the unit that runs now has ended, though its manager may
// have begun another.
func (s *Service) Wait(ctx context.Context) (*Exit, error) {
	runs := s.began
	for {
		u, err := s.Unit()
		if err != nil {
			return nil, err
		}
		if runs == "" {
			runs = u.Runs
		}
		if u.Runs != runs || u.Sub == "auto-restart" || !s.status(u).Running {
			return u.exit(), nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(5 * look):
		}
	}
}

// Stop ends the unit: by a line first, where its console can be reached and an order names one,
// then by its manager, which sends the signals that the unit says.
func (s *Service) Stop(o StopOrder, note func(StopStep)) (*Exit, error) {
	if note == nil {
		note = func(StopStep) {}
	}
	by, line := "terminate", ""
	if o.Send != "" && s.Hears() {
		step := StopStep{Do: "sent", Line: o.Send}
		if err := s.Send(o.Send); err != nil {
			step.Error = err.Error()
		}
		note(step)
		ctx, cancel := context.WithTimeout(context.Background(), o.Wait)
		if _, err := s.Wait(ctx); err == nil && step.Error == "" {
			by, line = "line", o.Send
		}
		cancel()
	}
	// One that ended by itself is stopped all the same: its manager is not to start it again.
	if by != "line" && s.Hears() && o.Send != "" {
		note(StopStep{Do: "terminate", PIDs: s.Status().Processes})
	}
	u, err := s.Unit()
	if err != nil {
		return nil, err
	}
	st := &stopping{Service: s, o: o, note: note, group: u.Group, by: by}
	if u, err = st.end(u); err != nil {
		return nil, err
	}
	by = st.by
	e := u.exit()
	e.Asked, e.By, e.Line = true, by, line
	if e.Killer = u.killed(); e.Killer != "" {
		e.By, e.Line = "kill", ""
	}
	if len(st.told) > 0 && by == "terminate" { // its manager knows of a script alone
		e.Status = "by the terminate signal"
	}
	if e.At.IsZero() {
		e.At = time.Now()
	}
	s.began = ""
	note(StopStep{Do: "gone", Exit: e})
	return e, nil
}

// Hears tells whether a line can come to the server's console.
func (s *Service) Hears() bool { return s.Console != "" || len(s.Say) > 0 }

// Send puts a line on the unit's standard input, by the pipe or socket that it is, or gives it to
// the operator's own command.
func (s *Service) Send(line string) error {
	return say(line, s.Console, s.Say, s.Dir, s.Env, "the service "+s.Name)
}

// say brings a line to a console that is no pipe of ours.
func say(line, console string, command []string, dir string, env []string, whose string) error {
	if strings.ContainsAny(line, "\r\n") {
		return errors.New("one line at a time")
	}
	switch {
	case console != "":
		return intoConsole(console, line+"\n")
	case len(command) > 0:
		argv := slices.Clone(command)
		for i := range argv {
			argv[i] = strings.ReplaceAll(argv[i], "{line}", line)
		}
		ctx, cancel := context.WithTimeout(context.Background(), sendLimit)
		defer cancel()
		cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
		cmd.Dir, cmd.Env = dir, env
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", argv[0], err, strings.TrimSpace(string(out[:min(len(out), 200)])))
		}
		return nil
	}
	return fmt.Errorf(
		"%s has no console that is known here: [host] console names the named pipe or socket that is its "+
			"standard input, [host] say a command that is given the line",
		whose,
	)
}

// Say brings a line to the console of a server that is run by other hands: by a named pipe, or a command in
// which {line} is the line.
func Say(line, console string, command []string, dir string, env []string) error {
	return say(line, console, command, dir, env, "the server")
}

// Hold puts lines on the console, and others when release is called.
func (s *Service) Hold(before, after []string) (func(), error) { return holdBy(s.Send, before, after) }

// holdBy is Hold for a console that no minder keeps: where this process is killed meanwhile,
// nobody sends what comes after.
func holdBy(send func(string) error, before, after []string) (func(), error) {
	for _, l := range before {
		if err := send(l); err != nil {
			return nil, err
		}
	}
	return func() {
		for _, l := range after {
			send(l)
		}
	}, nil
}
