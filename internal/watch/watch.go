// Package watch decides, from console lines, the port and the process, whether
// a server came up. A Judge is told what happens and when, and holds no clock
// and no file of its own.
package watch

import (
	"fmt"
	"time"

	"freshkeel/internal/profile"
	"freshkeel/internal/words"
)

// Rules are what a server must show.
type Rules struct {
	profile.Ready
	Expect string // the version that must be said; "": none is known
}

// Verdict is what was decided, and on what.
type Verdict struct {
	Up      bool          `json:"up"`
	Why     string        `json:"why"`
	Lines   []string      `json:"lines"`          // the console lines that decided it
	Version string        `json:"version"`        // as the server said it
	Took    time.Duration `json:"took_ns"`        // from start to ready, or to the end
	Late    bool          `json:"late,omitempty"` // its time was up, and nothing else spoke against it
}

// tailLines is how much of the console a verdict without a deciding line shows.
const tailLines = 8

// Judge weighs what happens since start. Each method returns a verdict once
// there is one, else nil.
type Judge struct {
	rules Rules
	start time.Time

	ready   time.Time // ready line seen
	port    bool
	version string
	lines   []string // ready and version lines
	tail    []string
	sound   time.Time // since when all that is asked holds
}

// NewJudge begins a watch.
func NewJudge(r Rules, start time.Time) *Judge {
	return &Judge{rules: r, start: start}
}

func (j *Judge) no(at time.Time, why string, lines ...string) *Verdict {
	return &Verdict{Why: why, Lines: lines, Version: j.version, Took: at.Sub(j.start)}
}

// Line hears one console line, without its line end.
func (j *Judge) Line(at time.Time, text string) *Verdict {
	text = words.Printable(text) // colours are no part of a line's text
	if j.tail = append(j.tail, text); len(j.tail) > tailLines {
		j.tail = j.tail[1:]
	}
	for _, f := range j.rules.Fail {
		if f.Given() && f.MatchString(text) {
			return j.no(at, fmt.Sprintf("a line matched the failure rule %s", words.Quote(f.String())), text)
		}
	}
	if v := j.rules.Version; v.Given() && j.version == "" {
		if m := v.FindStringSubmatch(text); m != nil {
			j.version = m[1]
			j.lines = append(j.lines, text)
			if j.rules.Expect != "" && j.version != j.rules.Expect {
				return j.no(at, fmt.Sprintf("the server says it is version %s, the build is %s", j.version,
					j.rules.Expect), text)
			}
		}
	}
	if r := j.rules.Line; r.Given() && j.ready.IsZero() && r.MatchString(text) {
		j.ready = at
		j.lines = append(j.lines, text)
	}
	return j.weigh(at)
}

// Port hears whether the server's processes hold the port.
func (j *Judge) Port(at time.Time, bound bool) *Verdict {
	j.port = bound
	return j.weigh(at)
}

// Exited hears that no process of the server is left.
func (j *Judge) Exited(at time.Time, status string) *Verdict {
	when := "before it was ready"
	if r := j.rules; !r.Line.Given() && !r.Port.Given() {
		when = fmt.Sprintf("after %.1f s; with no ready line and no port to go by, it has to run for %s",
			at.Sub(j.start).Seconds(), r.Steady)
	} else if !j.sound.IsZero() {
		when = fmt.Sprintf("%.1f s after it was ready, before %s had passed", at.Sub(j.sound).Seconds(), j.rules.Steady)
	}
	return j.no(at, fmt.Sprintf("the server ended (%s) %s", status, when), j.tail...)
}

// Tick hears that time passes.
func (j *Judge) Tick(at time.Time) *Verdict { return j.weigh(at) }

func (j *Judge) weigh(at time.Time) *Verdict {
	missing := j.missing()
	if missing == "" && j.sound.IsZero() {
		j.sound = at
	}
	if missing != "" {
		j.sound = time.Time{} // a port let go again counts as not up
	}
	if missing == "" && at.Sub(j.sound) >= j.rules.Steady.Std() {
		// A version line that was due and never came is found out here: it may
		// be printed after the ready line, within the steady time.
		if j.rules.Version.Given() && j.version == "" {
			return j.no(at, fmt.Sprintf("the server said it was ready, but no line matched the version rule %s",
				words.Quote(j.rules.Version.String())), j.lines...)
		}
		return &Verdict{Up: true, Why: j.upWhy(), Lines: j.lines, Version: j.version, Took: j.sound.Sub(j.start)}
	}
	if missing != "" && at.Sub(j.start) >= j.rules.Within.Std() {
		v := j.no(at, fmt.Sprintf("after %s there was still %s", j.rules.Within, missing), j.tail...)
		v.Late = true
		return v
	}
	return nil
}

func (j *Judge) missing() string {
	switch {
	case j.rules.Line.Given() && j.ready.IsZero():
		return fmt.Sprintf("no line that matches the ready rule %s", words.Quote(j.rules.Line.String()))
	case j.rules.Ready.Port.Given() && !j.port:
		return fmt.Sprintf("no process of the server that holds port %s", j.rules.Ready.Port)
	}
	return ""
}

// Awaits says what the verdict waits for.
func (j *Judge) Awaits() string {
	if m := j.missing(); m != "" {
		return "there is " + m + " yet"
	}
	return fmt.Sprintf("ready; to run on for %s", j.rules.Steady)
}

func (j *Judge) upWhy() string {
	why := fmt.Sprintf("it ran for %s", j.rules.Steady)
	if j.rules.Line.Given() {
		why = fmt.Sprintf("its ready line came, then steady for %s", j.rules.Steady)
	}
	if j.rules.Ready.Port.Given() {
		why += fmt.Sprintf(", holding %s", j.rules.Ready.Port)
	}
	return why
}
