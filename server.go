package freshkeel

import (
	"context"
	"fmt"
	"time"

	"freshkeel/internal/edited"
	"freshkeel/internal/host"
	"freshkeel/internal/inventory"
	"freshkeel/internal/logbook"
	"freshkeel/internal/server"
	"freshkeel/internal/tell"
)

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
	// settings, scripts and add-ons that were edited since the server last came up, and when it did
	Edited []edited.Edit  `json:"edited,omitempty"`
	Read   time.Time      `json:"read_at,omitzero"`
	Run    *logbook.Entry `json:"run,omitempty"` // that is under way, or was interrupted
	Parts  []PartStatus   `json:"parts,omitempty"`
}

// PartStatus is how one part of a server stands.
type PartStatus struct {
	Name    string       `json:"name"`
	Outside bool         `json:"outside,omitempty"` // of the install
	Server  *host.Status `json:"server"`
	Said    string       `json:"last_line,omitempty"`
}

// Rejoin gives a server whose minder was killed another one, where nobody else is at
// work: its output goes nowhere until then. It settles nothing.
func (k *Keel) Rejoin(ctx context.Context) {
	if !k.in.Host().Status().Left {
		return
	}
	if unlock, err := k.in.Lock("look"); err == nil {
		k.srv.TakeOver(ctx)
		unlock()
	}
}

// Status looks; it changes nothing, and settles nothing that was interrupted.
func (k *Keel) Status() (*Status, error) {
	inv, err := k.inv.Head()
	if err != nil {
		return nil, err
	}
	st := k.in.Host().Status()
	s := &Status{Name: k.in.Profile.Server.Name, Install: k.in.Dir, Version: inv.Version, Mixed: inv.Mixed, Server: st,
		Outside: host.Outside(k.in.Dir, st)}
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
	for _, part := range k.in.Parts() {
		if part.PartName() == "" {
			break
		}
		one := PartStatus{Name: part.PartName(), Outside: part.Outside(), Server: part.Host().Status()}
		if lines, err := part.Host().Tail(1); err == nil && len(lines) > 0 {
			one.Said = lines[0]
		}
		s.Parts = append(s.Parts, one)
	}
	s.Edited, s.Read = edited.Since(k.in, nil)
	if lines, err := k.in.Host().Tail(1); err == nil && len(lines) > 0 {
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
	if st := k.in.Host().Status(); st.Running && !st.Partly {
		return nil, &host.AlreadyRunning{PID: st.PID, Since: st.Since, How: st.How()}
	}
	if err := k.checker.PortFree(); err != nil {
		return nil, err
	}
	if err := k.startable(); err != nil {
		return nil, err
	}
	head, err := k.inv.Head()
	if err != nil {
		return nil, err
	}
	var v *Verdict
	_, err = k.in.Step("start", func() (sum string, err error) {
		// No version is expected: a server that works is not stopped because somebody
		// exchanged its files by hand.
		if v, err = k.srv.BringUp(ctx, server.Goal{Known: head.Version}); err != nil {
			return "", err
		}
		return v.Why, nil
	})
	if err == nil && !v.Up {
		_, err = k.srv.HalfStop()
	}
	if err == nil && v.Up {
		err = k.heardVersion(v.Version)
	}
	return v, err
}

// startable refuses to start what can be known not to come up by the launch script's own
// words. One that can't be read, or is not there, fails by itself.
func (k *Keel) startable() error {
	if !k.in.Minded() { // it stays by itself how its service or its commands start it
		return nil
	}
	commands, err := k.in.Launched()
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
	inv, err := k.inv.Head()
	if err != nil || ver == "" || inv.Version == ver {
		return err
	}
	if inv.Version == "" {
		k.in.Note("the server says that it is %s: that is noted as what is installed", ver)
	} else {
		k.in.Warn("the server says that it is %s, and %s was recorded: files were exchanged by other hands; %s is "+
			"noted as what is installed", ver, inv.Version, ver)
	}
	if err := k.srv.Heard(ver); err != nil {
		return err
	}
	return k.inv.Rewrite(func(head *inventory.Inventory) {
		if head.Version != "" {
			head.Build, head.Channel = "", ""
		}
		head.Version = ver
	})
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
	if k.in.Host().Status().Running {
		return k.srv.Stop(ctx)
	}
	// Only what a minder of ours holds is ever signalled (P4).
	for _, p := range host.Outside(k.in.Dir, nil) {
		return nil, 0, tell.Advise(fmt.Errorf("process %d runs from this install (%s), but not under Fresh Keel: it "+
			"is not ours to stop", p.PID, p.Command),
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
func (k *Keel) Send(line string) error { return k.in.Host().Send(line) }

// Log calls each with the console's lines: the last n, and with follow all
// that come until ctx or the server ends.
func (k *Keel) Log(ctx context.Context, n int, follow bool, each func(string)) error {
	h := k.in.Host()
	if !follow {
		lines, err := h.Tail(n)
		if err != nil {
			return fmt.Errorf("no console log yet: %w", err)
		}
		for _, l := range lines {
			each(l)
		}
		return nil
	}
	lines, _ := h.Tail(1 << 20)
	skip := max(0, len(lines)-n)
	if !k.in.Minded() { // what it said is told first: it may have begun long ago
		for _, l := range lines[skip:] {
			each(l)
		}
		skip = len(lines)
	}
	ended := make(chan struct{})
	go func() {
		k.in.Host().Wait(ctx)
		close(ended)
	}()
	return h.Follow(ctx, ended, func(l string) {
		if skip > 0 {
			skip--
			return
		}
		each(l)
	})
}
