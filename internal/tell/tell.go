// Package tell is how the core reports: events while it works, and the errors that
// every caller decides on. It prints nothing.
package tell

import (
	"fmt"
	"time"
)

// EventKind is what an Event reports.
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

// Teller hears events. A nil Teller hears nothing.
type Teller func(Event)

// Tell reports an event, as of now.
func (t Teller) Tell(e Event) {
	if t != nil {
		e.At = time.Now()
		t(e)
	}
}

// Note reports what is worth knowing.
func (t Teller) Note(format string, a ...any) {
	t.Tell(Event{Kind: Noted, Text: fmt.Sprintf(format, a...)})
}

// Warn reports what is worth minding.
func (t Teller) Warn(format string, a ...any) {
	t.Tell(Event{Kind: Warned, Text: fmt.Sprintf(format, a...)})
}

// Step runs one named step and reports its begin and its good end, with what run
// says in sum. The step's caller reports a bad end. It returns how long run took.
func (t Teller) Step(name string, run func() (sum string, err error)) (time.Duration, error) {
	t.Tell(Event{Kind: StepBegun, Step: name})
	began := time.Now()
	sum, err := run()
	took := time.Since(began)
	if err == nil {
		t.Tell(Event{Kind: StepEnded, Step: name, Text: sum, Took: took})
	}
	return took, err
}

// Moves is a progress callback for a step, in bytes.
func (t Teller) Moves(step string) func(done, total int64) {
	return func(done, total int64) { t.Tell(Event{Kind: StepMoves, Step: step, Done: done, Total: total}) }
}
