package server

import (
	"context"
	"fmt"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/tell"
	"freshkeel/internal/words"
)

// Oust ends a server that was started by hand, or in a terminal multiplexer, so that it can be started here: by
// its stop line at its own console where that is known, else by the terminate signal. Nothing is killed. One
// that a service or a supervisor runs is refused: they would start it again.
func (sv *Server) Oust(ctx context.Context) error {
	all := host.Outside(sv.Dir, sv.All().Host().Status())
	if len(all) == 0 {
		sv.Note("nobody else started a server here: there is nothing to take over")
		return nil
	}
	first := all[0]
	kept := host.KeptBy(first.PID)
	switch {
	case first.Unit != "":
		return tell.Advise(fmt.Errorf("process %d runs in the service %s, which starts it at boot", first.PID, first.Unit),
			first.HowToStop())
	case kept.Service != "":
		return tell.Advise(fmt.Errorf("%s (process %d) keeps the server, and would start it again", kept.By, kept.PID),
			"freshkeel adopt --replace writes how it is told, under [host]; or end its care of "+kept.Service)
	}
	ended := func(within time.Duration) bool {
		for end := time.Now().Add(within); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(200 * time.Millisecond) {
			if len(host.Outside(sv.Dir, sv.All().Host().Status())) == 0 {
				return true
			}
		}
		return false
	}
	o := sv.Order()
	for _, line := range append([]string{o.Send}, o.Try...) {
		if line == "" || (len(kept.Send) == 0 && kept.Console == "") {
			continue
		}
		if err := host.Say(line, kept.Console, kept.Send, sv.Dir, sv.Env); err != nil {
			sv.Note("%v", err)
			break
		}
		sv.Note("told the server at its own console: %s", line)
		if ended(o.Wait) {
			return nil
		}
	}
	var pids []int
	for _, p := range all {
		pids = append(pids, p.PID)
	}
	sv.Note("terminate signal to %s", words.Some(host.Programs(pids), 6))
	if err := host.Terminate(pids); err != nil {
		return tell.Advise(fmt.Errorf("the server that runs can't be told to end: %w", err),
			"stop it at its own console; then: freshkeel start")
	}
	if ended(max(o.Wait, o.Terminate)) {
		return nil
	}
	var left []string
	for _, p := range host.Outside(sv.Dir, sv.All().Host().Status()) {
		left = append(left, fmt.Sprint(p.PID))
	}
	return tell.Advise(fmt.Errorf("the server that runs did not end %s after the terminate signal: process %s",
		max(o.Wait, o.Terminate),
		strings.Join(left, ", ")), "stop it at its own console; then: freshkeel start")
}
