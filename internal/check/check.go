// Package check is the checks that a refit must pass: each looks at one thing, as it is and
// as it will stand after the swap, and changes nothing.
//
// A new check is one function in the file of its theme and one line in the list of
// checks: see docs/checks.md.
package check

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"freshkeel/internal/acquire"
	"freshkeel/internal/ahead"
	"freshkeel/internal/backups"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/plan"
	"freshkeel/internal/resolve"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/tree"
)

// Finding is what one check found: what, where, why it matters, what to do.
type Finding struct {
	Check string `json:"check"`
	Level Level  `json:"level"`
	What  string `json:"what"`
	Where string `json:"where,omitempty"`
	Why   string `json:"why,omitempty"`
	Do    string `json:"do,omitempty"`

	// It is of the install and not of the build: it was so at the last refit, and will
	// be at the next. What is new to the operator is told before it.
	Routine bool `json:"routine,omitempty"`
}

// Checker makes the checks of one install.
type Checker struct {
	*install.Install
	inv     *inventory.Kept
	res     *resolve.Resolver
	rts     *runtimes.Rack
	planner *plan.Planner
	shelf   *backups.Shelf
}

// New is the checker of an install.
func New(inv *inventory.Kept, res *resolve.Resolver, rts *runtimes.Rack, planner *plan.Planner,
	shelf *backups.Shelf) *Checker {
	return &Checker{inv.Install, inv, res, rts, planner, shelf}
}

// Level is how much a finding weighs.
type Level string

const (
	OK   Level = "ok"
	Warn Level = "warn"
	Stop Level = "stop"
)

// routine are the checks whose warnings are of the install, whatever the build.
var routine = []string{"owner", "everybody", "limits", "clock", "links", "memory", "logs"}

// Preflight is what a refit would meet and do.
type Preflight struct {
	From     string    `json:"from"`
	To       string    `json:"to"`
	Findings []Finding `json:"findings"` // stops first, then warnings, then what is fine
	Running  bool      `json:"running"`
	// versions to step through, the last being the one that is wanted
	Chain   []string         `json:"chain,omitempty"`
	Alone   []string         `json:"alone,omitempty"`  // parts that are stopped, where others run on
	All     string           `json:"all,omitempty"`    // why every part is stopped, where the profile would let some run on
	Ran     []CheckRun       `json:"checks"`           // every check that was made, in the order of the list
	Layers  []string         `json:"layers,omitempty"` // what becomes of each layer that changes
	Plan    *plan.Plan       `json:"-"`
	Fetched *acquire.Fetched `json:"-"`
}

// Goal is the version that is wanted in the end: To, or the last of the chain.
func (p *Preflight) Goal() string {
	if n := len(p.Chain); n > 0 {
		return p.Chain[n-1]
	}
	return p.To
}

// Stops lists the findings that forbid the refit.
func (p *Preflight) Stops() []Finding { return p.at(Stop) }

// Warnings lists the findings worth minding.
func (p *Preflight) Warnings() []Finding { return p.at(Warn) }

func (p *Preflight) at(l Level) (out []Finding) {
	for _, f := range p.Findings {
		if f.Level == l {
			out = append(out, f)
		}
	}
	return
}

// Later adds what the checks of a later step of a chain found: what stops it
// then stops the whole now, while the old server still runs (P6).
func (p *Preflight) Later(step *Preflight) {
	for _, f := range step.Findings {
		if f.Level != OK {
			f.What = "later, at " + step.To + ": " + f.What
			p.Findings = append(p.Findings, f)
		}
	}
	p.sort()
}

func (p *Preflight) sort() {
	weight := func(f Finding) int {
		switch {
		case f.Level == Stop:
			return 0
		case f.Level == Warn && !f.Routine:
			return 1
		case f.Level == Warn:
			return 2
		}
		return 3
	}
	sort.SliceStable(p.Findings, func(i, j int) bool { return weight(p.Findings[i]) < weight(p.Findings[j]) })
}

// TellOnce is which routine findings were told before, by what they say; now they are told. Nothing that was named in
// vain is among them: that is told each time (P13).
func (p *Preflight) TellOnce(in *install.Install) (before map[string]bool) {
	file := in.State("told.json")
	before, now := map[string]bool{}, map[string]bool{}
	if b, err := tree.ReadOwn(file); err == nil {
		var list []string
		if json.Unmarshal(b, &list) == nil {
			for _, what := range list {
				before[what] = true
			}
		}
	}
	added := false
	for _, f := range p.Findings {
		if f.Routine && f.Check != "vain" {
			now[f.What] = true
			added = added || !before[f.What]
		}
	}
	if added { // a disk that is full, or another user's, only has them told again
		if b, err := json.Marshal(slices.Sorted(maps.Keys(now))); err == nil {
			tree.WriteFile(file, b, 0o600)
		}
	}
	return before
}

