package freshkeel

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/edited"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"
	"freshkeel/internal/server"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
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

// LetGo has a server go on that a command which was killed kept still for its backup.
func (k *Keel) LetGo() {
	if !k.srv.Held() {
		return
	}
	if unlock, err := k.in.Lock("look"); err == nil {
		k.srv.LetGo()
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

// Glimpse is how a server stands for somebody who may read its folder and is not its user, a monitor say: by
// its service, or by its ports. Nothing that the profile names is run, and what only the user knows is left out.
func Glimpse(dir string) (*Status, error) {
	p, err := profile.Read(dir)
	if err != nil {
		return nil, err
	}
	s := &Status{State: Down, Name: p.Server.Name, Install: dir, Server: &host.Status{}}
	if h := p.Host; h.Kind == profile.ByService && !h.User && len(p.Parts) == 0 {
		s.Server = host.OpenService(h.Unit, false, "", nil, nil, dir).Status()
		if s.Server.Silent {
			return nil, errors.New(s.Server.Trouble)
		}
	} else {
		held := p.Ready.Held()
		if len(held) == 0 {
			return nil, errors.New("no port of the server's is known, by which another user could see whether it runs ([ready] ports)")
		}
		s.Server.Running, s.Server.By = true, "as far as its ports tell"
		for _, port := range held {
			pids, err := host.PortHolders(port.Net, port.Number)
			if err != nil {
				return nil, err
			}
			s.Server.Running = s.Server.Running && len(pids) > 0
		}
	}
	switch {
	case s.Server.Running && s.Server.Stopping:
		s.State = Stopping
	case s.Server.Running:
		s.State = Up
	}
	return s, nil
}

// IsStranger tells whether a folder is of another user than this process's, who is not root.
func IsStranger(dir string) bool {
	e, _, err := tree.Describe(dir, "")
	return err == nil && os.Geteuid() > 0 && e.UID.Int() != os.Geteuid()
}

// Start starts the server and watches it come up. A server that does not come
// up is stopped again, and its verdict returned.
func (k *Keel) Start(ctx context.Context) (*Verdict, error) {
	cut := k.Unsettled()
	unlock, err := k.begin(ctx, "start")
	if err != nil {
		return nil, err
	}
	defer unlock()
	if st := k.in.Host().Status(); st.Running && !st.Partly && cut != nil {
		return &Verdict{Up: true, Why: fmt.Sprintf("%s %s, which had been interrupted, was settled, and that started "+
			"it",
			cut.Kind, cut.ID)}, nil
	} else if st.Running && !st.Partly {
		return nil, &host.AlreadyRunning{PID: st.PID, Since: st.Since, How: st.How()}
	}
	if err := k.checker.PortFree(); err != nil {
		return nil, err
	}
	if err := k.startable(); err != nil {
		return nil, err
	}
	k.tellHidden()
	head, err := k.inv.Head()
	if err != nil {
		return nil, err
	}
	var v *Verdict
	_, err = k.in.Step("start", func() (sum string, err error) {
		// No version is expected: a server that works is not stopped because somebody
		// exchanged its files by hand.
		if v, err = k.srv.BringUp(ctx, server.Goal{Known: head.Version, Same: true}); err != nil {
			return "", err
		}
		return v.Why, nil
	})
	if err == nil && !v.Up {
		_, err = k.srv.HalfStop()
	}
	if err == nil && v.Up {
		k.srv.Rebind()
		err = k.heardVersion(v.Version)
	}
	return v, err
}

// tellHidden tells of services whose own line was changed since a line of ours stands over it.
func (k *Keel) tellHidden() {
	for _, part := range k.in.Parts() {
		sv := part.Service()
		if sv == nil || part.Outside() {
			continue
		}
		if o, err := sv.Over(); err == nil && o.Hides() {
			k.in.Warn("the line of %s was changed since a refit wrote its own over it, and does not count: it is %s, and the "+
				"service runs %s. If yours is to count: delete %s, and have the manager read its units anew (daemon-reload)",
				sv.Name,
				o.Now, host.UnitLine(o.Words), o.File)
		}
	}
}

// TakeOver ends a server that somebody else started by hand, so that Start can start it: see server.Oust.
func (k *Keel) TakeOver(ctx context.Context) error {
	unlock, err := k.begin(ctx, "take-over")
	if err != nil {
		return err
	}
	defer unlock()
	return k.srv.Oust(ctx)
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
	defer func() { unlock() }()
	for _, part := range k.in.Parts() { // one that crashed is not started again
		if part.Profile.Host.Restart == "" {
			continue
		}
		if err := tree.WriteFile(server.New(part).StayDown(), nil, 0o600); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, 0, err
		}
	}
	if k.in.Host().Status().Running {
		fronted := k.in.Minded() && k.in.RunDir().Fronted()
		exit, took, err = k.srv.Stop(ctx)
		if err == nil && fronted {
			unlock() // what keeps it in the foreground waits for commands that are at work
			unlock = func() {}
			err = k.in.RunDir().StaysDown()
		}
		if back := (*host.BackAgain)(nil); errors.As(err, &back) {
			err = tell.Advise(err, "stop it by the own command of what runs it; then: freshkeel status")
		}
		return exit, took, err
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

// StartedBy names what starts the server, or each of its parts: a launch script, a service, a
// command of the operator's own.
func (k *Keel) StartedBy() string {
	var all []string
	for _, part := range k.in.Parts() {
		switch h := part.Profile.Host; {
		case part.Outside():
		case part.Service() != nil:
			all = append(all, "the service "+h.Unit)
		case len(h.Start) > 0:
			all = append(all, strings.Join(h.Start, " "))
		default:
			all = append(all, part.Profile.Launch.Script)
		}
	}
	return strings.Join(all, ", ")
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
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for h.Wait(ctx); ctx.Err() == nil && h.Status().Running; h.Wait(ctx) { // another start of it, or other parts
			time.Sleep(frontRest)
		}
	}()
	return h.Live(ctx, n, ended, each)
}

// crashPauseMost bounds the pause before a server is started again.
const crashPauseMost = 10 * time.Minute

// AfterCrash starts a server again that ended by itself: after a pause that doubles with each
// crash, no more often than the profile allows, and only where nobody else has seen to it
// meanwhile. Each crash is in the logbook, with its last lines.
//
// part names the part that crashed, of a server of several; "": the server.
func (k *Keel) AfterCrash(ctx context.Context, part string) error {
	in := k.in
	for _, one := range k.in.Parts() {
		if one.PartName() == part {
			in = one
		}
	}
	srv := server.New(in)
	unlock, err := k.lockAfterCrash(ctx)
	if err != nil {
		return err
	}
	h, st := in.Profile.Host, in.Host().Status()
	if run, err := k.in.Book.Unfinished(); err != nil || run != nil || st.Running || st.Last == nil {
		unlock()
		return err
	}
	head, err := k.inv.Head()
	if err != nil {
		unlock()
		return err
	}
	e := &logbook.Entry{
		Kind:       logbook.Crash,
		From:       head.Version,
		To:         head.Version,
		Phase:      logbook.Done,
		WasRunning: true,
		Part:       part,
		Why:        fmt.Sprintf("%s ended by itself (%s)", cmp.Or(part, "the server"), st.Last.Status),
	}
	e.Lines, _ = in.Host().Tail(8)
	e.Outcome = logbook.StayedDown // until it is started
	if err := k.in.Book.Begin(e); err != nil {
		unlock()
		return err
	}
	all, err := k.in.Book.All()
	unlock()
	if err != nil {
		return err
	}
	crashes := 0
	for _, c := range all {
		if c.Kind == logbook.Crash && c.Part == part && time.Since(c.Started) < h.Within.Std() {
			crashes++
		}
	}
	if crashes > h.Crashes {
		e.Told = append(
			e.Told,
			fmt.Sprintf("it crashed %d times within %s, and is not started again: freshkeel log tells "+
				"why, freshkeel start starts it", crashes, h.Within),
		)
		return k.in.Book.Save(e)
	}
	return k.startAgain(ctx, srv, e, h.Pause.Std()<<min(crashes-1, 20))
}

// lockAfterCrash waits for other commands to end: one may be about another part that crashed.
func (k *Keel) lockAfterCrash(ctx context.Context) (unlock func(), err error) {
	for end := time.Now().Add(crashPauseMost); ; {
		unlock, err = k.in.Lock("after a crash")
		if !errors.As(err, new(*Busy)) || time.Now().After(end) {
			return unlock, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(frontRest):
		}
	}
}

// startAgain starts a server, or a part, that crashed, after a pause, unless somebody else has seen
// to it meanwhile.
func (k *Keel) startAgain(ctx context.Context, srv *server.Server, e *logbook.Entry, pause time.Duration) error {
	last := srv.Host().Status().Last
	for end := time.Now().Add(max(min(pause, crashPauseMost), 0)); time.Now().Before(end); {
		if _, err := os.Stat(srv.StayDown()); err == nil || srv.Host().Status().Running {
			return nil // somebody saw to it
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(min(frontRest, time.Until(end))):
		}
	}
	unlock, err := k.lockAfterCrash(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	now := srv.Host().Status()
	later := func(o *logbook.Entry) bool {
		return o.Started.After(e.Started) && (o.Kind != logbook.Crash || o.Part == e.Part)
	}
	all, err := k.in.Book.All()
	if err != nil || last == nil || slices.ContainsFunc(all, later) || now.Running || now.Last == nil ||
		!now.Last.At.Equal(last.At) {
		return err // somebody else saw to it
	}
	if _, err := os.Stat(srv.StayDown()); err == nil {
		return nil
	}
	if _, err := srv.Spawn(context.WithoutCancel(ctx)); err != nil {
		e.Told = append(e.Told, err.Error())
		return errors.Join(err, k.in.Book.Save(e))
	}
	e.Outcome, e.Ended = logbook.Restarted, time.Now().Round(0)
	return k.in.Book.Save(e)
}

// Run keeps the server in the foreground: it starts it where it does not run, hands each line of
// its console to each and lines of in to its console, and stops it when ctx ends. It stays while
// another command exchanges the server under it, and starts the new one itself, so that the new
// one stays in this process's group. It returns when the server has ended for good; the error is
// nil where it was told to.
func (k *Keel) Run(ctx context.Context, in io.Reader, each func(string)) error {
	if !k.in.Minded() {
		return tell.Advise(errors.New("the server is not run by a minder: its own host keeps it"), "freshkeel log -f")
	}
	release, err := k.in.RunDir().OpenFront(k.in.Self)
	if err != nil {
		return err
	}
	defer release()
	h := k.in.Host()
	heard := make(chan struct{})
	followed, stopFollowing := context.WithCancel(context.WithoutCancel(ctx))
	defer stopFollowing()
	if !h.Status().Running { // what a crash left is settled first: that may start the server, in this process's group
		if _, err := k.Recover(ctx); err != nil {
			if !h.Status().Running {
				return err
			}
			k.in.Warn("%v", err)
		}
	}
	if !h.Status().Running {
		v, err := k.Start(ctx)
		if err == nil && !v.Up {
			err = fmt.Errorf("the server did not come up: %s", v.Why)
		}
		if err != nil {
			return err
		}
	}
	go func() {
		defer close(heard)
		h.Follow(followed, make(chan struct{}), each) // over each exchange, too
	}()
	go func() {
		for lines := bufio.NewScanner(in); lines.Scan(); {
			if err := h.Send(lines.Text()); err != nil {
				k.in.Warn("%v", err)
			}
		}
	}()
	for {
		exit, err := h.Wait(ctx)
		if ctx.Err() != nil {
			_, _, err := k.Stop(context.WithoutCancel(ctx))
			time.Sleep(frontRest) // the last lines
			return err
		}
		if err != nil && !errors.Is(err, host.ErrNotRunning) && exit == nil {
			k.in.Note("%v", err)
		}
		for gone := time.Now(); !h.Status().Running; time.Sleep(frontRest) {
			run, err := k.in.Book.Unfinished()
			switch {
			case err != nil:
				return err
			case ctx.Err() != nil:
				return nil
			case run != nil || k.in.Busy() != "":
				gone = time.Now() // it is being exchanged
			case time.Since(gone) < frontGrace:
			case exit != nil && (exit.Asked || exit.Status == "status 0"):
				return nil
			case exit != nil:
				return fmt.Errorf("the server ended by itself (%s)", exit.Status)
			default:
				return errors.New("the server has ended")
			}
		}
	}
}

const (
	frontRest  = 200 * time.Millisecond
	frontGrace = 2 * time.Second // in which another command may show that it exchanges the server
)

// Rights is a rule of sudo's that lets the install's user start, stop, hear and write the lines of the services
// of this one server, and where it belongs.
func (k *Keel) Rights() (at, text string, err error) {
	e, _, err := tree.Describe(k.Dir, "")
	if err != nil {
		return "", "", err
	}
	if e.UID.Int() == 0 {
		return "", "", errors.New("the install belongs to root, who needs no rule")
	}
	var units []string
	for _, part := range k.in.Parts() {
		if sv := part.Service(); sv != nil && !sv.User && !part.Outside() {
			units = append(units, sv.Name)
		}
	}
	if len(units) == 0 {
		return "", "", tell.Advise(errors.New("no service of the system's runs the server: its user needs no more rights"),
			"[host] unit names one")
	}
	owner := host.OwnerOf(e.UID.Int(), e.GID.Int())
	if err := install.RootsAlone(k.in.Self[0]); err != nil { // else the rule would be root for whoever can
		return "", "", err
	}
	rule, err := host.SudoRule(owner.Name, k.in.Self[0], AnswerWord, k.Dir)
	if err != nil {
		return "", "", err
	}
	at = "/etc/sudoers.d/freshkeel-" + strings.ReplaceAll(plainName(k.Profile.Server.Name), ".",
		"-") // sudo leaves out names with dots
	return at, fmt.Sprintf("# Written by freshkeel unit --rights. It lets %[1]s have root start and stop %[2]s, read their journal, and\n"+
		"# write the two drop-ins of Fresh Keel over them: where they run this server, as %[1]s, and have no more rights.\n"+
		"# %[3]s must be root's, and writable by nobody else.\n%[4]s\n", owner.Name, strings.Join(units, ", "),
		k.in.Self[0], rule), nil
}

// plainName is a server's name as a file or a unit may have it.
func plainName(name string) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || r == '.' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' {
			return r
		}
		return '-'
	}, name)
}

