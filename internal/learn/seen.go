// Package learn makes rules of what a server was seen to do: lines of its console and its
// log, the ports that it holds, the files that it writes, the line that ended it. It keeps
// what good starts and stops have shown, and puts what was learned into a profile's text.
// It starts nothing and asks nobody.
package learn

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/logline"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/watch"
)

// FileName is where what was seen is kept, in the install's own folder of ours.
const FileName = "seen.json"

// FileOf is FileName for a part of a server; "": for the server.
func FileOf(part string) string {
	if part == "" {
		return FileName
	}
	return part + "-" + FileName
}

// Format is what the first key of a seen.json says.
const Format = "freshkeel-seen/1"

// Seen is what good starts and stops of one server have shown: .freshkeel/seen.json.
type Seen struct {
	Format  string         `json:"format"`
	Starts  int            `json:"starts"`                  // that came up
	Proven  []string       `json:"proven"`                  // rules that held at one, as watch.Rule writes them
	Ports   []profile.Port `json:"ports,omitempty"`         // held at the last one
	Twice   []profile.Port `json:"twice,omitempty"`         // held at the last two
	Usual   time.Duration  `json:"up_ns,omitempty"`         // that it took to come up
	Longest time.Duration  `json:"longest_up_ns,omitempty"` // that it took at most
	Early   []string       `json:"early,omitempty"`         // patterns of ours that came before it was ready
	Said    string         `json:"said,omitempty"`          // the version that it said
	// the installed version, where only the server\'s own words say it: it proves no rule
	Heard string    `json:"heard,omitempty"`
	Stop  *StopSeen `json:"stop,omitempty"` // how it was last ended
	// how long it took at most to end by itself
	Slowest time.Duration `json:"slowest_stop_ns,omitempty"`
	Edits   []Edit        `json:"edits,omitempty"` // what was learned into the profile
}

// StopSeen is how a server was seen to end when it was told to.
type StopSeen struct {
	Line    string        `json:"line,omitempty"`    // the console line that ended it
	Signals bool          `json:"signals,omitempty"` // no line did, and a signal does
	Took    time.Duration `json:"took_ns"`
}

// Edit is one key of the profile that was learned.
type Edit struct {
	At      time.Time `json:"at"`
	Key     string    `json:"key"`
	Item    string    `json:"item,omitempty"`    // of a list: that was added
	Value   string    `json:"value,omitempty"`   // as it was written
	Before  string    `json:"before,omitempty"`  // what stood there; "": the key did not
	Comment string    `json:"comment,omitempty"` // and the comment above it
	From    string    `json:"from"`              // what it was learned from
}

// maxSeen bounds a seen.json, in bytes.
const maxSeen = 4 << 20

// ReadSeen reads what was seen; one that is not there, or can't be read, is as if nothing had been.
func ReadSeen(path string) *Seen {
	s := &Seen{Format: Format}
	b, err := tree.ReadUpTo(path, maxSeen)
	if err != nil || json.Unmarshal(b, s) != nil || s.Format != Format {
		return &Seen{Format: Format}
	}
	return s
}

// Write keeps it.
func (s *Seen) Write(path string) error {
	b, err := json.MarshalIndent(s, "", " ")
	if err != nil {
		return err
	}
	if err := tree.WriteFile(path, append(b, '\n'), 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("note what was seen: %w", err)
	}
	return nil
}

// Proof is which rules have been proven, as a watch asks for it.
func (s *Seen) Proof() watch.Proof {
	p := watch.Proof{}
	for _, r := range s.Proven {
		p[r] = true
	}
	return p
}

// CameUp notes a good start.
func (s *Seen) CameUp(v *watch.Verdict, ports []profile.Port) {
	s.Starts++
	for _, r := range v.Proved {
		s.prove(r)
	}
	s.Proven = slices.DeleteFunc(s.Proven, func(r string) bool { return slices.Contains(v.Against, r) })
	s.Twice = nil
	for _, p := range ports {
		if s.Starts > 1 && slices.Contains(s.Ports, p) {
			s.Twice = append(s.Twice, p)
		}
	}
	s.Ports, s.Usual, s.Longest = ports, v.Took, max(s.Longest, v.Took)
	if v.Version != "" {
		s.Said = v.Version
	}
}

// Held notes the ports that a server which is known to be up holds.
func (s *Seen) Held(r profile.Ready, ports []profile.Port) {
	for _, p := range r.Held() {
		if slices.Contains(ports, p) {
			s.prove(watch.Rule(watch.KeyPort, p.String()))
		}
	}
	s.Ports = ports
}

// ProveLearned notes rules that were learned from a start which came up: they held there.
func (s *Seen) ProveLearned(list []Proposal) {
	for _, p := range list {
		var v struct {
			V profile.Patterns
			P []profile.Port
		}
		switch p.Key {
		case watch.KeyVersion:
			if p.Sure != Sure { // a number of something else, perhaps
				continue
			}
			fallthrough
		case watch.KeyLine:
			if v.V.UnmarshalTOML([]byte(p.Value)) == nil {
				for _, one := range v.V {
					s.prove(watch.Rule(p.Key, one.String()))
				}
			}
		case "ready.ports", watch.KeyPort:
			for _, q := range s.Ports {
				if strings.Contains(p.Value, q.String()) {
					s.prove(watch.Rule(watch.KeyPort, q.String()))
				}
			}
		}
	}
}

func (s *Seen) prove(rule string) {
	if !slices.Contains(s.Proven, rule) {
		s.Proven = append(s.Proven, rule)
		slices.Sort(s.Proven)
	}
}

// MarksFile says, in the run folder, how long logs were when the server was started: what
// stands before is of another run.
const MarksFile = "log-marks.json"

// ReadMarks reads it: sizes in bytes by the paths of files.
func ReadMarks(path string) map[string]int64 {
	marks := map[string]int64{}
	if b, err := tree.ReadOwn(path); err == nil {
		json.Unmarshal(b, &marks) // none is as good as empty
	}
	return marks
}

// Bears tells whether a good start has borne out a rule.
func (s *Seen) Bears(key, text string) bool { return slices.Contains(s.Proven, watch.Rule(key, text)) }

// ProveBy notes rules that lines of a server's console bear out which is known to be up.
func (s *Seen) ProveBy(r profile.Ready, lines []string) {
	v := &watch.Verdict{}
	var read []logline.Line
	for _, l := range logline.Own(lines) {
		read = append(read, new(logline.Reader).Read(l))
	}
	for _, l := range read {
		if p, _ := r.Line.In(l); p != nil {
			v.Proved = append(v.Proved, watch.Rule(watch.KeyLine, p.String()))
		}
		if p, _ := r.Version.In(l); p != nil {
			v.Proved = append(v.Proved, watch.Rule(watch.KeyVersion, p.String()))
		}
	}
	for _, f := range r.Fail {
		if !slices.ContainsFunc(read, func(l logline.Line) bool { return l.Find(f) != nil }) {
			v.Proved = append(v.Proved, watch.Rule(watch.KeyFail, f.String()))
		}
	}
	for _, p := range v.Proved {
		s.prove(p)
	}
}
