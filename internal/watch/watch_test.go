package watch

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"freshkeel/internal/profile"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func re(s string) profile.Patterns { return profile.Patterns{{Regexp: regexp.MustCompile(s)}} }

// guessed are rules that nothing has proven yet; learned are some that a good start has, and
// of which the profile does not insist on lines.
func guessed(r *Rules) { r.Strict = nil }

func learned(r *Rules) {
	r.Strict, r.Usual = new(false), 8*time.Second
	r.Proof = Proof{
		Rule(KeyLine, "^open"):             true,
		Rule(KeyVersion, `^version (\S+)`): true,
		Rule(KeyPort, "udp/27750"):         true,
	}
}

// ours are rules that were learned and have held, of a build that was up before.
func ours(r *Rules) {
	learned(r)
	r.Same, r.Fails, r.ByHand = true, false, false
	r.Ours = map[string]bool{KeyLine: true, KeyVersion: true, KeyFail: true, KeyPort: true}
}

// Each case is a story: what happens at which second. The verdict must come at
// the last of them, and not before.
func TestVerdictNamesWhatDecidedIt(t *testing.T) {
	type event struct {
		at   float64
		line string // or
		do   string // "port", "noport", "exit", "tick"
	}
	for name, c := range map[string]struct {
		change  func(*Rules)
		events  []event
		change2 func(*Rules)
		up      bool
		why     string
		doubts  []string
		lines   []string
	}{
		"comes up": {events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2.5, "", "port"}, {7.4, "", "tick"},
			{7.5, "", "tick"}},
			up: true, why: "ready line came", lines: []string{"version 3.5.0", "open"}},
		"failure line": {events: []event{{1, "version 3.5.0", ""}, {2, "FATAL no snails", ""}},
			why: "failure rule", lines: []string{"FATAL no snails"}},
		"failure line after ready": {events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2, "", "port"},
			{4, "FATAL late", ""}},
			why: "failure rule", lines: []string{"FATAL late"}},
		"what players say once it is ready": {up: true, why: "ready", events: []event{{1, "12:00:00 main info open", ""}, {2, "", "port"},
			{2, "12:00:01 main info mallory joined the pond", ""}, {3, "12:00:02 main info <mallory> FATAL", ""},
			{3, "12:00:02 main info mallory: version 9.9.9", ""}, {4, "12:00:03 main info version 3.5.0", ""}, {7, "", "tick"}}},
		"a failure rule of ours once it is ready": {change: func(r *Rules) { r.Fails = false }, up: true, why: "ready",
			events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2, "", "port"}, {4, "FATAL late", ""}, {7, "", "tick"}}},
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
			r.Line, r.Version, r.Ready.Port = nil, nil, profile.Port{}
		}, up: true, why: "it ran for 20s",
			events: []event{{0, "", "tick"}, {5, "", "tick"}, {19.9, "", "tick"}, {20, "", "tick"}}},
		"an unproven ready line does not come": {change: guessed, up: true, why: "though its ready line did not come, holding udp/27750",
			doubts: []string{"no line matched the ready rule '^open'", "its last line is: at your service"},
			events: []event{{1, "version 3.5.0", ""}, {2, "", "port"}, {3, "at your service", ""}, {12.9, "", "tick"}, {13, "", "tick"}}},
		"an unproven port is not held": {change: guessed, up: true, why: "its ready line came, holding tcp/25000",
			doubts: []string{"no process of the server holds port udp/27750, but tcp/25000"},
			events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2, "", "tcp"}, {11.9, "", "tick"}, {12, "", "tick"}}},
		"an unproven version rule hears a protocol": {change: guessed, up: true, why: "its ready line came",
			doubts: []string{"by the rule '^version (\\S+)' the server says that it is 47"},
			events: []event{{1, "version 47", ""}, {2, "open", ""}, {2, "", "port"}, {7, "", "tick"}}},
		"a proven version rule hears the old one": {change: func(r *Rules) { learned(r); r.From = "3.4" },
			why: "says it is version 3.4.0, the build is 3.5.0", events: []event{{1, "version 3.4.0", ""}}},
		"a version that says less": {change: learned, up: true, why: "ready", doubts: []string{"--as 3.5 names"},
			change2: func(r *Rules) { r.Expect = "3.5.2" },
			events:  []event{{1, "version 3.5", ""}, {2, "open", ""}, {2, "", "port"}, {7, "", "tick"}}},
		"a learned rule, and a build that words it otherwise": {change: learned, up: true, why: "though its ready line did not come",
			doubts: []string{"no line matched the version rule", "no line matched the ready rule", "its last line is: hello"},
			events: []event{{1, "hello", ""}, {2, "", "port"}, {30, "", "tick"}, {59.9, "", "tick"}, {60, "", "tick"}}},
		"a learned rule, and no port": {change: learned, why: "still no process of the server that holds port udp/27750",
			events: []event{{1, "hello", ""}, {59, "", "tick"}, {60, "", "tick"}}},
		"an unproven failure line": {change: guessed, up: true, why: "ready", doubts: []string{"it came up all the same: FATAL fonts"},
			events: []event{{1, "version 3.5.0", ""}, {1, "FATAL fonts", ""}, {2, "open", ""}, {2, "", "port"}, {7, "", "tick"}}},
		"an unproven failure line, and the end": {change: guessed, why: "ended (status 1)",
			events: []event{{1, "FATAL snails", ""}, {2, "a", ""}, {2, "b", ""}, {2, "c", ""}, {2, "d", ""}, {2, "e", ""}, {2, "f", ""}, {2, "g", ""},
				{2, "h", ""}, {3, "", "exit"}}, lines: []string{"FATAL snails", "a", "b", "c", "d", "e", "f", "g", "h"}},
		"its script ends with an error": {change: guessed, why: "the launch script ended (status 1), and only helpers of it live on",
			events: []event{{1, "oh", ""}, {2, "", "script"}, {4.9, "", "tick"}, {5, "", "tick"}}},
		"a crash is printed": {change: guessed, why: "a crash was printed",
			events: []event{{1, "Segmentation fault (core dumped)", ""}, {3.9, "", "tick"}, {4, "", "tick"}}},
		"a loop starts it again": {change: guessed, why: "the loop in its launch script starts it again",
			events: []event{{1, "version 3.5.0", ""}, {2, "", "again"}}},
		"a learned port that a build which was up before does not hold": {change: ours, up: true, why: "holding tcp/25000",
			doubts: []string{"no process of the server holds port udp/27750, but tcp/25000; that rule was learned, and is doubted"},
			events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2, "", "tcp"}, {15.9, "", "tick"}, {16, "", "tick"}}},
		"a learned port that a new build does not hold": {change: ours, why: "it holds port tcp/25000, and not udp/27750",
			change2: func(r *Rules) { r.Same = false },
			events:  []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2, "", "tcp"}, {15.9, "", "tick"}, {16, "", "tick"}}},
		"a learned port, and none is held": {change: ours, why: "still no process of the server that holds port udp/27750",
			events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {59.9, "", "tick"}, {60, "", "tick"}}},
		"a learned failure line of a build that was up before": {change: ours, up: true, why: "ready",
			doubts: []string{"it came up all the same: FATAL fonts"}, change2: func(r *Rules) { r.Proof[Rule(KeyFail, "FATAL")] = true },
			events: []event{{1, "version 3.5.0", ""}, {1, "FATAL fonts", ""}, {2, "open", ""}, {2, "", "port"}, {7, "", "tick"}}},
		"a learned version rule hears another number": {change: ours, up: true, why: "ready",
			doubts: []string{"which was learned, the server says that it is 47"}, change2: func(r *Rules) { r.Same, r.From = false, "3.4.0" },
			events: []event{{1, "version 47", ""}, {2, "open", ""}, {2, "", "port"}, {7, "", "tick"}}},
		"a learned version rule hears the old one": {change: ours, why: "says it is version 3.4.0",
			change2: func(r *Rules) { r.Same, r.From = false, "3.4.0" }, events: []event{{1, "version 3.4.0", ""}}},
		"a learned ready line comes while it loads": {change: ours, up: true, why: "ready",
			doubts: []string{"by the rule '^open' it was ready, and it went on loading for 12s: a later line is looked for"},
			events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2, "", "port"}, {6, "loading lanes", ""}, {8, "loading", ""},
				{10, "loading", ""}, {12, "90 %", ""}, {14, "preparing", ""}, {14.9, "", "tick"}, {15, "", "tick"}}},
		"a ready line by hand comes while it loads": {up: true, why: "ready",
			events: []event{{1, "version 3.5.0", ""}, {2, "open", ""}, {2, "", "port"}, {6, "loading lanes", ""}, {7, "", "tick"}}},
		"nothing of what it held before": {change: func(r *Rules) {
			r.Line, r.Version, r.Ready.Port, r.Strict = nil, nil, profile.Port{}, nil
			r.Before = []profile.Port{{Net: "tcp", Number: 1}}
		}, why: "it held no port, and when it was last seen up it held tcp/1",
			events: []event{{1, "hi", ""}, {59, "", "tick"}, {60, "", "tick"}}},
	} {
		t.Run(name, func(t *testing.T) {
			r := Rules{Expect: "3.5.0", Ready: profile.Ready{Line: re(`^open`), Version: re(`^version (\S+)`),
				Fail: re(`FATAL`), Strict: new(true),
				Within: profile.Duration(time.Minute), Steady: profile.Duration(5 * time.Second),
				Port: profile.Port{Net: "udp", Number: 27750}}}
			r.Fails = true
			if c.change != nil {
				c.change(&r)
			}
			if c.change2 != nil {
				c.change2(&r)
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
				case "script":
					v = j.ScriptEnded(at, "status 1")
				case "again":
					v = j.Restarted(at)
				case "tcp":
					v = j.Holds(at, []profile.Port{{Net: "tcp", Number: 25000}})
				case "port":
					v = j.Holds(at, []profile.Port{{Net: "udp", Number: 27750}})
				default:
					v = j.Holds(at, nil)
				}
			}
			require.NotNil(t, v, "undecided")
			assert.Equal(t, c.up, v.Up)
			assert.Contains(t, v.Why, c.why)
			for _, d := range c.doubts {
				assert.Contains(t, strings.Join(v.Doubts, "\n"), d)
			}
			assert.False(t, c.up && c.doubts == nil && len(v.Doubts) > 0, v.Doubts)
			if c.lines != nil {
				assert.Equal(t, c.lines, v.Lines)
			}
		})
	}
}
