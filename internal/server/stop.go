package server

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/learn"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/words"
)

// Order is the profile's way to stop the server; where it names no line, the one that was
// seen to end it, or those that are worth trying.
func (sv *Server) Order() host.StopOrder {
	s := sv.Profile.Stop
	o := host.StopOrder{Send: s.Send, Wait: s.Wait.Std(), Terminate: s.Terminate.Std(), Kill: s.MayKill()}
	o.Loop, _ = sv.script()
	seen := sv.Seen().Stop
	switch guessed := s.Send != "" && !sv.byHand("stop.send") && (seen == nil || seen.Line != s.Send); {
	case s.Send != "" && !guessed:
		return o
	case seen != nil && seen.Signals:
		o.Send = ""
	case guessed: // where it turns out to be wrong it is not waited for as long
		o.Send, o.Try, o.Last = "", []string{s.Send}, slices.Concat(s.Try, learn.Trade)
	case seen != nil && slices.Contains(s.Try, seen.Line):
		o.Send = seen.Line
	case sv.byHand("stop.try"):
		o.Try = s.Try
	default:
		o.Last = s.Try
	}
	o.Last = slices.DeleteFunc(o.Last, func(line string) bool { return slices.Contains(o.Try, line) })
	return o
}

// TryAll has lines tried for which nothing speaks, before a signal is sent, where there is none for which something does
// and it is known that nobody plays: to a server on which somebody may, they are no more than words at random.
func TryAll(sv *Server, o host.StopOrder) host.StopOrder {
	if len(o.Last) > 0 && o.Send == "" && len(o.Try) == 0 && nobodyPlays(sv) {
		o.Try, o.Last = o.Last, nil
	}
	return o
}

// stillFor is how long no datagram may come to a server before it counts as one that nobody plays on: clients send
// several a second.
const stillFor = 2 * time.Second

// nobodyPlays tells whether it is known that nobody is on: by the server's own word; else nobody is connected to it,
// and where it has ports over udp no datagram comes.
func nobodyPlays(sv *Server) bool {
	if sv.Profile.Players.Ask != "" {
		on, err := sv.PlayersOn(context.Background())
		return err == nil && on.Nobody()
	}
	st := sv.Host().Status()
	if !st.Running || len(st.Processes) == 0 || len(host.Peers(st.Processes, nil)) > 0 {
		return false
	}
	if !slices.ContainsFunc(portsOf(st.Processes), func(p profile.Port) bool { return p.Net == "udp" }) {
		return true
	}
	before, known := host.Datagrams(st.Processes[0])
	if !known {
		return false
	}
	time.Sleep(stillFor)
	after, known := host.Datagrams(st.Processes[0])
	return known && after == before
}

