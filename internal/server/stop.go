package server

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/learn"
	"freshkeel/internal/tell"
	"freshkeel/internal/words"
)

// Order is the profile's way to stop the server; where it names no line, the one that was
// seen to end it, or those that are worth trying.
func (sv *Server) Order() host.StopOrder {
	s := sv.Profile.Stop
	o := host.StopOrder{Send: s.Send, Wait: s.Wait.Std(), Terminate: s.Terminate.Std(), Kill: s.MayKill()}
	o.Loop, _ = sv.script()
	if seen := sv.Seen().Stop; s.Send != "" && !sv.byHand("stop.send") && (seen == nil || seen.Line != s.Send) {
		// It is a guess of ours: where it turns out to be wrong, others are not waited for as long.
		o.Send, o.Try = "", []string{s.Send}
		for _, line := range slices.Concat(s.Try, learn.Trade) {
			if !slices.Contains(o.Try, line) {
				o.Try = append(o.Try, line)
			}
		}
		if seen != nil && seen.Signals {
			o.Try = nil
		}
		return o
	}
	if s.Send != "" || len(s.Try) == 0 {
		return o
	}
	switch seen := sv.Seen().Stop; {
	case seen == nil:
		o.Try = s.Try
	case slices.Contains(s.Try, seen.Line):
		o.Send = seen.Line
	case !seen.Signals:
		o.Try = s.Try
	}
	return o
}

// noteEnd keeps how the server was ended, and tells what it learned by it.
func (sv *Server) noteEnd(o host.StopOrder, exit *host.Exit, took time.Duration) {
	if exit == nil || exit.By == "" {
		return
	}
	seen := sv.Seen()
	was := seen.Stop
	switch {
	case exit.By == "line":
		seen.Stop = &learn.StopSeen{Line: exit.Line, Took: took}
	case len(o.Try) > 0:
		seen.Stop = &learn.StopSeen{Signals: true, Took: took}
	case o.Send != "" && was != nil && was.Line == o.Send:
		seen.Stop = nil // it works no more
	}
	if seen.Stop == was {
		return
	}
	if err := seen.Write(sv.seenFile()); err != nil {
		sv.Note("%v", err)
	}
	if len(o.Try) == 0 || seen.Stop == nil || seen.Stop.Line != "" && seen.Stop.Line == sv.Profile.Stop.Send {
		return
	}
	if seen.Stop.Signals {
		sv.Note("no console line ended the server, and a signal did: from now on it gets that at once")
		return
	}
	sv.Note("the line that ended the server is %q: from now on it is sent at once", exit.Line)
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
	if s.Tell == "" || sv.Host().Send(s.Tell) != nil {
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
			if !sv.Host().Status().Running {
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
	o.Try = nil // it is not worth learning from
	if o.Send == "" {
		o.Send = sv.Profile.Stop.Send
	}
	o.Wait, o.Terminate = min(o.Wait, 10*time.Second), min(o.Terminate, 5*time.Second)
	return sv.StopBy(o, true)
}

// StopBy ends the server by an order, telling what it takes. Of a hopeless
// server nobody expects that it still reads its console.
func (sv *Server) StopBy(o host.StopOrder, hopeless bool) (*host.Exit, error) {
	began := time.Now()
	exit, err := sv.Host().Stop(o, func(s host.StopStep) {
		switch s.Do {
		case "unread":
			sv.Note("nobody reads the server's console: it takes signals")
		case "sent":
			if len(o.Try) > 0 && s.Line != sv.Profile.Stop.Send {
				sv.Note("told the server at its console: %s", s.Line)
			}
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
	if not := (*host.Forbidden)(nil); errors.As(err, &not) {
		err = tell.Advise(err, not.Do())
	}
	if err == nil && !hopeless {
		sv.noteEnd(o, exit, time.Since(began))
	}
	return exit, err
}