// CheckRun is one check that was made.
type CheckRun struct {
	Check string        `json:"check"`
	Took  time.Duration `json:"took_ns"`
	Found int           `json:"found"` // findings; 0: it does not apply here
}

// launched is what the launch script would run.
type launched struct {
	commands []launch.Command
	err      error
}

// situation is all that checks look at. They change nothing.
type situation struct {
	k        *Checker
	want     resolve.Want
	cand     *resolve.Candidate
	fetched  *acquire.Fetched
	inv      *inventory.Inventory
	hop      int // of a chain: how many steps come before this one
	plan     *plan.Plan
	ahead    *ahead.Ahead // the plan's: the install as it will stand
	programs *runtimes.Programs
	status   *host.Status
	lines    launched
	store    *locker.Locker
	accepted map[string]bool // checks whose stop the operator goes past
}

// check looks at one thing. No finding means that it does not apply.
type chk struct {
	Name string
	look func(context.Context, *situation) []Finding
}

// Checks is the list that a refit must pass, in the order of the telling.
var Checks = []chk{
	{"direction", checkDirection},
	{"steps", checkSteps},
	{"channel", checkChannel},
	{"kind", checkKind},
	{"layers", checkLayers},
	{"runtime", checkRuntime},
	{"engine", checkEngine},
	{"native", checkNative},
	{"windows", checkWindows},
	{"needs", checkNeeds},
	{"host", checkHost},
	{"launch", checkLaunch},
	{"wishes", checkWishes},
	{"scripts", checkScripts},
	{"others", checkOtherScripts},
	{"names", checkNames},
	{"effect", checkEffect},
	{"ready", checkReady},
	{"paths", checkPaths},
	{"drift", checkDrift},
	{"yours", checkYours},
	{"damage", checkDamage},
	{"removals", checkRemovals},
	{"held", checkHeld},
	{"addons", checkAddons},
	{"consent", checkConsent},
	{"settings", checkSettings},
	{"edited", checkEdited},
	{"processes", checkProcesses},
	{"open", checkOpen},
	{"port", checkPort},
	{"owner", checkOwner},
	{"strangers", checkStrangers},
	{"writable", checkWritable},
	{"frozen", checkFrozen},
	{"filesystem", checkFilesystem},
	{"disk", checkDisk},
	{"data", checkData},
	{"migrations", checkMigrations},
	{"answers", checkAnswers},
	{"stopping", checkStopping},
	{"links", checkLinks},
	{"memory", checkMemory},
	{"limits", checkLimits},
	{"logs", checkLogs},
	{"everybody", checkWorld},
	{"environment", checkEnvironment},
	{"clock", checkClock},
	{"vain", checkVain}, // the last: it knows what was accepted
}

// Acceptable are the checks that an operator may go past, knowing better.
var Acceptable = []string{"direction", "steps", "kind", "layers", "runtime", "engine", "native", "windows", "launch",
	"effect", "scripts", "drift", "removals", "held", "addons", "disk"}

// Run makes the plan of a build that was fetched, and every check of it. hop is how many
// builds of a chain come before.
func (ck *Checker) Run(ctx context.Context, w resolve.Want, f *acquire.Fetched, hop int) (*Preflight, error) {
	pl, err := ck.planner.Make(f, w)
	if err != nil {
		return nil, err
	}
	l, err := ck.Locker()
	if err != nil {
		return nil, err
	}
	inv, err := ck.inv.Head()
	if err != nil {
		return nil, err
	}
	s := &situation{k: ck, want: w, cand: f.Candidate, fetched: f, inv: inv, hop: hop, plan: pl, ahead: pl.Ahead,
		programs: &runtimes.Programs{In: ck.Install, Ahead: pl.Ahead, Needs: f.Candidate.Build.Needs},
		status:   ck.Host().Status(), store: l, accepted: map[string]bool{}}
	s.lines.commands, s.lines.err = pl.Commands(ck.planner) // as they will be
	pre := &Preflight{From: pl.From, To: pl.To, Running: s.status.Running, Plan: pl, Fetched: f,
		Layers: plan.LayerChanges(inv.Layers, pl.Layers)}
	for _, c := range Checks {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		began := time.Now()
		found := c.look(ctx, s)
		pre.Ran = append(pre.Ran, CheckRun{c.Name, time.Since(began), len(found)})
		for _, fd := range found {
			fd.Check = c.Name
			fd.Routine = fd.Level == Warn && (fd.Routine || slices.Contains(routine, c.Name))
			if fd.Level == Stop && slices.Contains(w.Accept, c.Name) {
				fd.Level, fd.Do, s.accepted[c.Name] = Warn, "accepted with --accept "+c.Name, true
			} else if fd.Level == Stop && slices.Contains(Acceptable, c.Name) &&
				!strings.Contains(fd.Do, "--accept "+c.Name) {
				fd.Do += fmt.Sprintf(" (or, knowing better: --accept %s)", c.Name)
			}
			pre.Findings = append(pre.Findings, fd)
		}
	}
	pre.sort()
	return pre, nil
}
