// Package server is one install's server: started by a minder, watched until it is known
// to be up, told to stop, held still for a backup. It puts together what host, watch and
// learn do.
package server

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/edited"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/learn"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/watch"
)

// Server is the server of one install.
type Server struct {
	*install.Install
	contradicted bool // it was told that more are connected than the server says
}

// New is the server of an install.
func New(in *install.Install) *Server { return &Server{Install: in} }

// Verdict is whether the server came up, and on what that was decided.
type Verdict = watch.Verdict

// Goal is what a start is to lead to.
type Goal struct {
	Version string // that the server must say; "": any
	From    string // that it said before: one that says it still runs the old files
	Known   string // that is installed, where none is asked for
	Same    bool   // the build was up before: what was learned of it takes no server down
}

// BringUp starts the server and watches it; one that a crashed command has
// started is only watched. The error is for a server that could not even be
// started.
func (sv *Server) BringUp(ctx context.Context, goal Goal) (*Verdict, error) {
	if st := sv.Host().Status(); st.Running {
		return sv.Watch(ctx, time.Now(), goal), nil
	}
	began := time.Now()
	st, err := sv.Spawn(context.WithoutCancel(ctx))
	if err != nil {
		return nil, err
	}
	if st.Running { // one that has ended already says no time
		began = st.Since
	}
	return sv.Watch(ctx, began, goal), nil
}

// Spawn has a minder start the server, unless somebody else has.
func (sv *Server) Spawn(ctx context.Context) (*host.Status, error) {
	if err := sv.NoneOutside(); err != nil {
		return nil, err
	}
	if len(sv.Profile.Parts) > 0 {
		return sv.spawnFirst(ctx)
	}
	if err := sv.markLog(); err != nil {
		return nil, err
	}
	if !sv.Minded() {
		return advised(sv.Host().Start(ctx, nil, host.Launch{}))
	}
	script := sv.Profile.Launch.Script
	if script == "" {
		return nil, tell.Advise(errors.New("no launch script is named"), "set [launch] script in freshkeel.toml")
	}
	if err := install.TrustedScript(sv.Path(script)); err != nil {
		return nil, err
	}
	os.Remove(sv.StayDown())
	_, key := sv.script()
	l := host.Launch{Install: sv.Dir, Script: script, Args: sv.Profile.Launch.Args,
		RunDir: string(sv.RunDir()), Env: sv.ServerEnv(), Key: key}
	if sv.Profile.Host.Restart == profile.AfterCrash && len(sv.Self) > 0 {
		l.Crashed = []string{sv.Self[0], "-d", sv.Dir, "after-crash"}
		if name := sv.PartName(); name != "" {
			l.Crashed = append(l.Crashed, name)
		}
		l.CrashedEnv = append(pathAndHome(sv.Env), "FRESHKEEL_HOME="+sv.Home)
	}
	return sv.Host().Start(ctx, sv.Self, l)
}

// StayDown is the file that says that somebody stopped a server, or a part, which had crashed.
func (sv *Server) StayDown() string { return filepath.Join(string(sv.RunDir()), "stay-down") }

// pathAndHome are what of an environment a command of ours needs.
func pathAndHome(env []string) (out []string) {
	for _, kv := range env {
		if name, _, _ := strings.Cut(kv, "="); name == "PATH" || name == "HOME" ||
			strings.HasPrefix(name, "FRESHKEEL_") {
			out = append(out, kv)
		}
	}
	return out
}

// advised adds what to do to a start that was not allowed.
func advised(st *host.Status, err error) (*host.Status, error) {
	if not := (*host.Forbidden)(nil); errors.As(err, &not) {
		return nil, tell.Advise(err, not.Do())
	}
	return st, err
}

// script is how the launch script goes about the server: the file with a loop that starts it
// again, "" for none; and whether it waits for a key as its last step.
func (sv *Server) script() (loop string, key bool) {
	commands, err := sv.Launched()
	if err != nil {
		return "", false
	}
	for _, c := range commands {
		if c.Loop != nil {
			loop = c.Loop.File
		}
		key = key || c.Stays != nil
	}
	return loop, key
}

// portPause is how long the watch rests between looks at what the server's processes do.
const portPause = 200 * time.Millisecond

