package watch

import (
	"regexp"
	"testing"
	"time"

	"freshkeel/internal/profile"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func re(s string) profile.Pattern { return profile.Pattern{Regexp: regexp.MustCompile(s)} }

// Each case is a story: what happens at which second. The verdict must come at
// the last of them, and not before.
func TestVerdictNamesWhatDecidedIt(t *testing.T) {
	type event struct {
		at   float64
		line string // or
		do   string // "port", "noport", "exit", "tick"
	}
	for name, c := range map[string]struct {
		change func(*Rules)
		events []event
		up     bool
		why    string
		lines  []string
	}{
		"comes up": {events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2.5, "", "port"}, {7.4, "", "tick"},
			{7.5, "", "tick"}},
			up: true, why: "ready line came", lines: []string{"version 3.5.0", "open"}},
		"failure line": {events: []event{{1, "version 3.5.0", ""}, {2, "FATAL no snails", ""}},
			why: "failure rule", lines: []string{"FATAL no snails"}},
		"failure line after ready": {events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2, "", "port"},
			{4, "FATAL late", ""}},
			why: "failure rule", lines: []string{"FATAL late"}},
		"another version": {events: []event{{1, "version 3.4.1", ""}},
			why: "says it is version 3.4.1, the build is 3.5.0", lines: []string{"version 3.4.1"}},
		"exits before ready": {events: []event{{1, "a", ""}, {2, "b", ""}, {3, "", "exit"}},
			why: "ended (status 1) before it was ready", lines: []string{"a", "b"}},
		"exits while it should be steady": {events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2, "", "port"},
			{4, "", "exit"}},
			why: "2.0 s after it was ready", lines: []string{"version 3.5.0", "open"}},
		"hangs": {events: []event{{1, "booting", ""}, {59, "", "tick"}, {60, "", "tick"}},
			why: "after 1m0s there was still no line that matches the ready rule", lines: []string{"booting"}},
		"binds nothing": {events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {30, "", "tick"},
			{60, "", "tick"}},
			why: "no process of the server that holds port udp/27750"},
		"lets the port go": {events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {3, "", "port"},
			{6, "", "noport"}, {9, "", "tick"}, {60, "", "tick"}},
			why: "holds port udp/27750"},
		"never says its version": {events: []event{{2, "open", ""}, {2, "", "port"}, {7, "", "tick"}},
			why: "no line matched the version rule", lines: []string{"open"}},
		"says its version after ready": {events: []event{{2, "open", ""}, {2, "", "port"}, {3, "version 3.5.0", ""},
			{7, "", "tick"}}, up: true, why: "ready line"},
		"version not known": {change: func(r *Rules) { r.Expect = "" }, up: true, why: "ready",
			events: []event{{1, "version 9", ""}, {2, "open", ""}, {2, "", "port"}, {7, "", "tick"}}},
		"no rules at all": {change: func(r *Rules) {
			r.Line, r.Version, r.Ready.Port = profile.Pattern{},
				profile.Pattern{}, profile.Port{}
		}, up: true, why: "it ran for 5s",
			events: []event{{0, "", "tick"}, {4.9, "", "tick"}, {5, "", "tick"}}},
	} {
		t.Run(name, func(t *testing.T) {
			r := Rules{Expect: "3.5.0", Ready: profile.Ready{Line: re(`^open`), Version: re(`^version (\S+)`),
				Fail:   []profile.Pattern{re(`^FATAL`)},
				Within: profile.Duration(time.Minute), Steady: profile.Duration(5 * time.Second),
				Port: profile.Port{Net: "udp", Number: 27750}}}
			if c.change != nil {
				c.change(&r)
			}
			start := time.Unix(1000, 0)
			j := NewJudge(r, start)
			var v *Verdict
			for i, e := range c.events {
				require.Nil(t, v, "decided before event %d", i)
				at := start.Add(time.Duration(e.at * float64(time.Second)))
				switch e.do {
				case "":
					v = j.Line(at, e.line)
				case "exit":
					v = j.Exited(at, "status 1")
				case "tick":
					v = j.Tick(at)
				default:
					v = j.Port(at, e.do == "port")
				}
			}
			require.NotNil(t, v, "undecided")
			assert.Equal(t, c.up, v.Up)
			assert.Contains(t, v.Why, c.why)
			if c.lines != nil {
				assert.Equal(t, c.lines, v.Lines)
			}
		})
	}
}
