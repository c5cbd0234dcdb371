package server

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/edited"
	"freshkeel/internal/host"
	"freshkeel/internal/tell"
	"freshkeel/internal/words"
)

// each are a server's parts, in the order in which they are started.
func (sv *Server) each() (out []*Server) {
	for _, part := range sv.Install.Parts() {
		out = append(out, New(part))
	}
	return out
}

// spawnFirst starts the first part of the server; the watch starts the others, each when those
// before it are up.
func (sv *Server) spawnFirst(ctx context.Context) (*host.Status, error) {
	if err := sv.outsideUp(ctx); err != nil {
		return nil, err
	}
	for _, part := range sv.each() {
		if part.Outside() {
			continue
		}
		if st := part.Host().Status(); st.Running {
			return st, nil
		}
		st, err := part.Spawn(ctx)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", part.PartName(), err)
		}
		return st, nil
	}
	return nil, fmt.Errorf("every part of %s is outside of it", sv.Profile.Server.Name)
}

// outsideUp sees to it that the parts which are none of the install's are up.
func (sv *Server) outsideUp(ctx context.Context) error {
	for _, part := range sv.each() {
		if !part.Outside() || part.Host().Status().Running {
			continue
		}
		sv.Note("%s is down, and is started: the server needs it", part.PartName())
		if _, err := part.Host().Start(ctx, nil, host.Launch{}); err != nil {
			return tell.Advise(fmt.Errorf("%s, which the server needs, can't be started: %w", part.PartName(), err),
				"start it by hand; then try again")
		}
	}
	return nil
}

// watchParts brings the parts up one after the other, and judges each by its own rules. One
// that does not come up decides for all; and one that ends while the next comes up, too.
func (sv *Server) watchParts(ctx context.Context, start time.Time, goal Goal) *Verdict {
	all, why := &Verdict{}, ""
	var up []*Server
	for _, part := range sv.each() {
		if part.Outside() {
			continue
		}
		name := part.PartName()
		began := start
		if !part.Host().Status().Running {
			began = time.Now()
			if _, err := part.Spawn(context.WithoutCancel(ctx)); err != nil {
				return &Verdict{Why: fmt.Sprintf("%s could not be started: %v", name, err), Took: time.Since(start)}
			}
		}
		sv.Tell(tell.Event{Kind: tell.StepMoves, Step: "watch", Text: name})
		v := part.Watch(ctx, began, goal)
		for i := range v.Lines {
			v.Lines[i] = name + "  " + v.Lines[i]
		}
		if !v.Up {
			v.Why = name + ": " + v.Why
			return v
		}
		why = v.Why
		all.Lines, all.Doubts = append(all.Lines, v.Lines...), append(all.Doubts, v.Doubts...)
		if v.Version != "" {
			all.Version = v.Version
		}
		for _, before := range up { // while this one came up
			if !before.Host().Status().Running {
				return &Verdict{
					Why:  fmt.Sprintf("%s ended while %s came up", before.PartName(), name),
					Took: time.Since(start),
				}
			}
		}
		up = append(up, part)
	}
	for _, part := range up { // and once more, when all are
		if !part.Host().Status().Running {
			return &Verdict{Why: part.PartName() + " ended while others came up", Took: time.Since(start)}
		}
	}
	for _, part := range sv.Rest() {
		if !part.Host().Status().Running {
			return &Verdict{Why: part.PartName() + ", which was to run on, ended meanwhile", Took: time.Since(start)}
		}
	}
	all.Up, all.Took = true, time.Since(start)
	var names []string
	for _, part := range up {
		names = append(names, part.PartName())
	}
	if len(sv.Rest()) == 0 {
		edited.Note(sv.All(), nil)
	} else {
		edited.Note(sv.All(), sv.Profile.FilesOf(names))
	}
	if len(up) == 1 {
		all.Why = fmt.Sprintf("%s: %s", up[0].PartName(), why)
		return all
	}
	all.Why = fmt.Sprintf("%s up, in this order: %s", words.Plural(len(up), "part"), strings.Join(names, ", "))
	return all
}

// stopParts stops the parts in the reverse of the order in which they were started, each by its
// own rules. Those outside run on.
func (sv *Server) stopParts(hopeless bool) (exit *host.Exit, err error) {
	list := sv.each()
	slices.Reverse(list)
	for _, part := range list {
		if part.Outside() || !part.Host().Status().Running {
			continue
		}
		var e *host.Exit
		if hopeless {
			e, err = part.HalfStop()
		} else {
			e, err = part.StopBy(TryAll(part, part.Order()), false)
		}
		if err != nil {
			return exit, fmt.Errorf("%s: %w", part.PartName(), err)
		}
		if exit = cmp.Or(e, exit); e != nil && len(list) > 1 { // of one alone the step tells
			sv.Note("%s ended (%s)", part.PartName(), e.Status)
		}
	}
	return exit, nil
}

// Arrange has parts be up, seen to be so, and others down: as a migration needs it. Those that it
// started run on.
func (sv *Server) Arrange(ctx context.Context, up, down []string) error {
	list := sv.each()
	for _, part := range slices.Backward(list) {
		if slices.Contains(down, part.PartName()) && part.Host().Status().Running {
			if _, err := part.StopBy(part.Order(), false); err != nil {
				return fmt.Errorf("%s: %w", part.PartName(), err)
			}
		}
	}
	for _, part := range list {
		if !slices.Contains(up, part.PartName()) || part.Host().Status().Running {
			continue
		}
		v, err := part.BringUp(ctx, Goal{Same: true})
		if err != nil {
			return fmt.Errorf("%s: %w", part.PartName(), err)
		}
		if !v.Up {
			return fmt.Errorf("%s did not come up: %s", part.PartName(), v.Why)
		}
	}
	return nil
}
