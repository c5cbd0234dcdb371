// Package watch decides, from console lines, ports and processes, whether a server came
// up. A Judge is told what happens and when, and holds no clock and no file of its own.
package watch

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/logline"
	"freshkeel/internal/profile"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Rules are what a server must show.
type Rules struct {
	profile.Ready
	Expect string         // the version that must be said; "": none is known
	From   string         // the version before: a server that says it still runs the old files
	Known  string         // the version that is installed, where none is expected: it bears a rule out
	Proof  Proof          // which rules good starts have borne out
	Before []profile.Port // what it held when it was last seen up
	ByHand bool           // a person wrote the version rule: it says the server's own version, proven or not
	Fails  bool           // a person wrote the failure rules: they count once it is ready, too
	// Ours are the keys whose rules were guessed or learned. Such a rule takes down no server that is good otherwise:
	// where Same, one that it does not keep to is told and doubted. Nil is as if a person had written all.
	Ours  map[string]bool
	Same  bool          // the build is the one that was up before
	Usual time.Duration // that it took to come up then; 0: not known
}

// Proof holds the rules that a good start has borne out, each as Rule writes it. What no
// good start has proven only warns: a guess must not stop a server that works.
type Proof map[string]bool

// Rule is how Proof names a rule: the profile's key, and what stands there.
func Rule(key, text string) string { return key + " = " + text }

// The keys of the profile that hold rules.
const (
	KeyLine    = "ready.line"
	KeyVersion = "ready.version"
	KeyFail    = "ready.fail"
	KeyPort    = "ready.port"
)

// proven tells whether a rule must hold because the profile insists on it, or a good
// start has shown it to.
func (r Rules) proven(key, text string) bool {
	if r.strict() {
		return true
	}
	return r.Proof[Rule(key, text)]
}

// strict tells whether the profile insists on what its rules say.
func (r Rules) strict() bool { return r.Strict != nil && *r.Strict }

// soft tells whether a rule of ours is never more than a doubt: of a build that was up before.
func (r Rules) soft(key string) bool { return r.Same && r.Ours[key] && !r.strict() }

// must is proven for a line that has to come: where the profile says that lines are not
// insisted on, one that does not come is never more than a doubt.
func (r Rules) must(key string, list profile.Patterns) bool {
	if r.Strict != nil && !*r.Strict || r.soft(key) {
		return false
	}
	return slices.ContainsFunc(list, func(p profile.Pattern) bool { return r.proven(key, p.String()) })
}

// Verdict is what was decided, and on what.
type Verdict struct {
	Up      bool          `json:"up"`
	Why     string        `json:"why"`
	Lines   []string      `json:"lines"`            // the console lines that decided it
	Doubts  []string      `json:"doubts,omitempty"` // of a server that is up: what did not come, and what came instead
	Version string        `json:"version"`          // as the server said it
	Took    time.Duration `json:"took_ns"`          // from start to ready, or to the end
	Late    bool          `json:"late,omitempty"`   // its time was up, and nothing else spoke against it
	Early   string        `json:"early,omitempty"`  // a ready rule of ours that came before it was ready

	Proved  []string `json:"-"` // of a server that is up: rules that held, as Rule writes them
	Against []string `json:"-"` // and those that it did not keep to, though it is up
}

// tailLines is how much of the console a verdict without a deciding line shows.
const tailLines = 8

// helperGrace is how long a server may hold nothing and say nothing after its script
// ended with an error, or a crash was printed, before that is what decides.
const helperGrace = 3 * time.Second

// Judge weighs what happens since start. Each method returns a verdict once
// there is one, else nil.
type Judge struct {
	rules Rules
	start time.Time
	read  logline.Reader

	ready    time.Time // ready line seen
	by       *profile.Pattern
	version  string
	versBy   *profile.Pattern
	held     []profile.Port
	lines    []string // ready and version lines
	tail     []string
	failed   string // a line that matched a failure rule that is not proven
	failedBy *profile.Pattern
	doubts   []string
	sound    time.Time // since when all that is asked holds
	said     time.Time // when the last line came
	moved    time.Time // when the ports last changed
	loads    time.Time // when it last said, after its ready line, that it is still loading
	broke    time.Time // when its script ended with an error, or a crash was printed
	broken   string    // which of the two
}