// noteEnd keeps how the server was ended, and tells what it learned by it.
func (sv *Server) noteEnd(o host.StopOrder, exit *host.Exit, took time.Duration) {
	sv.noteSlowest(exit, took)
	if exit == nil || exit.By == "" || (!sv.Minded() && exit.By != "line") { // a service knows its own signals
		return
	}
	seen := sv.Seen()
	was := seen.Stop
	switch {
	case exit.By == "line":
		seen.Stop = &learn.StopSeen{Line: exit.Line, Took: took}
	case len(o.Try) > 0:
		seen.Stop = &learn.StopSeen{Signals: true, Took: took}
	case len(o.Last) > 0 && exit.By == "terminate": // whether a line would have ended it is not known
		sv.Note("the terminate signal ended the server: no line is known that does, and others are only tried where "+
			"nobody plays; if there is one: freshkeel -d %s profile set stop.send LINE", words.Shell(sv.Dir))
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

// noteSlowest keeps how long the server took at most to end by itself once it was told to.
func (sv *Server) noteSlowest(exit *host.Exit, took time.Duration) {
	seen := sv.Seen()
	if exit == nil || exit.By == "kill" || took <= seen.Slowest {
		return
	}
	seen.Slowest = took
	if err := seen.Write(sv.seenFile()); err != nil {
		sv.Note("%v", err)
	}
}

// Stop tells the players, waits, and ends the server by the profile's order.
// Ending ctx while players are told leaves the server running, with Interrupted;
// once the stop line is sent there is no way back, and ctx is not asked.
func (sv *Server) Stop(ctx context.Context) (exit *host.Exit, took time.Duration, err error) {
	if err := sv.AwaitEmpty(ctx); err != nil {
		return nil, 0, err
	}
	if err := sv.TellPlayers(ctx, ""); err != nil {
		return nil, 0, err
	}
	order := TryAll(sv, sv.Order())
	told := time.Now()
	defer context.AfterFunc(ctx, func() {
		sv.Note("the server was told to stop already, and stops: waiting " +
			"for its end")
	})()
	exit, err = sv.StopBy(order, false)
	return exit, time.Since(told), err
}

// noticeLook is how often it is looked whether the server ends by itself while
// players are told.
const noticeLook = 250 * time.Millisecond

// TellPlayers warns the players by the profile's lines, and waits as long as these say. to is the
// version that comes; "": none. A console that does not take a line is no reason not to stop.
// Ending ctx leaves the server running, with Interrupted, and a line says that it is off.
func (sv *Server) TellPlayers(ctx context.Context, to string) error {
	s := sv.Profile.Stop
	if err := ctx.Err(); err != nil {
		return &Interrupted{}
	}
	warnings := s.Warnings()
	if s.Tell != "" {
		warnings = append(warnings, profile.Warning{Before: s.Notice.Std(), Line: s.Tell})
		slices.SortStableFunc(warnings, func(a, b profile.Warning) int { return cmp.Compare(b.Before, a.Before) })
	}
	if len(warnings) == 0 || sv.Parting.Now {
		return nil
	}
	if sv.Parting.WhenEmpty { // nobody is there to be warned
		if on, err := sv.PlayersOn(ctx); err == nil && on.Nobody() {
			return nil
		}
	}
	stop := time.Now().Add(warnings[0].Before)
	told := ""
	look := time.NewTicker(noticeLook)
	defer look.Stop()
	for {
		left := time.Until(stop)
		for len(warnings) > 0 && left <= warnings[0].Before {
			line := sv.fill(warnings[0].Line, warnings[0].Before, to)
			warnings = warnings[1:]
			if err := sv.Host().Send(line); err != nil {
				if told == "" {
					sv.Warn("nobody on the server was warned of the stop: %v", err)
					return nil
				}
				continue
			}
			told = line
			sv.Note("players were told: %s", line)
		}
		if left <= 0 {
			return nil
		}
		sv.Tell(tell.Event{Kind: tell.StepMoves, Step: "stop", Text: fmt.Sprintf("in %s; players were told",
			words.Age(left.Truncate(time.Second)))})
		select {
		case <-time.After(min(left, noticeLook)):
		case <-ctx.Done():
			sv.CallOff(to)
			return &Interrupted{Saw: told, Off: s.Off != ""}
		case <-look.C:
			if !sv.Host().Status().Running {
				return nil
			}
		}
	}
}

// CallOff tells players who were warned that the server runs on.
func (sv *Server) CallOff(to string) {
	if s := sv.Profile.Stop; s.Off != "" && sv.Host().Status().Running {
		if err := sv.Host().Send(sv.fill(s.Off, 0, to)); err == nil {
			sv.Note("players were told: %s", sv.fill(s.Off, 0, to))
		}
	}
}

// fill fills a line for players in.
func (sv *Server) fill(line string, left time.Duration, to string) string {
	reason := sv.Parting.Reason
	switch {
	case reason != "":
	case to != "":
		reason = "an update to " + to
	default:
		reason = "maintenance"
	}
	plain := strings.NewReplacer("\r", " ", "\n", " ")
	return plain.Replace(strings.NewReplacer("{left}", long(left), "{version}", cmp.Or(to, "the same version"),
		"{reason}", reason).Replace(line))
}

// long is a length of time as players read it.
func long(d time.Duration) string {
	switch {
	case d >= time.Hour && d%time.Hour == 0:
		return words.Plural(int(d/time.Hour), "hour")
	case d >= time.Minute && d%time.Minute == 0:
		return words.Plural(int(d/time.Minute), "minute")
	}
	return words.Plural(int(d/time.Second), "second")
}

// On is who is on a server: how many it says, and who is connected to its ports.
type On struct {
	Said  int
	Peers []string // addresses, as far as the system tells them, without the profile's proxies
}

// Nobody tells whether nobody is on, by the server's word and by its connections.
func (o On) Nobody() bool { return o.Said == 0 && len(o.Peers) == 0 }

// Odd tells whether the server says fewer than are connected.
func (o On) Odd() bool { return len(o.Peers) > o.Said }

func (o On) String() string {
	if !o.Odd() {
		return words.Plural(o.Said, "player")
	}
	return fmt.Sprintf("%s by the server's word, and connected are %s", words.Plural(o.Said, "player"), words.Some(o.Peers, 6))
}

// PlayersOn asks the console how many are on, and the system who is connected.
func (sv *Server) PlayersOn(ctx context.Context) (on On, err error) {
	if on.Said, err = sv.askPlayers(ctx); err != nil {
		return on, err
	}
	var ports []host.Port
	for _, p := range sv.Profile.Ready.Held() {
		ports = append(ports, host.Port{Net: p.Net, Number: p.Number})
	}
	on.Peers = slices.DeleteFunc(host.Peers(sv.Host().Status().Processes, ports), func(at string) bool {
		return slices.Contains(sv.Profile.Players.Proxies, at)
	})
	if on.Odd() && !sv.contradicted {
		sv.contradicted = true
		sv.Warn("the server says that %s on, and the system that others are connected to its ports: %s; if that is a proxy, or "+
			"a look from outside: freshkeel profile set players.proxies '[\"%s\"]'", words.Plural(on.Said, "player")+" are",
			words.Some(on.Peers, 6), on.Peers[0])
	}
	return on, nil
}

func (sv *Server) askPlayers(ctx context.Context) (int, error) {
	p := sv.Profile.Players
	if p.Ask == "" {
		return 0, tell.Misuse("how many players are on can't be asked: the profile has no [players] ask and answer",
			"freshkeel profile set players.ask LINE, and players.answer '^(\\d+) …', by hand")
	}
	from := sv.Host().Mark()
	if err := sv.Host().Send(p.Ask); err != nil {
		return 0, fmt.Errorf("ask how many players are on: %w", err)
	}
	said, err := host.AwaitAnswer(ctx, sv.Host(), from, p.Wait.Std(), p.Answer.Regexp)
	if err != nil {
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
		return 0, tell.Advise(
			fmt.Errorf(
				"no line that matches %s came within %s of %q: how many players are on is not known",
				words.Quote(
					p.Answer.String(),
				),
				p.Wait,
				p.Ask,
			),
			"compare [players] answer with what the server says: freshkeel log",
		)
	}
	n, err := strconv.Atoi(said[1])
	if err != nil {
		return 0, fmt.Errorf("%q does not say how many players are on: %w", said[0], err)
	}
	return n, nil
}

// emptyLook is how often it is asked whether somebody is on still.
const emptyLook = 5 * time.Second

// AwaitEmpty waits until nobody is on, where the command is to do that, for as long as it may.
func (sv *Server) AwaitEmpty(ctx context.Context) error {
	if !sv.Parting.WhenEmpty || !sv.Host().Status().Running {
		return nil
	}
	_, err := sv.Step("wait", func() (string, error) {
		began := time.Now()
		for {
			on, err := sv.PlayersOn(ctx)
			if ctx.Err() != nil {
				return "", &Interrupted{}
			}
			if err != nil {
				return "", err
			}
			if on.Nobody() {
				return "nobody is on", nil
			}
			if most := sv.Parting.AtMost; most > 0 && time.Since(began) > most {
				return "", tell.Advise(fmt.Errorf(
					"%s later still on: %s. The server runs on, and nothing was changed",
					most,
					on,
				), "--at-most LONGER; or without --when-empty, with the warning of [stop] warn")
			}
			sv.Tell(tell.Event{Kind: tell.StepMoves, Step: "wait", Text: on.String() + " on"})
			select {
			case <-ctx.Done():
				return "", &Interrupted{}
			case <-time.After(emptyLook):
			}
		}
	})
	return err
}

// Interrupted says that a command was ended, by Ctrl-C or a signal, before it had
// changed anything. It is a context.Canceled.
type Interrupted struct {
	Saw  string        // the line that players were told; "": none
	Off  bool          // and another one that it is off
	Down time.Duration // how long they were without the server, which was started again
}

func (i *Interrupted) Error() string {
	switch {
	case i.Down > 0:
		return fmt.Sprintf("interrupted: the server had stopped already, and was started again; nothing was changed, "+
			"and players were without it for %s", words.Age(i.Down))
	case i.Off:
		return "interrupted before the server was stopped: it runs on, nothing was changed, and players were told so"
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
	if len(sv.Profile.Parts) > 0 {
		return sv.stopParts(true)
	}
	o := sv.Order()
	o.Try, o.Last, o.Hopeless = nil, nil, true // it is not worth learning from
	if o.Send == "" {
		o.Send = sv.Profile.Stop.Send
	}
	o.Wait, o.Terminate = min(o.Wait, 10*time.Second), min(o.Terminate, 5*time.Second)
	return sv.StopBy(o, true)
}

// StopBy ends the server by an order, telling what it takes. Of a hopeless
// server nobody expects that it still reads its console.
func (sv *Server) StopBy(o host.StopOrder, hopeless bool) (*host.Exit, error) {
	if len(sv.Profile.Parts) > 0 {
		return sv.stopParts(hopeless)
	}
	began := time.Now()
	exit, err := sv.Host().Stop(o, func(s host.StopStep) {
		switch s.Do {
		case "unread":
			sv.Note("nobody reads the server's console: it takes signals")
		case "sent":
			switch {
			case s.Error != "" && o.Send == "":
				sv.Note("nobody reads the server's console: it takes signals")
			case s.Error != "" && !hopeless:
				sv.Warn("the stop line %q did not get through, so it is not waited for: %s", s.Line, s.Error)
			case s.Error == "" && len(o.Try)+len(o.Last) > 0 && s.Line != sv.Profile.Stop.Send:
				sv.Note("told the server at its console: %s", s.Line)
			}
		case "terminate":
			if o.Send != "" {
				sv.Warn("it did not stop within %s: terminate signal to its processes %v", o.Wait, s.PIDs)
			}
		case "returned":
			sv.Note("%s has ended, and %s of the server run on: waiting for their end", s.Line,
				words.Some(host.Programs(s.PIDs), 4))
		case "untold":
			sv.Note("its service does not signal all of its processes (KillMode): terminate signal from here to %v", s.PIDs)
		case "left":
			sv.Note("left running, as they are none of this install's: %s", words.Some(host.Programs(s.PIDs), 6))
		case "kill":
			sv.Warn("it did not end within %s of the terminate signal: killing its processes %v", o.Terminate, s.PIDs)
		}
	})
	if not := (*host.Forbidden)(nil); errors.As(err, &not) {
		err = tell.Advise(err, not.Do())
	}
	if err == nil && !hopeless {
		if lost := exit.Lost(); lost != "" {
			sv.Warn("%s", lost)
		}
		sv.noteEnd(o, exit, time.Since(began))
	}
	return exit, err
}

// Rebind starts the services again that stopped with those of the server, once it is up, and tells what it
// could not bring back.
func (sv *Server) Rebind() (lost []string) {
	for _, part := range sv.Install.Parts() {
		unit := part.Service()
		if unit == nil || part.Outside() {
			continue
		}
		started, failed, err := unit.StartBound()
		if len(started) > 0 {
			sv.Note("started again, as they had stopped with %s: %s", unit.Name, words.Some(started, 6))
		}
		for _, why := range failed {
			lost = append(lost, "it stopped with "+unit.Name+", and could not be started again: "+why)
		}
		if err != nil {
			lost = append(lost, fmt.Sprintf("what stopped with %s could not be started again: %v", unit.Name, err))
		}
	}
	for _, l := range lost {
		sv.Warn("%s", l)
	}
	return lost
}