// Watch judges the running server until there is a verdict. When ctx ends,
// the verdict is that it was interrupted. What a good start shows is noted.
func (sv *Server) Watch(ctx context.Context, start time.Time, goal Goal) *Verdict {
	if len(sv.Profile.Parts) > 0 {
		return sv.watchParts(ctx, start, goal)
	}
	seen := sv.Seen()
	if seen.Starts == 0 {
		sv.proveByLast(seen)
	}
	if goal.Known == seen.Heard { // the server's own word proves no rule that heard it
		goal.Known = ""
	}
	ready := sv.Profile.Ready
	if !sv.byHand("ready.within") || ready.Within == profile.DefaultWithin { // slow machines have slow starts
		ready.Within = max(ready.Within, profile.Duration(3*seen.Longest))
	}
	ours := map[string]bool{}
	for rule, key := range map[string]string{watch.KeyLine: "ready.line", watch.KeyVersion: "ready.version",
		watch.KeyFail: "ready.fail", watch.KeyPort: "ready.ports"} {
		ours[rule] = sv.PartName() == "" && !sv.byHand(key) // those of a part are written by hand
	}
	j := watch.NewJudge(
		watch.Rules{
			Ready:  ready,
			Ours:   ours,
			Same:   goal.Same,
			Expect: goal.Version,
			From:   goal.From,
			Known:  goal.Known,
			Proof:  seen.Proof(),
			Before: seen.Ports,
			Usual:  seen.Usual,
			ByHand: sv.byHand("ready.version"),
			Fails:  sv.byHand("ready.fail"),
		},
		start,
	)
	v, ports := sv.judge(ctx, j, start)
	if unit := sv.Service(); v.Up && unit != nil {
		within := max(time.Until(start.Add(sv.Profile.Ready.Within.Std())), time.Second)
		switch err := unit.Ready(ctx, within); {
		case ctx.Err() != nil:
			v = interrupted(start)
		case err != nil:
			v.Up, v.Why = false, err.Error()
		}
	}
	if v.Early != "" && !slices.Contains(seen.Early, v.Early) {
		seen.Early = append(seen.Early, v.Early)
		if !v.Up {
			if err := seen.Write(sv.seenFile()); err != nil {
				sv.Note("%v", err)
			}
		}
	}
	if v.Up {
		if sv.PartName() == "" {
			edited.Note(sv.Install, nil)
		}
		seen.CameUp(v, ports)
		if err := seen.Write(sv.seenFile()); err != nil {
			sv.Note("%v", err)
		}
	}
	return v
}

// byHand tells whether a person wrote a key of the profile, and no guess of ours stands there.
func (sv *Server) byHand(key string) bool {
	raw, err := tree.ReadOwn(sv.Path(profile.FileName))
	if err != nil {
		return false
	}
	_, _, there := profile.Text(raw).Value(key)
	return there && !profile.Text(raw).Guessed(key)
}

// judge tells a judge what happens until it decides, and returns the ports that the server
// held then.
func (sv *Server) judge(ctx context.Context, j *watch.Judge, start time.Time) (v *Verdict, held []profile.Port) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lines, ended := make(chan string), make(chan struct{})
	var exit *host.Exit
	go func() {
		e, err := sv.Host().Wait(ctx)
		if err == nil || ctx.Err() == nil {
			exit = e
			close(ended)
		}
	}()
	hear := func(l string) {
		select {
		case lines <- l:
		case <-ctx.Done():
		}
	}
	go func() {
		defer close(lines)
		if err := sv.Host().Follow(ctx, ended, hear); err != nil {
			sv.Warn("what the server says can't be heard: %v", err)
			select {
			case <-ended:
			case <-ctx.Done():
			}
		}
	}()
	logged := make(chan string)
	if sv.Profile.Ready.Log != "" {
		go sv.followLog(ctx, func(l string) {
			select {
			case logged <- l:
			case <-ctx.Done():
			}
		})
	}
	tick := time.NewTicker(portPause)
	defer tick.Stop()
	loop, _ := sv.script()
	pids, said := &family{loop: loop}, twice{}
	awaited := ""
	for {
		select {
		case l, more := <-lines:
			if !more {
				status := "its minder is gone"
				if exit != nil {
					status = exit.Status
				}
				if ctx.Err() != nil {
					return interrupted(start), nil
				}
				return j.Exited(time.Now(), status), nil
			}
			v = sv.hear(j, said, l, false)
		case l := <-logged:
			v = sv.hear(j, said, l, true)
		case <-tick.C:
			st := sv.Host().Status()
			if !st.Running {
				continue // its end comes with the last of its lines
			}
			held = portsOf(st.Processes)
			v = sv.weigh(j, st, held, pids)
			if w := j.Awaits(); w != awaited {
				awaited = w
				sv.Tell(tell.Event{Kind: tell.StepMoves, Step: "watch", Text: w})
			}
		case <-ctx.Done():
			return interrupted(start), nil
		}
		if v != nil {
			return v, held
		}
	}
}