// NewJudge begins a watch.
func NewJudge(r Rules, start time.Time) *Judge {
	return &Judge{rules: r, start: start, said: start, moved: start}
}

func (j *Judge) no(at time.Time, why string, lines ...string) *Verdict {
	return &Verdict{Why: why, Lines: lines, Version: j.version, Took: at.Sub(j.start)}
}

// loading are words by which a server says that it is not done yet.
var loading = regexp.MustCompile(`(?i)\b(load(ing|ed)?|starting|initiali[sz]\w+|prepar(ing|ed)|generat(ing|ed)|spawn(ing|ed)?|` +
	`build(ing)?|compil(ing|ed)|import(ing|ed)|read(ing)?|opening|unpack(ing|ed)?)\b|\d{1,3} ?%`)

// A server is given longest to go on loading once a ready line of ours came, and counts as done once it says no more of
// it for loadPause.
const (
	longest   = 10 * time.Second
	loadPause = 3 * time.Second
)

// loads tells whether a server goes on loading though a ready line of ours came.
func (j *Judge) stillLoads(at time.Time) bool {
	return j.rules.Ours[KeyLine] && !j.loads.IsZero() && at.Sub(j.loads) < loadPause && at.Sub(j.ready) < longest+loadPause
}

// crashed are the words by which runtimes and systems say that a program broke down.
var crashed = regexp.MustCompile(`Segmentation fault|\(core dumped\)|^Exception in thread "main"|^panic: |` +
	`^fatal error: |\bSIGSEGV\b|^Traceback \(most recent call last\)`)

// Line hears one line of the console, or of the log, without its line end. Until the first ready line
// the rules decide, whatever a line looks like. Then players may be on: a line with a speaker decides
// nothing, and of the others a version that is owed still, and a failure rule of the operator's own.
func (j *Judge) Line(at time.Time, text string) *Verdict {
	l := j.read.Read(text)
	text = l.Whole // colours are no part of a line's text
	played := !j.ready.IsZero()
	j.said = at
	if j.tail = append(j.tail, text); len(j.tail) > tailLines {
		j.tail = j.tail[1:]
	}
	if played && l.Spoken() {
		return j.weigh(at)
	}
	if f, _ := j.rules.Fail.In(l); f != nil && (!played || j.rules.Fails) {
		if j.rules.proven(KeyFail, f.String()) && !j.rules.soft(KeyFail) {
			return j.no(at, fmt.Sprintf("a line matched the failure rule %s", words.Quote(f.String())), text)
		}
		if j.failed == "" {
			j.failed, j.failedBy = text, f
		}
	}
	if crashed.MatchString(text) && j.broke.IsZero() && !played {
		j.broke, j.broken = at, "a crash was printed"
		if j.failed == "" {
			j.failed = text
		}
	}
	if v, m := j.rules.Version.In(l); v != nil && j.version == "" {
		j.version, j.versBy = m[1], v
		j.lines = append(j.lines, text)
		if v := j.hearVersion(at, text); v != nil {
			return v
		}
	}
	if played && loading.MatchString(l.Bare) {
		j.loads = at
	}
	if r, _ := j.rules.Line.In(l); r != nil && j.ready.IsZero() {
		j.ready, j.by = at, r
		j.lines = append(j.lines, text)
	}
	return j.weigh(at)
}

// hearVersion holds the version that was said against the one that is expected.
func (j *Judge) hearVersion(at time.Time, text string) *Verdict {
	want := j.rules.Expect
	if want == "" {
		return nil
	}
	like := version.Alike(j.version, want)
	old := j.rules.From != "" && version.Alike(j.version, j.rules.From) == version.Same &&
		version.Alike(want, j.rules.From) != version.Same
	switch {
	case like == version.Same:
	case like == version.Doubtful && !old:
		j.doubts = append(j.doubts, fmt.Sprintf("the server says that it is %s, and the build is %s: they may be the "+
			"same; --as %s names the build as the server does", j.version, want, j.version))
	case j.rules.ByHand || j.rules.proven(KeyVersion, j.versBy.String()) &&
		(old || !j.rules.Ours[KeyVersion] || j.rules.strict()):
		return j.no(at, fmt.Sprintf("the server says it is version %s, the build is %s", j.version, want), text)
	case j.rules.proven(KeyVersion, j.versBy.String()):
		j.doubts = append(j.doubts, fmt.Sprintf("by the rule %s, which was learned, the server says that it is %s, and the "+
			"build is %s: correct [ready] version if that number is none of a version", words.Quote(j.versBy.String()),
			j.version, want))
	default:
		j.doubts = append(
			j.doubts,
			fmt.Sprintf("by the rule %s the server says that it is %s, and the build is %s; no good "+
				"start has proven that rule", words.Quote(j.versBy.String()), j.version, want),
		)
	}
	return nil
}

