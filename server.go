package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/logbook"
	"freshkeel/internal/tell"
	"freshkeel/internal/watch"
	"freshkeel/internal/words"
)

// Verdict is whether the server came up, and on what that was decided.
type Verdict = watch.Verdict

// State is how things stand, in a word.
type State string

const (
	Up        State = "up"        // it runs, under Fresh Keel
	Outside   State = "outside"   // it runs, and was not started by Fresh Keel
	Down      State = "down"      // it does not run
	Stopping  State = "stopping"  // it was told to stop
	Changing  State = "changing"  // a refit, rollback or restore is under way
	Unsettled State = "unsettled" // one was interrupted, and nobody has settled it yet
)

// Status is how things stand.
type Status struct {
	State    State          `json:"state"`
	Name     string         `json:"name"`
	Install  string         `json:"install"`
	Version  string         `json:"version"`
	Mixed    []string       `json:"mixed,omitempty"` // other versions that some of its files are of
	Server   *host.Status   `json:"server"`
	Outside  []host.Process `json:"outside,omitempty"` // running from the install, but not started here
	Last     *logbook.Entry `json:"last,omitempty"`    // newest entry of the logbook
	Busy     string         `json:"busy,omitempty"`    // what another command is doing
	LastLine string         `json:"last_line,omitempty"`
	Run      *logbook.Entry `json:"run,omitempty"` // that is under way, or was interrupted
}

// Rejoin gives a server whose minder was killed another one, where nobody else is at
// work: its output goes nowhere until then. It settles nothing.
func (k *Keel) Rejoin(ctx context.Context) {
	if !k.in.RunDir().Status().Left {
		return
	}
	if unlock, err := k.in.Lock("look"); err == nil {
		k.takeOver(ctx)
		unlock()
	}
}

// Status looks; it changes nothing, and settles nothing that was interrupted.
func (k *Keel) Status() (*Status, error) {
	inv, err := k.inv.Head()
	if err != nil {
		return nil, err
	}
	st := k.in.RunDir().Status()
	s := &Status{Name: k.in.Profile.Server.Name, Install: k.in.Dir, Version: inv.Version, Mixed: inv.Mixed, Server: st, Outside: host.Outside(k.in.Dir, st)}
	all, err := k.in.Book.All()
	if err != nil {
		return nil, err
	}
	if len(all) > 0 {
		s.Last = all[len(all)-1]
	}
	s.Busy = k.in.Busy()
	if s.Run, err = k.in.Book.Unfinished(); err != nil {
		return nil, err
	}
	switch {
	case s.Run != nil && s.Busy != "":
		s.State = Changing
	case s.Run != nil:
		s.State = Unsettled
	case st.Running && st.Stopping:
		s.State = Stopping
	case st.Running:
		s.State = Up
	case len(s.Outside) > 0:
		s.State = Outside
	default:
		s.State = Down
	}
	if s.Run != nil && (s.Run.Phase == logbook.Watching || s.Run.Phase == logbook.Confirming) {
		s.Version, s.Mixed = s.Run.To, nil // its files are in place, though not confirmed
	}
	if lines, err := host.Tail(k.in.RunDir().Console(), 1); err == nil && len(lines) > 0 {
		s.LastLine = lines[0]
	}
	return s, nil
}

// Start starts the server and watches it come up. A server that does not come
// up is stopped again, and its verdict returned.
func (k *Keel) Start(ctx context.Context) (*Verdict, error) {
	unlock, err := k.begin(ctx, "start")
	if err != nil {
		return nil, err
	}
	defer unlock()
	if st := k.in.RunDir().Status(); st.Running {
		return nil, &host.AlreadyRunning{PID: st.PID, Since: st.Since, How: st.How()}
	}
	if err := k.checker.PortFree(); err != nil {
		return nil, err
	}
	if err := k.startable(); err != nil {
		return nil, err
	}
	var v *Verdict
	_, err = k.in.Step("start", func() (sum string, err error) {
		// No version is expected: a server that works is not stopped because somebody
		// exchanged its files by hand.
		if v, err = k.bringUp(ctx, ""); err != nil {
			return "", err
		}
		return v.Why, nil
	})
	if err == nil && !v.Up {
		_, err = k.halfStop()
	}
	if err == nil && v.Up {
		err = k.heardVersion(v.Version)
	}
	return v, err
}

