package server

import (
	"context"
	"fmt"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/words"
)

// Order is the profile's way to stop the server.
func (sv *Server) Order() host.StopOrder {
	s := sv.Profile.Stop
	return host.StopOrder{Send: s.Send, Wait: s.Wait.Std(), Terminate: s.Terminate.Std(), Kill: s.MayKill()}
}

// Stop tells the players, waits, and ends the server by the profile's order.
// Ending ctx while players are told leaves the server running, with Interrupted;
// once the stop line is sent there is no way back, and ctx is not asked.
func (sv *Server) Stop(ctx context.Context) (exit *host.Exit, took time.Duration, err error) {
	if err := sv.TellPlayers(ctx); err != nil {
		return nil, 0, err
	}
	told := time.Now()
	defer context.AfterFunc(ctx, func() {
		sv.Note("the server was told to stop already, and stops: waiting " +
			"for its end")
	})()
	exit, err = sv.StopBy(sv.Order(), false)
	return exit, time.Since(told), err
}

// noticeLook is how often it is looked whether the server ends by itself while
// players are told.
const noticeLook = 250 * time.Millisecond

// TellPlayers puts the profile's warning on the console and waits as long as it
// says. A console that does not take it is no reason not to stop.
func (sv *Server) TellPlayers(ctx context.Context) error {
	s := sv.Profile.Stop
	if err := ctx.Err(); err != nil {
		return &Interrupted{}
	}
	if s.Tell == "" || sv.RunDir().Send(s.Tell) != nil {
		return nil
	}
	sv.Note("players were told: %s", s.Tell)
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
			if !sv.RunDir().Status().Running {
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
		return fmt.Sprintf("interrupted: the server had stopped already, and was started again; nothing was changed, "+
			"and players were without it for %s", words.Age(i.Down))
	case i.Saw != "":
		return fmt.Sprintf("interrupted before the server was stopped: it runs on and nothing was changed, but "+
			"players were told: %s", i.Saw)
	}
	return "interrupted; nothing was changed"
}

func (i *Interrupted) Unwrap() error { return context.Canceled }

// HalfStop ends a server that did not come up: nothing of it is worth waiting
// long for.
func (sv *Server) HalfStop() (*host.Exit, error) {
	o := sv.Order()
	o.Wait, o.Terminate = min(o.Wait, 10*time.Second), min(o.Terminate, 5*time.Second)
	return sv.StopBy(o, true)
}

// StopBy ends the server by an order, telling what it takes. Of a hopeless
// server nobody expects that it still reads its console.
func (sv *Server) StopBy(o host.StopOrder, hopeless bool) (*host.Exit, error) {
	return sv.RunDir().Stop(o, func(s host.StopStep) {
		switch s.Do {
		case "sent":
			if s.Error != "" && !hopeless {
				sv.Warn("the stop line %q did not get through: %s", o.Send, s.Error)
			}
		case "terminate":
			if o.Send != "" {
				sv.Warn("it did not stop within %s: terminate signal to its processes %v", o.Wait, s.PIDs)
			}
		case "kill":
			sv.Warn("it did not end within %s of the terminate signal: killing its processes %v", o.Terminate, s.PIDs)
		}
	})
}