// Holds hears which ports the server's processes hold.
func (j *Judge) Holds(at time.Time, ports []profile.Port) *Verdict {
	if !slices.Equal(j.held, ports) {
		j.moved = at
	}
	j.held = ports
	return j.weigh(at)
}

// ScriptEnded hears that the launch script has ended while processes of it live on.
func (j *Judge) ScriptEnded(at time.Time, status string) *Verdict {
	if status != "status 0" && j.broke.IsZero() {
		j.broke, j.broken = at, fmt.Sprintf("the launch script ended (%s), and only helpers of it live on", status)
	}
	return j.weigh(at)
}

// Restarted hears that the server ended and its launch script started it again.
func (j *Judge) Restarted(at time.Time) *Verdict {
	return j.no(at, "the server ended, and the loop in its launch script starts it again", j.deciding()...)
}

// Exited hears that no process of the server is left.
func (j *Judge) Exited(at time.Time, status string) *Verdict {
	when := "before it was ready"
	if r := j.rules; !r.Line.Given() && len(r.Held()) == 0 {
		when = fmt.Sprintf("after %.1f s; with no ready line and no port to go by, it has to run for %s",
			at.Sub(j.start).Seconds(), r.Steady)
	} else if !j.sound.IsZero() {
		when = fmt.Sprintf("%.1f s after it was ready, before %s had passed", at.Sub(j.sound).Seconds(), j.rules.Steady)
	}
	if j.failedBy != nil {
		when += fmt.Sprintf("; a line of it matched the failure rule %s", words.Quote(j.failedBy.String()))
	}
	v := j.no(at, fmt.Sprintf("the server ended (%s) %s", status, when), j.deciding()...)
	if j.by != nil && j.rules.Ours[KeyLine] && j.rules.Same {
		v.Early = j.by.String()
	}
	return v
}

// deciding are the lines that say most about a server that did not come up.
func (j *Judge) deciding() []string {
	if j.failed != "" && !slices.Contains(j.tail, j.failed) {
		return append([]string{j.failed}, j.tail...)
	}
	return j.tail
}

// Tick hears that time passes.
func (j *Judge) Tick(at time.Time) *Verdict { return j.weigh(at) }

func (j *Judge) weigh(at time.Time) *Verdict {
	hard, soft := j.missing()
	steady := j.rules.Steady.Std()
	all := hard == "" && soft == ""
	if all && j.sound.IsZero() {
		j.sound = at
	}
	if !all {
		j.sound = time.Time{} // a port let go again counts as not up
	}
	if !j.broke.IsZero() && j.ready.IsZero() && len(j.held) == 0 && at.Sub(j.broke) >= helperGrace {
		return j.no(at, j.broken, j.deciding()...)
	}
	if all && at.Sub(j.sound) >= steady && j.shows(at) && !j.stillLoads(at) {
		return j.up(at)
	}
	over := at.Sub(j.start) >= j.rules.Within.Std()
	switch {
	case hard == "" && soft != "" && (over || at.Sub(j.start) >= j.endurance() && j.settled(at, max(2*steady, leastQuiet))):
		return j.up(at)
	case hard != "" && at.Sub(j.start) >= j.endurance() && j.settled(at, max(2*steady, leastQuiet)) &&
		j.Elsewhere() != "":
		return j.no(at, j.Elsewhere(), j.deciding()...)
	case hard == "" && over && j.heldNone():
		v := j.no(at, fmt.Sprintf("after %s it held no port, and when it was last seen up it held %s",
			j.rules.Within, listPorts(j.rules.Before)), j.deciding()...)
		v.Late = true
		return v
	case hard != "" && over:
		v := j.no(at, fmt.Sprintf("after %s there was still %s", j.rules.Within, hard), j.deciding()...)
		v.Late = true
		return v
	}
	return nil
}