// startable refuses to start what can be known not to come up by the launch script's own
// words. One that can't be read, or is not there, fails by itself.
func (k *Keel) startable() error {
	script := k.in.Profile.Launch.Script
	if script == "" {
		return nil
	}
	commands, err := launch.Read(k.in.Dir, script, k.in.ServerEnv())
	if err != nil {
		return nil
	}
	for _, f := range append(k.checker.OtherSystem(), k.checker.Ways(commands)...) {
		if f.Level == Stop {
			return tell.Advise(fmt.Errorf("%s (%s): %s", f.What, f.Where, f.Why), f.Do)
		}
		k.in.Warn("%s (%s): %s", f.What, f.Where, f.Why)
	}
	return nil
}

// heardVersion keeps the version that a server has said by the profile's rule, where
// none was known, or another.
func (k *Keel) heardVersion(ver string) error {
	inv, err := k.inv.Read()
	if err != nil || ver == "" || inv.Version == ver {
		return err
	}
	if inv.Version == "" {
		k.in.Note("the server says that it is %s: that is noted as what is installed", ver)
	} else {
		k.in.Warn("the server says that it is %s, and %s was recorded: files were exchanged by other hands; %s is noted as what is installed", ver, inv.Version, ver)
		inv.Build, inv.Channel = "", ""
	}
	inv.Version = ver
	return inventory.Write(k.in.State("inventory.json"), inv)
}

// Stop ends the server by the profile's order. It returns nil without a
// server to stop; took is the time from the stop line to its end: the time for which
// players are warned before is not the server's.
func (k *Keel) Stop(ctx context.Context) (exit *host.Exit, took time.Duration, err error) {
	unlock, err := k.begin(ctx, "stop")
	if err != nil {
		return nil, 0, err
	}
	defer unlock()
	if k.in.RunDir().Status().Running {
		return k.stopServer(ctx)
	}
	// Only what a minder of ours holds is ever signalled (P4).
	for _, p := range host.Outside(k.in.Dir, nil) {
		return nil, 0, tell.Advise(fmt.Errorf("process %d runs from this install (%s), but not under Fresh Keel: it is not ours to stop", p.PID, p.Command),
			p.HowToStop()+orKill(p))
	}
	return nil, 0, nil
}

func orKill(p host.Process) string {
	if p.Unit != "" {
		return ""
	}
	return fmt.Sprintf(", or: kill %d", p.PID)
}

// Send puts one line on the server's console.
func (k *Keel) Send(line string) error { return k.in.RunDir().Send(line) }

// Log calls each with the console's lines: the last n, and with follow all
// that come until ctx or the server ends.
func (k *Keel) Log(ctx context.Context, n int, follow bool, each func(string)) error {
	path := k.in.RunDir().Console()
	if !follow {
		lines, err := host.Tail(path, n)
		if err != nil {
			return fmt.Errorf("no console log yet: %w", err)
		}
		for _, l := range lines {
			each(l)
		}
		return nil
	}
	lines, _ := host.Tail(path, 1<<20)
	skip := max(0, len(lines)-n)
	ended := make(chan struct{})
	go func() {
		k.in.RunDir().Wait(ctx)
		close(ended)
	}()
	return host.Follow(ctx, path, ended, func(l string) {
		if skip > 0 {
			skip--
			return
		}
		each(l)
	})
}

