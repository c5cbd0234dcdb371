package freshkeel

import (
	"fmt"
	"strings"
	"time"

	"freshkeel/internal/logbook"
	"freshkeel/internal/version"
)

// EventKind is what an Event tells.
type EventKind string

const (
	StepBegun  EventKind = "step"        // Step begins
	StepMoves  EventKind = "progress"    // Step is at Done of Total bytes, or at what Text says
	StepEnded  EventKind = "done"        // Step ended well after Took; Text may sum it up
	StepFailed EventKind = "step-failed" // Step ended badly; Text says why
	ServerSaid EventKind = "console"     // the server printed Text
	ToolSaid   EventKind = "output"      // a command that makes a build printed Text
	Noted      EventKind = "note"        // Text is worth knowing
	Warned     EventKind = "warning"     // Text is worth minding
)

// Event is one thing that happened during a run. Events come from one
// goroutine at a time.
type Event struct {
	At    time.Time     `json:"at"`
	Kind  EventKind     `json:"event"`
	Step  string        `json:"step,omitempty"`
	Text  string        `json:"text,omitempty"`
	Done  int64         `json:"done,omitempty"`  // bytes
	Total int64         `json:"total,omitempty"` // bytes; 0: not known
	Took  time.Duration `json:"took_ns,omitempty"`
}

func (k *Keel) tell(e Event) {
	if k.o.Observe != nil {
		e.At = time.Now()
		k.o.Observe(e)
	}
}

func (k *Keel) note(format string, a ...any) {
	k.tell(Event{Kind: Noted, Text: fmt.Sprintf(format, a...)})
}

func (k *Keel) warn(format string, a ...any) {
	k.tell(Event{Kind: Warned, Text: fmt.Sprintf(format, a...)})
}

// step runs one named step and tells of its begin and end. sum is read after
// a good end.
func (k *Keel) step(name string, run func() (sum string, err error)) (time.Duration, error) {
	k.tell(Event{Kind: StepBegun, Step: name})
	t := time.Now()
	sum, err := run()
	took := time.Since(t)
	if err == nil {
		k.tell(Event{Kind: StepEnded, Step: name, Text: sum, Took: took})
	}
	return took, err
}

// moves returns a progress callback for a step.
func (k *Keel) moves(step string) func(done, total int64) {
	return func(done, total int64) { k.tell(Event{Kind: StepMoves, Step: step, Done: done, Total: total}) }
}

// Busy refuses a second run on one install at a time.
type Busy struct {
	PID   int
	Doing string
	Since time.Time
}

func (b *Busy) Error() string {
	return fmt.Sprintf("another command is at work here: %s, process %d, since %s", b.Doing, b.PID, b.Since.Format("15:04:05"))
}

// Refused says that checks stopped a run before anything was changed.
type Refused struct {
	To    string
	Stops []Finding
	Done  []string // versions of the chain that were installed before
}

func (r *Refused) Error() string {
	var what []string
	for _, f := range r.Stops {
		what = append(what, f.What)
	}
	return fmt.Sprintf("refused: %s", strings.Join(what, "; "))
}

// RolledBack says that the new build did not come up, and that the old tree is
// back (and running, where the server ran before).
type RolledBack struct {
	Kind     logbook.Kind // of the run: one that undoes or restores goes back to where it began
	Refit    string
	From, To string // the version that is back, the one that failed
	Why      string
	Lines    []string
	Told     []string // what else to know
	Done     []string // versions of the chain that were installed before
	Running  bool
	Early    bool // the new server was not started at all
	Asked    bool // by an interrupt, of a person most often
}

func (r *RolledBack) Error() string {
	return fmt.Sprintf("rolled back to %s: %s", version.OrUnknown(r.From), r.Why)
}

// ToolFailed says that a command which makes a build did not make it.
type ToolFailed struct {
	What  string
	Lines []string // the last that it printed
	Log   string   // where all of it is
}

func (t *ToolFailed) Error() string { return t.What }

// NeedsHands says that Fresh Keel can't bring things in order by itself.
// Everything is kept.
type NeedsHands struct {
	What  string
	State string   // where things stand
	Do    []string // exact commands, in order
	Lines []string // console lines that tell why
}

func (n *NeedsHands) Error() string { return n.What }

// Usage is a request that makes no sense as it is.
type Usage struct{ What, Do string }

func (u *Usage) Error() string { return u.What }

// Advised is an error with a next step.
type Advised struct {
	Err error
	Do  string
}

func (a *Advised) Error() string { return a.Err.Error() }
func (a *Advised) Unwrap() error { return a.Err }