// Elsewhere says that a server which is ready otherwise holds other ports than those that are expected; "" where it
// does not.
func (j *Judge) Elsewhere() string {
	if j.rules.Line.Given() && j.ready.IsZero() {
		return ""
	}
	var missing, others []profile.Port
	for _, p := range j.rules.Held() {
		if !slices.Contains(j.held, p) {
			missing = append(missing, p)
		}
	}
	for _, p := range j.held {
		if !slices.Contains(j.rules.Held(), p) && !slices.Contains(j.rules.Before, p) {
			others = append(others, p)
		}
	}
	if len(missing) == 0 || len(others) == 0 {
		return ""
	}
	return fmt.Sprintf("it holds port %s, and not %s, which [ready] expects", listPorts(others), listPorts(missing))
}

// leastQuiet is how long a server must be quiet at least before what it did not show counts
// as not coming.
const leastQuiet = 3 * time.Second

// endurance is how long a line is waited for that does not have to come: one that good starts
// had is worth waiting for.
func (j *Judge) endurance() time.Duration {
	if j.rules.Line.Given() && j.ready.IsZero() && slices.ContainsFunc(j.rules.Line, func(p profile.Pattern) bool {
		return j.rules.proven(KeyLine, p.String())
	}) {
		return max(10*j.rules.Usual, 6*j.rules.Steady.Std())
	}
	return 2 * j.rules.Usual
}

// patience is how many steady times a server that nothing tells the readiness of is given
// to bind a port.
const patience = 4

// shows tells whether there is enough to see of a server that keeps to all its rules: with
// a ready line or a port to go by there is. Without any, it is what it did when it was last
// up, or that it has come to rest.
func (j *Judge) shows(at time.Time) bool {
	r := j.rules
	if r.Line.Given() || len(r.Held()) > 0 {
		return true
	}
	steady := r.Steady.Std()
	if !j.settled(at, steady) || j.heldNone() {
		return false
	}
	return len(j.held) > 0 || at.Sub(j.start) >= min(patience*steady, r.Within.Std())
}

// heldNone tells whether the server holds no port at all, and did when it was last seen up.
// Another one than before may be what its operator set meanwhile.
func (j *Judge) heldNone() bool { return len(j.rules.Before) > 0 && len(j.held) == 0 }

// settled tells whether nothing changes any more: no line came and no port changed for a
// time; or, of one that always talks, its ports stay.
func (j *Judge) settled(at time.Time, quiet time.Duration) bool {
	if at.Sub(j.moved) < quiet || j.heldNone() {
		return false
	}
	return at.Sub(j.said) >= quiet || (len(j.held) > 0 && at.Sub(j.moved) >= 2*quiet)
}

// missing says what of the rules does not hold yet: hard is what must, soft is what no good
// start has proven, or the profile does not insist on.
func (j *Judge) missing() (hard, soft string) {
	r := j.rules
	if r.Line.Given() && j.ready.IsZero() {
		what := fmt.Sprintf("no line that matches the ready rule %s", r.Line)
		if r.must(KeyLine, r.Line) {
			return what, soft
		}
		soft = what
	}
	for _, p := range r.Held() {
		if slices.Contains(j.held, p) {
			continue
		}
		what := fmt.Sprintf("no process of the server that holds port %s", p)
		if r.proven(KeyPort, p.String()) && !(r.soft(KeyPort) && len(j.held) > 0) {
			return what, soft
		}
		if soft == "" {
			soft = what
		}
	}
	return "", soft
}

