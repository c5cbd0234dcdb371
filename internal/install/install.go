// Package install is the folder under care: its paths, its own folder of ours, its
// lock, its identity, its owner, and the home that holds locker and runtimes.
//
// Every room above takes an *Install. It knows nothing of builds, plans or backups.
package install

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Options are what the core needs from outside.
type Options struct {
	Home    string                // holds the locker; see DefaultHome
	Self    []string              // command that becomes a minder: this program and its hidden word
	Apart   []string              // command that shuts a program off: likewise
	Env     []string              // the environment, "NAME=value"
	Observe func(tell.Event)      // hears what happens; may be nil
	Screen  *host.Screen          // the terminal that a person sits at, lent to a command that asks for a sign-in; may be nil
	Parting Parting               // how players are parted from the server before a stop
	Halt    func(at string) error // asked at every step a crash could fall between; for tests, may be nil
}

// Parting is how a command parts players from a server that it stops.
type Parting struct {
	Now       bool          // without a warning
	Reason    string        // that they are told, {reason}
	WhenEmpty bool          // wait until nobody is on
	AtMost    time.Duration // for as long as this; 0: for ever
}

// Install is one install under care.
type Install struct {
	Dir     string // absolute
	Profile *profile.Profile
	Options
	tell.Teller
	Book logbook.Book // every run

	store *locker.Locker
	runs  host.Host // once it was asked for

	part       string // that this is
	outside    bool   // and none of the install's
	parts      []*Install
	all        *Install // of which this is a part, or some; nil: it is all itself
	place      place    // as it is noted
	standing   standing // how that is to where the folder is
	from       string   // where it stands in the note, if elsewhere
	sharesHost bool     // a copy whose profile names the service, or commands, that run the original

	as string // whose backups are read, where it isn't this folder's: see Instead
}

// Open is the install at dir, which must have a profile. The error is a
// profile.ErrNone where it has none, a profile.Error where that can't be read, and a
// tell.Advised where somebody else decides what it says.
func Open(dir string, o Options) (*Install, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	h, done, err := hold(dir)
	if err != nil {
		if _, none := profile.Read(dir); none != nil {
			return nil, none
		}
		return nil, err
	}
	defer done()
	if err := trusted(h, dir); err != nil {
		return nil, err
	}
	p, err := readProfile(h, dir)
	if err != nil {
		return nil, err
	}
	if err := Apart(dir, o.Home); err != nil {
		return nil, err
	}
	in := New(dir, p, o)
	if err := in.apart(); err != nil {
		return nil, err
	}
	readPlace(in)
	tellPlace(in)
	findAgain(in)
	return in, nil
}

// readProfile reads the profile of the folder that was looked at. One that is a link is root's never,
// and another user's own word.
func readProfile(h *tree.Held, dir string) (*profile.Profile, error) {
	if e, _, err := h.Describe(profile.FileName); err == nil && e.Kind == tree.Link {
		return profile.Read(dir)
	}
	return profile.ReadOpen(dir, h.Open)
}

// New is the install at dir with a profile that is known; dir is absolute.
func New(dir string, p *profile.Profile, o Options) *Install {
	in := &Install{Dir: dir, Profile: p, Options: o, Teller: o.Observe}
	in.Book = logbook.Book{Dir: in.State("logbook")}
	tree.Graft(dir, p.Elsewhere)
	return in
}

// Instead has backups read from another locker, where they are kept under an identity.
func (in *Install) Instead(l *locker.Locker, as string) { in.store, in.as = l, as }

// FromCopy tells whether backups are read from another locker: a copy's.
func (in *Install) FromCopy() bool { return in.as != "" }

// State is a path in the install's own folder of ours.
func (in *Install) State(elem ...string) string {
	return filepath.Join(append([]string{in.Dir, tree.StateFolder}, elem...)...)
}

// RunDir is where the minder keeps the socket, the console and the server's state.
func (in *Install) RunDir() host.Dir {
	if in.standing == copied { // what is in the folder is the original's
		return host.Dir(in.State("run-copied"))
	}
	if in.part != "" { // beside it, as deep: a minder finds its install by that
		return host.Dir(in.State("run-" + in.part))
	}
	return host.Dir(in.State("run"))
}

// Parts are the parts of the server in the order in which they are started, each as an install
// of which it is the server; a server without parts is its own only one.
func (in *Install) Parts() []*Install {
	if len(in.Profile.Parts) == 0 {
		return []*Install{in}
	}
	if in.parts == nil {
		for _, part := range in.Profile.Parts {
			one := *in
			one.Profile, one.part, one.outside, one.runs = in.Profile.Part(part), part.Name, part.Outside, nil
			one.parts, one.all = nil, in.All()
			in.parts = append(in.parts, &one)
		}
	}
	return in.parts
}