// saysPort finds the line of a settings file, or of a script, that names a port which is held; "" for none.
func (sv *Server) saysPort(held []profile.Port) string {
	list, err := tree.Walk(sv.Dir, sv.Profile.Server.Skip)
	if err != nil {
		return ""
	}
	for _, e := range list {
		if e.Kind != tree.File || e.Size >= 1<<20 || strings.Count(e.Path, "/") > 1 || e.Path == profile.FileName ||
			!profile.SettingsByName(e.Path) && !sv.Profile.Starts(e.Path) {
			continue
		}
		text, err := tree.ReadUpTo(sv.Path(e.Path), 1<<20)
		if err != nil {
			continue
		}
		for _, n := range learn.PortsIn(e.Path, string(text), false) {
			if slices.ContainsFunc(held, func(p profile.Port) bool {
				return p.Number == n.Number && !slices.Contains(sv.Profile.Ready.Held(), p)
			}) {
				return "; " + n.From
			}
		}
	}
	return ""
}

// weigh tells a judge what the server's processes do, and the operator of a port that is another than the expected.
func (sv *Server) weigh(j *watch.Judge, st *host.Status, held []profile.Port, pids *family) (v *Verdict) {
	v = j.Holds(time.Now(), held)
	if e := j.Elsewhere(); e != "" && !pids.told {
		pids.told = true
		sv.Warn("%s%s", e, sv.saysPort(held))
	}
	if v == nil && st.Ended != "" {
		v = j.ScriptEnded(time.Now(), st.Ended)
	}
	if v == nil && (st.Restarts > 0 || pids.again(st.Processes)) {
		v = j.Restarted(time.Now())
	}
	return v
}

// hear tells a judge a line, unless it was heard from the other side already.
func (sv *Server) hear(j *watch.Judge, said twice, line string, log bool) *Verdict {
	if said.before(line, log) {
		return nil
	}
	sv.Tell(tell.Event{Kind: tell.ServerSaid, Text: line})
	return j.Line(time.Now(), line)
}

// twice knows lines that a server says at its console and in its log too: each counts once. A
// positive count is of lines that the console alone has said so far.
type twice map[string]int

// before tells whether a line was heard from the other side already.
func (t twice) before(line string, log bool) bool {
	step := 1
	if log {
		step = -1
	}
	other := t[line]*step < 0
	if t[line] += step; t[line] == 0 {
		delete(t, line)
	}
	return other
}

// portsOf are the ports that processes hold, as a profile names them.
func portsOf(pids []int) (out []profile.Port) {
	for _, p := range host.PortsOf(pids) {
		out = append(out, profile.Port{Net: p.Net, Number: p.Number})
	}
	return out
}

// family notices that a server ended which its script starts again: none of its first processes is left.
type family struct {
	loop  string // "": its script has none
	first []int
	since time.Time // when these were seen first
	told  bool      // that it holds another port than the expected
}

// helperTime is how long what a script runs before its server may take.
const helperTime = time.Second

func (f *family) again(pids []int) bool {
	if f.loop == "" {
		return false
	}
	var now []int
	for _, pid := range pids {
		if !host.IsShell(pid) && !host.IsPause(pid) {
			now = append(now, pid)
		}
	}
	if len(f.first) == 0 {
		f.first, f.since = now, time.Now()
		return false
	}
	if len(now) == 0 && time.Since(f.since) < helperTime {
		return false
	}
	// Where nothing is left but the script it is about to do that.
	return !slices.ContainsFunc(now, func(pid int) bool { return slices.Contains(f.first, pid) })
}

const WhyInterrupted = "interrupted before the server was known to be up"

func interrupted(start time.Time) *Verdict {
	return &Verdict{Why: WhyInterrupted, Took: time.Since(start)}
}

// TakeOver gives a server whose minder was killed another one. That it fails is
// told, and no more: what needs the minder says so itself.
func (sv *Server) TakeOver(ctx context.Context) {
	if len(sv.Profile.Parts) > 0 {
		for _, part := range sv.Install.Parts() {
			New(part).TakeOver(ctx)
		}
		return
	}
	st := sv.Host().Status()
	if !st.Left {
		return
	}
	_, key := sv.script()
	_, err := host.Start(ctx, sv.Self, host.Launch{Install: sv.Dir, RunDir: string(sv.RunDir()), Env: sv.ServerEnv(),
		TakeOver: true, Key: key})
	if err != nil {
		sv.Warn("the server runs on without its minder, which was killed, and another could not take over: %v", err)
		return
	}
	sv.Warn("the server's minder had been killed: another one has taken over process %d", st.PID)
}

// NoneOutside refuses to go on beside a server that nobody here started (P7).
func (sv *Server) NoneOutside() error {
	for _, p := range host.Outside(sv.Dir, sv.All().Host().Status()) {
		return tell.Advise(&host.AlreadyRunning{PID: p.PID, Since: p.Since,
			How: "started outside Fresh Keel: " + p.Command}, p.HowToStop()+"; then try again")
	}
	return nil
}

// Seen is what good starts and stops have shown of this server.
func (sv *Server) Seen() *learn.Seen { return learn.ReadSeen(sv.seenFile()) }

func (sv *Server) seenFile() string { return sv.State(learn.FileOf(sv.PartName())) }