// bringUp starts the server and watches it; one that a crashed command has
// started is only watched. The error is for a server that could not even be
// started.
func (k *Keel) bringUp(ctx context.Context, expect string) (*Verdict, error) {
	if st := k.in.RunDir().Status(); st.Running {
		return k.watch(ctx, time.Now(), expect), nil
	}
	st, err := k.spawn(context.WithoutCancel(ctx))
	if err != nil {
		return nil, err
	}
	return k.watch(ctx, st.Since, expect), nil
}

// spawn has a minder start the server, unless somebody else has.
func (k *Keel) spawn(ctx context.Context) (*host.Status, error) {
	if err := k.nobodyOutside(); err != nil {
		return nil, err
	}
	script := k.in.Profile.Launch.Script
	if script == "" {
		return nil, tell.Advise(errors.New("no launch script is named"), "set [launch] script in freshkeel.toml")
	}
	if err := install.TrustedScript(k.in.Path(script)); err != nil {
		return nil, err
	}
	return host.Start(ctx, k.in.Self, host.Launch{Install: k.in.Dir, Script: script, Args: k.in.Profile.Launch.Args, RunDir: string(k.in.RunDir()), Env: k.in.ServerEnv()})
}

// takeOver gives a server whose minder was killed another one. That it fails is
// told, and no more: what needs the minder says so itself.
func (k *Keel) takeOver(ctx context.Context) {
	st := k.in.RunDir().Status()
	if !st.Left {
		return
	}
	_, err := host.Start(ctx, k.in.Self, host.Launch{Install: k.in.Dir, RunDir: string(k.in.RunDir()), Env: k.in.ServerEnv(), TakeOver: true})
	if err != nil {
		k.in.Warn("the server runs on without its minder, which was killed, and another could not take over: %v", err)
		return
	}
	k.in.Warn("the server's minder had been killed: another one has taken over process %d", st.PID)
}

// portPause is how long the watch rests between looks at the port: each one
// reads a table of the whole machine.
const portPause = 100 * time.Millisecond

// watch judges the running server until there is a verdict. When ctx ends,
// the verdict is that it was interrupted.
func (k *Keel) watch(ctx context.Context, start time.Time, expect string) *Verdict {
	j := watch.NewJudge(watch.Rules{Ready: k.in.Profile.Ready, Expect: expect}, start)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lines, ended := make(chan string), make(chan struct{})
	var exit *host.Exit
	go func() {
		e, err := k.in.RunDir().Wait(ctx)
		if err == nil || ctx.Err() == nil {
			exit = e
			close(ended)
		}
	}()
	go func() {
		defer close(lines)
		host.Follow(ctx, k.in.RunDir().Console(), ended, func(l string) {
			select {
			case lines <- l:
			case <-ctx.Done():
			}
		})
	}()
	tick := time.NewTicker(portPause)
	defer tick.Stop()
	awaited := ""
	for {
		var v *Verdict
		select {
		case l, more := <-lines:
			if !more {
				status := "its minder is gone"
				if exit != nil {
					status = exit.Status
				}
				if ctx.Err() != nil {
					return interrupted(start)
				}
				return j.Exited(time.Now(), status)
			}
			k.in.Tell(tell.Event{Kind: tell.ServerSaid, Text: l})
			v = j.Line(time.Now(), l)
		case <-tick.C:
			if k.in.Profile.Ready.Port.Given() {
				v = j.Port(time.Now(), k.holdsPort())
			} else {
				v = j.Tick(time.Now())
			}
			if w := j.Awaits(); w != awaited {
				awaited = w
				k.in.Tell(tell.Event{Kind: tell.StepMoves, Step: "watch", Text: w})
			}
		case <-ctx.Done():
			return interrupted(start)
		}
		if v != nil {
			return v
		}
	}
}

const whyInterrupted = "interrupted before the server was known to be up"

func interrupted(start time.Time) *Verdict {
	return &Verdict{Why: whyInterrupted, Took: time.Since(start)}
}