// BootUnit is a unit of the system's service manager that runs the server at boot, in the
// foreground of "freshkeel run", and where it belongs.
func (k *Keel) BootUnit(user bool) (name, text string) {
	name = "freshkeel-" + plainName(k.Profile.Server.Name) + ".service"
	s := k.Profile.Stop
	stop := s.Wait.Std() + s.Terminate.Std() + 30*time.Second
	for _, w := range s.Warnings() {
		stop += w.Before
		break
	}
	owner := ""
	if e, _, err := tree.Describe(k.Dir, ""); err == nil && !user {
		owner = fmt.Sprintf("User=%d\nGroup=%d\n", e.UID.Int(), e.GID.Int())
	}
	wanted := "multi-user.target"
	if user {
		wanted = "default.target"
	}
	return name, fmt.Sprintf(
		`# Written by freshkeel unit. It runs the server at boot, and keeps it while a refit exchanges it.
[Unit]
Description=%s, kept by Fresh Keel
After=network-online.target
Wants=network-online.target

[Service]
%sWorkingDirectory=%s
Environment=%s
ExecStart=%s
# Only the command is told to end: it stops the server by its own line.
KillMode=mixed
TimeoutStopSec=%[6]d
Restart=on-failure
RestartSec=10

[Install]
WantedBy=%[7]s
`,
		host.UnitPath(k.Profile.Server.Name),
		owner,
		host.UnitPath(k.Dir),
		host.UnitLine([]string{"FRESHKEEL_HOME=" + k.in.Home}),
		host.UnitCommand(k.in.Self[0], "-d", k.Dir, "run"),
		int(stop.Seconds()),
		wanted,
	)
}
