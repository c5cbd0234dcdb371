// Package server is one install's server: started by a minder, watched until it is known
// to be up, told to stop, held still for a backup. It puts together what host and watch
// do.
package server

import (
	"context"
	"errors"
	"slices"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/tell"
	"freshkeel/internal/watch"
)

// Server is the server of one install.
type Server struct{ *install.Install }

// New is the server of an install.
func New(in *install.Install) *Server { return &Server{in} }

// Verdict is whether the server came up, and on what that was decided.
type Verdict = watch.Verdict

// BringUp starts the server and watches it; one that a crashed command has
// started is only watched. The error is for a server that could not even be
// started.
func (sv *Server) BringUp(ctx context.Context, expect string) (*Verdict, error) {
	if st := sv.RunDir().Status(); st.Running {
		return sv.Watch(ctx, time.Now(), expect), nil
	}
	began := time.Now()
	st, err := sv.Spawn(context.WithoutCancel(ctx))
	if err != nil {
		return nil, err
	}
	if st.Running { // one that has ended already says no time
		began = st.Since
	}
	return sv.Watch(ctx, began, expect), nil
}

// Spawn has a minder start the server, unless somebody else has.
func (sv *Server) Spawn(ctx context.Context) (*host.Status, error) {
	if err := sv.NoneOutside(); err != nil {
		return nil, err
	}
	script := sv.Profile.Launch.Script
	if script == "" {
		return nil, tell.Advise(errors.New("no launch script is named"), "set [launch] script in freshkeel.toml")
	}
	if err := install.TrustedScript(sv.Path(script)); err != nil {
		return nil, err
	}
	return host.Start(ctx, sv.Self, host.Launch{Install: sv.Dir, Script: script, Args: sv.Profile.Launch.Args,
		RunDir: string(sv.RunDir()), Env: sv.ServerEnv()})
}

// portPause is how long the watch rests between looks at the port: each one
// reads a table of the whole machine.
const portPause = 100 * time.Millisecond

// Watch judges the running server until there is a verdict. When ctx ends,
// the verdict is that it was interrupted.
func (sv *Server) Watch(ctx context.Context, start time.Time, expect string) *Verdict {
	j := watch.NewJudge(watch.Rules{Ready: sv.Profile.Ready, Expect: expect}, start)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lines, ended := make(chan string), make(chan struct{})
	var exit *host.Exit
	go func() {
		e, err := sv.RunDir().Wait(ctx)
		if err == nil || ctx.Err() == nil {
			exit = e
			close(ended)
		}
	}()
	go func() {
		defer close(lines)
		host.Follow(ctx, sv.RunDir().Console(), ended, func(l string) {
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
			sv.Tell(tell.Event{Kind: tell.ServerSaid, Text: l})
			v = j.Line(time.Now(), l)
		case <-tick.C:
			if sv.Profile.Ready.Port.Given() {
				v = j.Port(time.Now(), sv.holdsPort())
			} else {
				v = j.Tick(time.Now())
			}
			if w := j.Awaits(); w != awaited {
				awaited = w
				sv.Tell(tell.Event{Kind: tell.StepMoves, Step: "watch", Text: w})
			}
		case <-ctx.Done():
			return interrupted(start)
		}
		if v != nil {
			return v
		}
	}
}

const WhyInterrupted = "interrupted before the server was known to be up"

func interrupted(start time.Time) *Verdict {
	return &Verdict{Why: WhyInterrupted, Took: time.Since(start)}
}

// holdsPort tells whether a process of this server holds the profile's port.
func (sv *Server) holdsPort() bool {
	p := sv.Profile.Ready.Port
	pids, err := host.PortHolders(p.Net, p.Number)
	if err != nil || len(pids) == 0 {
		return false
	}
	mine := sv.RunDir().Status().Processes
	return slices.ContainsFunc(pids, func(pid int) bool { return slices.Contains(mine, pid) })
}

// TakeOver gives a server whose minder was killed another one. That it fails is
// told, and no more: what needs the minder says so itself.
func (sv *Server) TakeOver(ctx context.Context) {
	st := sv.RunDir().Status()
	if !st.Left {
		return
	}
	_, err := host.Start(ctx, sv.Self, host.Launch{Install: sv.Dir, RunDir: string(sv.RunDir()), Env: sv.ServerEnv(),
		TakeOver: true})
	if err != nil {
		sv.Warn("the server runs on without its minder, which was killed, and another could not take over: %v", err)
		return
	}
	sv.Warn("the server's minder had been killed: another one has taken over process %d", st.PID)
}

// NoneOutside refuses to go on beside a server that nobody here started (P7).
func (sv *Server) NoneOutside() error {
	for _, p := range host.Outside(sv.Dir, sv.RunDir().Status()) {
		return tell.Advise(&host.AlreadyRunning{PID: p.PID, Since: p.Since,
			How: "started outside Fresh Keel: " + p.Command}, p.HowToStop()+"; then try again")
	}
	return nil
}