// up is the verdict on a server that came up, with what speaks against it. A version line
// that was due and never came is found out here: it may be printed after the ready line,
// within the steady time.
func (j *Judge) up(at time.Time) *Verdict {
	r := j.rules
	if r.Version.Given() && j.version == "" {
		if r.must(KeyVersion, r.Version) && (!r.Ours[KeyVersion] || r.strict()) {
			return j.no(
				at,
				fmt.Sprintf("the server said it was ready, but no line matched the version rule %s", r.Version),
				j.lines...)
		}
		j.doubts = append(j.doubts, "no line matched the version rule "+r.Version.String())
	}
	came := j.moved // it came up with the last that changed
	if !j.sound.IsZero() && (!j.ready.IsZero() || len(r.Held()) > 0) {
		came = j.sound
	} else if !j.ready.IsZero() {
		if j.ready.After(came) {
			came = j.ready
		}
	} else if j.said.After(came) {
		came = j.said
	}
	v := &Verdict{Up: true, Lines: j.lines, Version: j.version, Took: came.Sub(j.start)}
	if came.IsZero() {
		v.Took = at.Sub(j.start)
	}
	v.Doubts = j.doubts
	for _, p := range r.Held() {
		if rule := Rule(KeyPort, p.String()); slices.Contains(j.held, p) {
			v.Proved = append(v.Proved, rule)
		} else {
			v.Against = append(v.Against, rule)
			doubt := fmt.Sprintf("no process of the server holds port %s%s", p, holding(", but ", j.held))
			if r.soft(KeyPort) {
				doubt += "; that rule was learned, and is doubted from now on"
			}
			v.Doubts = append(v.Doubts, doubt)
		}
	}
	if r.Line.Given() && j.ready.IsZero() {
		v.Doubts = append(v.Doubts, "no line matched the ready rule "+r.Line.String())
		if v.Lines = j.tail; len(j.tail) > 0 {
			v.Doubts = append(v.Doubts, "its last line is: "+j.tail[len(j.tail)-1])
		}
	}
	if j.failedBy != nil {
		v.Doubts = append(
			v.Doubts,
			fmt.Sprintf("this line matched the failure rule %s, and it came up all the same: %s",
				words.Quote(j.failedBy.String()), j.failed),
		)
	}
	j.proof(v)
	if j.by != nil && j.rules.Ours[KeyLine] && j.loads.Sub(j.ready) >= longest {
		v.Early = j.by.String()
		v.Doubts = append(v.Doubts, fmt.Sprintf("by the rule %s it was ready, and it went on loading for %s: a later line is "+
			"looked for", words.Quote(j.by.String()), j.loads.Sub(j.ready).Round(time.Second)))
	}
	v.Why = j.upWhy(at)
	return v
}

// proof notes which line rules held, and which did not.
func (j *Judge) proof(v *Verdict) {
	if j.by != nil {
		v.Proved = append(v.Proved, Rule(KeyLine, j.by.String()))
	}
	known := j.rules.Expect
	if known == "" {
		known = j.rules.Known
	}
	if j.versBy != nil && known != "" && version.Alike(j.version, known) == version.Same {
		v.Proved = append(v.Proved, Rule(KeyVersion, j.versBy.String()))
	}
	for _, f := range j.rules.Fail {
		if j.failedBy != nil && f.String() == j.failedBy.String() {
			v.Against = append(v.Against, Rule(KeyFail, f.String()))
		} else {
			v.Proved = append(v.Proved, Rule(KeyFail, f.String()))
		}
	}
}

// Awaits says what the verdict waits for.
func (j *Judge) Awaits() string {
	hard, soft := j.missing()
	switch {
	case hard != "":
		return "there is " + hard + " yet"
	case soft != "":
		return fmt.Sprintf("there is %s yet; it counts as up once it is quiet for %s", soft,
			max(2*j.rules.Steady.Std(), leastQuiet))
	case !j.rules.Line.Given() && len(j.rules.Ready.Held()) == 0:
		return "no rule says when it is ready: it counts as up once it has come to rest"
	}
	return fmt.Sprintf("ready; to run on for %s", j.rules.Steady)
}

// upWhy says on what a server counts as up.
func (j *Judge) upWhy(at time.Time) string {
	var why string
	switch {
	case j.by != nil && !j.sound.IsZero():
		why = fmt.Sprintf("its ready line came, then steady for %s", j.rules.Steady)
	case j.by != nil:
		why = "its ready line came"
	case j.rules.Line.Given():
		why = "it runs on, though its ready line did not come"
	default:
		why = fmt.Sprintf("it ran for %s", at.Sub(j.start).Round(100*time.Millisecond))
	}
	return why + holding(", holding ", j.held)
}

func holding(lead string, ports []profile.Port) string {
	if len(ports) == 0 {
		return ""
	}
	return lead + listPorts(ports)
}

func listPorts(ports []profile.Port) string {
	var all []string
	for _, p := range ports {
		all = append(all, p.String())
	}
	return strings.Join(all, ", ")
}
