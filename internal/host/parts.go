package host

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// Named is a host with the name of the part of a server that it runs.
type Named struct {
	Name string
	Host Host
}

// parts is a server of several parts, in the order in which they are started. How each is
// started and stopped is for whoever knows its rules; this is what they are together.
type parts []Named

// Together are several parts as one host.
func Together(list []Named) Host { return parts(list) }

// Status: it runs as long as one of its parts does, since the last of them was started.
func (p parts) Status() *Status {
	all := &Status{By: "in " + fmt.Sprint(len(p)) + " parts"}
	for _, part := range p {
		st := part.Host.Status()
		all.Stopping = all.Stopping || st.Stopping
		all.Silent, all.Left = all.Silent || st.Silent, all.Left || st.Left
		if st.Trouble != "" {
			all.Trouble = part.Name + ": " + st.Trouble
		}
		if !st.Running {
			all.Partly = true
			if st.Last != nil && (all.Last == nil || st.Last.At.After(all.Last.At)) {
				all.Last = st.Last
			}
			continue
		}
		all.Running = true
		all.Processes = append(all.Processes, st.own()...)
		all.Restarts += st.Restarts
		if all.PID == 0 {
			all.PID, all.Script = st.PID, st.Script
		}
		if st.Since.After(all.Since) {
			all.Since = st.Since
		}
	}
	all.Partly = all.Partly && all.Running
	slices.Sort(all.Processes)
	all.Processes = slices.Compact(all.Processes)
	return all
}

var errByParts = errors.New("its parts are started and stopped one by one")

func (p parts) Start(context.Context, []string, Launch) (*Status, error) { return nil, errByParts }

func (p parts) Stop(StopOrder, func(StopStep)) (*Exit, error) { return nil, errByParts }

// Wait returns when the first of the parts that run has ended.
func (p parts) Wait(ctx context.Context) (*Exit, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type ended struct {
		e   *Exit
		err error
	}
	first := make(chan ended, len(p))
	waiting := 0
	for _, part := range p {
		if part.Host.Status().Running {
			waiting++
			go func() {
				e, err := part.Host.Wait(ctx)
				first <- ended{e, err}
			}()
		}
	}
	if waiting == 0 {
		return &Exit{At: time.Now(), Status: "no part of it runs"}, nil
	}
	one := <-first
	return one.e, one.err
}

// last is the part that a line is for which names none.
func (p parts) last() Host { return p[len(p)-1].Host }

// Send puts a line on the console of the last part, or of the one that stands before it with a
// colon: "login: reload".
func (p parts) Send(line string) error {
	if name, rest, ok := strings.Cut(line, ": "); ok {
		for _, part := range p {
			if part.Name == name {
				return part.Host.Send(rest)
			}
		}
	}
	return p.last().Send(line)
}

func (p parts) Hold(before, after []string) (func(), error) { return p.last().Hold(before, after) }

// Tail are the last lines of each part, with its name.
func (p parts) Tail(n int) (out []string, err error) {
	each := max(1, n/len(p))
	for _, part := range p {
		lines, e := part.Host.Tail(each)
		if e != nil {
			err = e
			continue
		}
		for _, l := range lines {
			out = append(out, part.Name+"  "+l)
		}
	}
	if len(out) > 0 {
		err = nil
	}
	return out, err
}

// Follow hears all parts, each line with the name of its part.
func (p parts) Follow(ctx context.Context, ended <-chan struct{}, each func(string)) error {
	return p.together(each, func(h Host, each func(string)) error { return h.Follow(ctx, ended, each) })
}

// Live hears all parts likewise.
func (p parts) Live(ctx context.Context, n int, ended <-chan struct{}, each func(string)) error {
	return p.together(each, func(h Host, each func(string)) error {
		return h.Live(ctx, max(1, n/len(p)), ended, each)
	})
}

// together hears each part, and returns when none is heard any more; the error is the first one's.
func (p parts) together(each func(string), hear func(Host, func(string)) error) error {
	var mu sync.Mutex
	all := make(chan error, len(p))
	for _, part := range p {
		go func() {
			all <- hear(part.Host, func(l string) {
				mu.Lock()
				defer mu.Unlock()
				each(part.Name + "  " + l)
			})
		}()
	}
	var first error
	for range p {
		if err := <-all; first == nil {
			first = err
		}
	}
	return first
}

func (p parts) Mark() Mark { return p.last().Mark() }

func (p parts) After(m Mark) ([]string, error) { return p.last().After(m) }