// All is the install of which this is a part, or some parts.
func (in *Install) All() *Install {
	if in.all != nil {
		return in.all
	}
	return in
}

// Choose makes patterns that a person typed those of the files that stand here. One that matches nothing is a
// tell.Usage.
func (in *Install) Choose(typed ...*tree.Patterns) error {
	var list tree.List
	for _, pats := range typed {
		if len(*pats) == 0 {
			continue
		}
		var err error
		if list == nil {
			if list, err = tree.Walk(in.Dir, nil); err != nil {
				return err
			}
		}
		if *pats, err = tree.Chosen(*pats, in.Dir, list.Each(), words.Near); err != nil {
			return tell.Misuse(err.Error(), "ls "+words.Shell(in.Dir))
		}
	}
	return nil
}

// Only is the install with some of its parts for a server: what is started, watched and stopped
// is those, and the rest runs on. Players hear the last part: where that runs on, nobody is
// warned or waited for. Names that the profile does not have any more leave all.
func (in *Install) Only(names []string) *Install {
	one, p := *in, *in.Profile
	one.Profile, one.parts, one.runs, one.all = &p, nil, nil, in.All()
	p.Parts = nil
	own := false
	for _, part := range in.Profile.Parts {
		if part.Outside || slices.Contains(names, part.Name) {
			p.Parts, own = append(p.Parts, part), own || !part.Outside
		}
	}
	if !own {
		return in
	}
	if !slices.Contains(names, in.Profile.LastPart().Name) {
		p.Stop.Warn, p.Stop.Tell, p.Stop.Off, one.Parting.WhenEmpty = nil, "", "", false
	}
	return &one
}

// Rest are the parts that run on: see Only.
func (in *Install) Rest() (out []*Install) {
	for _, part := range in.All().Parts() {
		here := func(o *Install) bool { return o.part == part.part }
		if !part.outside && !slices.ContainsFunc(in.Parts(), here) {
			out = append(out, part)
		}
	}
	return out
}

// PartName is the part that this is; "" for a whole server.
func (in *Install) PartName() string { return in.part }

// Outside tells whether this is a part that is none of the install's.
func (in *Install) Outside() bool { return in.outside }

// Host is what runs the server, by the profile.
func (in *Install) Host() host.Host {
	h := in.Profile.Host
	switch {
	case in.runs != nil:
	case in.sharesHost:
		in.runs = in.RunDir()
	case len(in.Profile.Parts) > 0:
		var own []host.Named
		for _, part := range in.Parts() {
			if !part.outside {
				own = append(own, host.Named{Name: part.part, Host: part.Host()})
			}
		}
		in.runs = host.Together(own)
	case h.Kind == profile.ByService:
		sv := host.OpenService(h.Unit, h.User, h.Console, h.Say, in.ServerEnv(), in.Dir)
		sv.Log, sv.Listen = in.plainLog(), h.Follow
		in.runs = sv
	case h.Kind == profile.ByCommands:
		c := &host.Commands{Install: in.Dir, Begin: h.Start, End: h.Stop, Look: h.Status, Listen: h.Follow,
			Console: h.Console, Say: h.Say, Env: in.ServerEnv(), Log: in.plainLog()}
		in.runs = c
	default:
		in.runs = in.RunDir()
	}
	return in.runs
}

// plainLog is the log that the profile names, where it is one file; "" otherwise.
func (in *Install) plainLog() string {
	log := in.Profile.Ready.Log
	if log == "" || strings.ContainsAny(log, "*?[{") {
		return ""
	}
	return in.Path(log)
}

// Script is what starts the server: the launch script, or of a service what its unit runs. under
// gives texts that some files will have; it may be nil.
func (in *Install) Script(under launch.Texts) *launch.Script {
	s := &launch.Script{Install: in.Dir, Name: in.Profile.Launch.Script, Env: in.ServerEnv(), Args: in.Profile.Launch.Args,
		Under: under}
	sv := in.Service()
	if sv == nil {
		return s
	}
	u, err := sv.Unit()
	if err != nil {
		return s
	}
	of := *s
	of.Name, of.Label, of.Lines, of.Dir = "", u.Name, u.Lines, u.Dir
	of.Env = slices.Concat(pathOf(s.Env), u.Env, u.EnvOfFiles())
	// A script that the profile names counts only where the unit's own line leads nowhere that
	// can be read: what the unit runs is what starts the server.
	if commands, err := of.Commands(); s.Name != "" && (err != nil || len(commands) == 0) {
		return s
	}
	return &of
}

