package server

import (
	"context"
	"fmt"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/words"
)

// Order is the profile's way to stop the server.
func (k *Server) Order() host.StopOrder {
	s := k.Profile.Stop
	return host.StopOrder{Send: s.Send, Wait: s.Wait.Std(), Terminate: s.Terminate.Std(), Kill: s.MayKill()}
}

// Stop tells the players, waits, and ends the server by the profile's order.
// Ending ctx while players are told leaves the server running, with Interrupted;
// once the stop line is sent there is no way back, and ctx is not asked.
func (k *Server) Stop(ctx context.Context) (exit *host.Exit, took time.Duration, err error) {
	if err := k.TellPlayers(ctx); err != nil {
		return nil, 0, err
	}
	told := time.Now()
	defer context.AfterFunc(ctx, func() { k.Note("the server was told to stop already, and stops: waiting for its end") })()
	exit, err = k.StopBy(k.Order(), false)
	return exit, time.Since(told), err
}

// noticeLook is how often it is looked whether the server ends by itself while
// players are told.
const noticeLook = 250 * time.Millisecond

// TellPlayers puts the profile's warning on the console and waits as long as it
// says. A console that does not take it is no reason not to stop.
func (k *Server) TellPlayers(ctx context.Context) error {
	s := k.Profile.Stop
	if err := ctx.Err(); err != nil {
		return &Interrupted{}
	}
	if s.Tell == "" || k.RunDir().Send(s.Tell) != nil {
		return nil
	}
	k.Note("players were told: %s", s.Tell)
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
			if !k.RunDir().Status().Running {
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

// HalfStop ends a server that did not come up: nothing of it is worth waiting
// long for.
func (k *Server) HalfStop() (*host.Exit, error) {
	o := k.Order()
	o.Wait, o.Terminate = min(o.Wait, 10*time.Second), min(o.Terminate, 5*time.Second)
	return k.StopBy(o, true)
}

// StopBy ends the server by an order, telling what it takes. Of a hopeless
// server nobody expects that it still reads its console.
func (k *Server) StopBy(o host.StopOrder, hopeless bool) (*host.Exit, error) {
	return k.RunDir().Stop(o, func(s host.StopStep) {
		switch s.Do {
		case "sent":
			if s.Error != "" && !hopeless {
				k.Warn("the stop line %q did not get through: %s", o.Send, s.Error)
			}
		case "terminate":
			if o.Send != "" {
				k.Warn("it did not stop within %s: terminate signal to its processes %v", o.Wait, s.PIDs)
			}
		case "kill":
			k.Warn("it did not end within %s of the terminate signal: killing its processes %v", o.Terminate, s.PIDs)
		}
	})
}