// holdsPort tells whether a process of this server holds the profile's port.
func (k *Keel) holdsPort() bool {
	p := k.in.Profile.Ready.Port
	pids, err := host.PortHolders(p.Net, p.Number)
	if err != nil || len(pids) == 0 {
		return false
	}
	mine := k.in.RunDir().Status().Processes
	return slices.ContainsFunc(pids, func(pid int) bool { return slices.Contains(mine, pid) })
}

func (k *Keel) stopOrder() host.StopOrder {
	s := k.in.Profile.Stop
	return host.StopOrder{Send: s.Send, Wait: s.Wait.Std(), Terminate: s.Terminate.Std(), Kill: s.MayKill()}
}

// stopServer tells the players, waits, and ends the server by the profile's order.
// Ending ctx while players are told leaves the server running, with Interrupted;
// once the stop line is sent there is no way back, and ctx is not asked.
func (k *Keel) stopServer(ctx context.Context) (exit *host.Exit, took time.Duration, err error) {
	if err := k.tellPlayers(ctx); err != nil {
		return nil, 0, err
	}
	told := time.Now()
	defer context.AfterFunc(ctx, func() { k.in.Note("the server was told to stop already, and stops: waiting for its end") })()
	exit, err = k.stopBy(k.stopOrder(), false)
	return exit, time.Since(told), err
}

// noticeLook is how often it is looked whether the server ends by itself while
// players are told.
const noticeLook = 250 * time.Millisecond

// tellPlayers puts the profile's warning on the console and waits as long as it
// says. A console that does not take it is no reason not to stop.
func (k *Keel) tellPlayers(ctx context.Context) error {
	s := k.in.Profile.Stop
	if err := ctx.Err(); err != nil {
		return &Interrupted{}
	}
	if s.Tell == "" || k.Send(s.Tell) != nil {
		return nil
	}
	k.in.Note("players were told: %s", s.Tell)
	end := time.After(s.Notice.Std())
	look := time.NewTicker(noticeLook)
	defer look.Stop()
	for {
		select {
		case <-end:
			return nil
		case <-ctx.Done():
			return &Interrupted{Saw: s.Tell}
		case <-look.C:
			if !k.in.RunDir().Status().Running {
				return nil
			}
		}
	}
}

// Interrupted says that a command was ended, by Ctrl-C or a signal, before it had
// changed anything. It is a context.Canceled.
type Interrupted struct {
	Saw  string        // the line that players were told; "": none
	Down time.Duration // how long they were without the server, which was started again
}

func (i *Interrupted) Error() string {
	switch {
	case i.Down > 0:
		return fmt.Sprintf("interrupted: the server had stopped already, and was started again; nothing was changed, and players were without it for %s", words.Age(i.Down))
	case i.Saw != "":
		return fmt.Sprintf("interrupted before the server was stopped: it runs on and nothing was changed, but players were told: %s", i.Saw)
	}
	return "interrupted; nothing was changed"
}

func (i *Interrupted) Unwrap() error { return context.Canceled }

// halfStop ends a server that did not come up: nothing of it is worth waiting
// long for.
func (k *Keel) halfStop() (*host.Exit, error) {
	o := k.stopOrder()
	o.Wait, o.Terminate = min(o.Wait, 10*time.Second), min(o.Terminate, 5*time.Second)
	return k.stopBy(o, true)
}

// stopBy ends the server by an order, telling what it takes. Of a hopeless
// server nobody expects that it still reads its console.
func (k *Keel) stopBy(o host.StopOrder, hopeless bool) (*host.Exit, error) {
	return k.in.RunDir().Stop(o, func(s host.StopStep) {
		switch s.Do {
		case "sent":
			if s.Error != "" && !hopeless {
				k.in.Warn("the stop line %q did not get through: %s", o.Send, s.Error)
			}
		case "terminate":
			if o.Send != "" {
				k.in.Warn("it did not stop within %s: terminate signal to its processes %v", o.Wait, s.PIDs)
			}
		case "kill":
			k.in.Warn("it did not end within %s of the terminate signal: killing its processes %v", o.Terminate, s.PIDs)
		}
	})
}