// pathOf is the search path of an environment: a service has its own of the rest.
func pathOf(env []string) []string {
	return slices.DeleteFunc(slices.Clone(env), func(kv string) bool { return !strings.HasPrefix(kv, "PATH=") })
}

// Launched are the commands that start the server, as they are now.
func (in *Install) Launched() (out []launch.Command, err error) {
	for _, part := range in.Parts() {
		s := part.Script(nil)
		if part.outside || (s.Name == "" && len(s.Lines) == 0) {
			continue
		}
		commands, err := s.Commands()
		if err != nil {
			return nil, err
		}
		out = append(out, commands...)
	}
	return out, nil
}

// Service is the unit that runs the server; nil where none does.
func (in *Install) Service() *host.Service {
	s, _ := in.Host().(*host.Service)
	return s
}

// Reline is how the service that runs the server comes to run other words, and the line that says
// them; the error tells why that can't be written from here.
func (in *Install) Reline(words []string) (l logbook.Lined, line string, err error) {
	sv, line := in.Service(), host.UnitLine(words)
	if err := sv.MayWrite(); err != nil {
		return l, line, err
	}
	o, err := sv.Over()
	if err != nil {
		return l, line, err
	}
	return logbook.Lined{Unit: sv.Name, User: sv.User, File: o.File, Was: o.Words, Now: words}, line, nil
}

// Minded tells whether a minder of ours runs the server.
func (in *Install) Minded() bool {
	return len(in.Profile.Parts) == 0 && (in.Profile.Host.Kind == "" || in.Profile.Host.Kind == profile.ByMinder)
}

// Run is the folder in which one run stages and keeps files.
func (in *Install) Run(id string) swap.Run {
	return swap.Run{Root: in.Dir, Dir: in.State("refits", id)}
}

// Locker is the locker that builds and backups stand in, opened once.
func (in *Install) Locker() (*locker.Locker, error) {
	if in.store == nil {
		l, err := locker.Open(filepath.Join(in.Home, "locker"))
		if err != nil {
			return nil, err
		}
		in.store = l
	}
	return in.store, nil
}

// Identity is the install's own, under which its backups are kept.
func (in *Install) Identity() (string, error) {
	if in.as != "" {
		return in.as, nil
	}
	path := in.State("identity")
	if id, n, newest := lost(in); n > 0 {
		if err := tree.MakeDirs(in.State(), 0o700); err != nil {
			return "", err
		}
		if err := tree.WriteFile(path, []byte(id+"\n"), 0o600); err != nil {
			return "", err
		}
		tellLost(in, n, newest)
		return id, nil
	}
	if b, err := tree.ReadOwn(path); err == nil && len(strings.TrimSpace(string(b))) > 0 {
		return strings.TrimSpace(string(b)), nil
	}
	if err := tree.MakeDirs(in.State(), 0o700); err != nil {
		return "", err
	}
	id := newIdentity()
	return id, tree.WriteFile(path, []byte(id+"\n"), 0o600)
}

func newIdentity() string {
	var b [6]byte
	rand.Read(b[:])
	return "server-" + hex.EncodeToString(b[:])
}

// Halt is asked at every step a crash could fall between: see Options.
func (in *Install) Halt(at string) error {
	if in.Options.Halt == nil {
		return nil
	}
	return in.Options.Halt(at)
}

// Exists tells whether something stands at a path of the install.
func (in *Install) Exists(p string) bool {
	_, err := os.Lstat(in.Path(p))
	return !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR) // which is "file/sub"
}

// Open opens a file of the install to be read, no link being followed.
func (in *Install) Open(p string) (*os.File, error) {
	root, err := tree.OpenRoot(in.Dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.Open(p)
}

// Path is the full path of a path of the install.
func (in *Install) Path(p string) string { return tree.Full(in.Dir, p) }

// MaxScript bounds a script or a text of the install that is read whole, in bytes.
const MaxScript = 16 << 20

// LeadsOut tells whether a link of the install leads out of it, all links on the way
// followed.
func (in *Install) LeadsOut(e tree.Entry) bool {
	to := e.Target
	if !filepath.IsAbs(to) {
		// and not cleaned: a link may stand before a ".."
		to = filepath.Dir(in.Path(e.Path)) + string(filepath.Separator) + to
	}
	to = tree.Real(to)
	for _, folder := range in.Profile.Elsewhere {
		if tree.Inside(tree.Real(folder), to) {
			return false
		}
	}
	return !tree.Inside(tree.Real(in.Dir), to)
}

// ServerEnv is the environment that the server gets.
func (in *Install) ServerEnv() []string { return host.ServerEnv(in.Env, in.Profile.Launch.Pass) }
