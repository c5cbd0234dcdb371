// Package profile reads freshkeel.toml: what is known about one server.
package profile

import (
	"bytes"
	"cmp"
	"encoding"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshkeel/internal/logline"
	"freshkeel/internal/store"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"

	"github.com/pelletier/go-toml/v2"
)

// FileName is the profile's name in the install.
const FileName = "freshkeel.toml"

// Profile is freshkeel.toml, read and checked.
type Profile struct {
	Server Server            `toml:"server"`
	Source Source            `toml:"source"`
	Layers []Layer           `toml:"layer"` // laid over the build in this order
	Logins []Login           `toml:"login"`
	Place  map[string]string `toml:"place"`
	// folders that belong to the server and stand outside of its own: the name that each has
	// in the install, and its full path
	Elsewhere  tree.Elsewhere `toml:"elsewhere"`
	Host       Host           `toml:"host"`
	Runtime    Runtime        `toml:"runtime"`
	Launch     Launch         `toml:"launch"`
	Addons     Addons         `toml:"addons"`
	Carry      []Carry        `toml:"carry"` // what is carried over into the settings of a new build
	Backup     Backup         `toml:"backup"`
	Copy       Copy           `toml:"copy"`
	Data       []Data         `toml:"data"`
	Parts      []Part         `toml:"part"`      // in the order in which they are started, once it was checked
	Migrations []Migration    `toml:"migration"` // in the order in which they are run
	Stop       Stop           `toml:"stop"`
	Players    Players        `toml:"players"`
	Ready      Ready          `toml:"ready"`
}

// Server names the server and sorts its files by whose they are.
type Server struct {
	Name     string        `toml:"name"`
	Keep     tree.Patterns `toml:"keep"`     // the operator's: worlds, lists
	Settings tree.Patterns `toml:"settings"` // the operator's too, but tied to the build: they go back with it
	Skip     tree.Patterns `toml:"skip"`     // neither replaced nor backed up
	Consent  []string      `toml:"consent"`  // files in which the makers may ask for a consent that is given
}

// Own tells whether path is the operator's own: no build ever replaces it.
func (s Server) Own(path string) bool {
	return path == FileName || s.Keep.Match(path) || s.Settings.Match(path)
}

// Runtime is where to look for runtimes besides PATH and JAVA_HOME.
type Runtime struct {
	Search []string `toml:"search"`
	// which one the launch script is to run, where several fit: a release ("21"), a range
	// (">=21 <25"), or a program with its full path
	Use string `toml:"use"`
}

// Addons is where add-ons lie, and how each says which versions it fits.
type Addons struct {
	Files      tree.Patterns `toml:"files"`      // each add-on: a jar, a zip, or a folder
	Descriptor string        `toml:"descriptor"` // the file in it that describes it
	Name       string        `toml:"name"`       // fields of that, dotted where they lie deeper
	Version    string        `toml:"version"`
	Fits       string        `toml:"fits"` // which versions of the build it fits
	// what a version alone means there: "that" (and what begins with it), or "at-least"
	Bare string `toml:"bare"`
}

// These say what a version alone means where an add-on says which versions it fits.
const (
	BareThat    = "that"     // that version, and those that begin with it
	BareAtLeast = "at-least" // that version and newer
)

// Carry is how one file of settings comes along to a new build.
type Carry struct {
	File string `toml:"file"` // path in the install, or a pattern
	// where its default is: "" in the build under its own name or one of those usual for it,
	// "written" by the server's first start, else a path in the build
	Defaults string            `toml:"defaults"`
	Merge    *bool             `toml:"merge"`  // false: the file stays as it is
	Always   map[string]string `toml:"always"` // key = value that is set, whoever says otherwise; {version} is filled in
	Never    tree.Patterns     `toml:"never"`  // keys whose values are not carried
	Rename   map[string]string `toml:"rename"` // old key = new key
	Stop     bool              `toml:"stop"`   // a doubt stops the refit
}

// Written is the kind of default that a server writes at its first start.
const Written = "written"

// CarryOf is the rule for a file of settings: the first that names it.
func (p *Profile) CarryOf(at string) Carry {
	for _, c := range p.Carry {
		if (tree.Patterns{c.File}).Match(at) {
			return c
		}
	}
	return Carry{}
}

// Data is what the server keeps outside its folder: a database. Its dump is part
// of each backup, and a rollback loads it back.
type Data struct {
	Name  string   `toml:"name"`
	Dump  []string `toml:"dump"`  // program and arguments; its standard output is the dump
	Load  []string `toml:"load"`  // gets the dump on its standard input, and puts it in place of what is there
	Check []string `toml:"check"` // instead of the dump's first bytes: ends with status 0 where a dump can be taken
	Env   []string `toml:"env"`   // NAME=value; of secrets a file's name, not the secret
	Limit Duration `toml:"limit"` // how long either may take
}

// Backup is how backups are taken of a running server, and which are kept.
type Backup struct {
	Before []string `toml:"before"` // console lines before: save, and pause saving
	Saved  Pattern  `toml:"saved"`  // the console line that says it is done
	Wait   Duration `toml:"wait"`   // how long that is waited for; without it, the pause
	After  []string `toml:"after"`  // console lines after: they are sent whatever happens
	Last   int      `toml:"last"`   // how many to keep: the newest,
	Days   int      `toml:"days"`   // and of so many days,
	Weeks  int      `toml:"weeks"`  // weeks
	Months int      `toml:"months"` // and months the newest
}

// Copy is a second copy of the backups in another place.
type Copy struct {
	To         string   `toml:"to"`         // a folder, or s3+https://HOST/BUCKET/PREFIX
	Recipients []string `toml:"recipients"` // age public keys that it is encrypted for
	ByHand     bool     `toml:"by_hand"`    // only «backup push» writes to it
	Last       int      `toml:"last"`       // how many it keeps, as Backup's; all zero: all
	Days       int      `toml:"days"`
	Weeks      int      `toml:"weeks"`
	Months     int      `toml:"months"`
}

// Migration is what a build's makers want done to data between two builds: after the swap, and
// before the new build is started.
type Migration struct {
	Name    string            `toml:"name"`
	When    string            `toml:"when"` // "<3.6 -> >=3.6": what the step crosses; or "each"
	Docs    string            `toml:"docs"` // where its makers say so
	Run     []string          `toml:"run"`  // program and arguments; {from} and {to} are filled in
	File    string            `toml:"file"` // of the install, fed to run on its standard input: SQL, say
	Page    string            `toml:"page"` // instead: the makers' own installer page, on this machine
	Choice  map[string]string `toml:"choice"`
	Form    map[string]string `toml:"form"`
	Secrets map[string]string `toml:"secrets"` // field of the form = host of a login
	Success Pattern           `toml:"success"` // of a line of what it says
	Fail    Patterns          `toml:"fail"`
	Limit   Duration          `toml:"limit"`
	Env     []string          `toml:"env"`
	Up      []string          `toml:"up"`   // parts that must be up meanwhile
	Down    []string          `toml:"down"` // and down
	// a command that asks the data whether it has had this: 0 it has, 1 it has not, else it is not known
	Done []string `toml:"done"`
	// whether a refit is refused where no [[data]] can bring back what it changes
	MustGoBack bool `toml:"must_go_back"`
}

// EachTime is When of a migration that each refit runs.
const EachTime = "each"

// Loopback tells whether a host is this machine.
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || (ip != nil && ip.IsLoopback())
}

// checkMigrations checks what is to be done between builds.
func (p *Profile) checkMigrations(bad func(key, why string) error) error {
	part := func(name string) bool {
		return slices.ContainsFunc(p.Parts, func(o Part) bool { return o.Name == name })
	}
	for i := range p.Migrations {
		m := &p.Migrations[i]
		m.Limit = cmp.Or(m.Limit, Duration(10*time.Minute))
		if m.Name == "" || slices.ContainsFunc(p.Migrations[:i], func(o Migration) bool { return o.Name == m.Name }) {
			return bad("migration.name", fmt.Sprintf("%q: each needs a name of its own", m.Name))
		}
		before, after, crosses := strings.Cut(m.When, "->")
		if m.When != EachTime && (!crosses || strings.TrimSpace(before) == "" || strings.TrimSpace(after) == "" ||
			version.CheckRange(before) != nil || version.CheckRange(after) != nil) {
			return bad(
				"migration.when",
				fmt.Sprintf("%q: write which versions are crossed, as in \"<3.6 -> >=3.6\", or \"each\"",
					m.When),
			)
		}
		if (len(m.Run) == 0) == (m.Page == "") {
			return bad("migration.run", m.Name+": it has either a command, run, or the address of a page")
		}
		if m.File != "" && (len(m.Run) == 0 || !tree.Local(m.File)) {
			return bad("migration.file", m.Name+": a file of the install goes with the command that it is fed to, run")
		}
		if m.Page != "" {
			at, err := url.Parse(m.Page)
			if err != nil || (at.Scheme != "http" && at.Scheme != "https") || !Loopback(at.Hostname()) {
				return bad("migration.page", fmt.Sprintf("%q is no http address of this machine", m.Page))
			}
			if !m.Success.Given() {
				return bad("migration.success", m.Name+": what its page says once it is done must be known")
			}
		}
		for _, l := range m.Secrets {
			if !slices.ContainsFunc(p.Logins, func(o Login) bool { return o.Host == l }) {
				return bad("migration.secrets", fmt.Sprintf("there is no [[login]] with the host %q", l))
			}
		}
		for _, name := range append(slices.Clone(m.Up), m.Down...) {
			if !part(name) {
				return bad("migration.up", fmt.Sprintf("there is no part %q", name))
			}
		}
	}
	return nil
}

// Launch is how the server is started.
type Launch struct {
	Script string   `toml:"script"` // path in the install
	Args   []string `toml:"args"`
	// names of the environment's variables that the server gets besides those it always does
	Pass []string `toml:"pass"`

	// What a refit writes into the script where it says otherwise:
	Memory      string   `toml:"memory"`       // the greatest heap of its runtime, "20G"
	FirstMemory string   `toml:"first_memory"` // the heap that it begins with
	Flags       []string `toml:"flags"`        // of the runtime, in front of what it runs
	With        []string `toml:"with"`         // arguments of the server: a word, or a name and its value
	Without     []string `toml:"without"`      // words that must not be there; one may end in *
	Folder      string   `toml:"folder"`       // that the server runs in; "." is the install
	Background  *bool    `toml:"background"`   // false: no & behind the server
	Pause       *bool    `toml:"pause"`        // false: no key is waited for once it has ended
}

// Host is what runs the server: Fresh Keel's minder, a unit of the system's service manager, or
// the operator's own commands.
type Host struct {
	Kind    string   `toml:"kind"`    // minder (also ""), service or commands
	Unit    string   `toml:"unit"`    // of a service: its name
	User    bool     `toml:"user"`    // of a service: it is one of the user's own manager
	Console string   `toml:"console"` // the named pipe or socket that is its standard input: a full path
	Say     []string `toml:"say"`     // instead: a command that gives its console a {line}
	Start   []string `toml:"start"`   // of commands: program and arguments, run in the install
	Stop    []string `toml:"stop"`
	Status  []string `toml:"status"` // ends with status 0 where the server runs
	// of a minder: "after-crash" starts a server again that ended by itself, and not well; after
	// a pause that doubles with each, and no more often than Crashes in Within
	Restart string   `toml:"restart"`
	Pause   Duration `toml:"pause"`
	Crashes int      `toml:"crashes"`
	Within  Duration `toml:"within"`
	Rights  string   `toml:"rights"` // of a service: "sudo": a rule of sudo's lets the user manage it
	Follow  []string `toml:"follow"` // prints what the server says, for as long as it runs
}

// Part is one of a server's processes, or groups of them: login, world, web, database. Each is
// run, seen up and stopped by itself.
type Part struct {
	Name    string   `toml:"name"`
	After   []string `toml:"after"`   // parts that must be up before it
	Outside bool     `toml:"outside"` // it is no part of the install: it runs on, and must be up
	// what it alone reads and writes of the install. A refit that changes nothing else stops this
	// part, and those after it, and lets the others run on
	Files  tree.Patterns `toml:"files"`
	Host   Host          `toml:"host"`
	Launch Launch        `toml:"launch"`
	Stop   Stop          `toml:"stop"`
	Ready  Ready         `toml:"ready"`
}

// Part is the profile of one part by itself.
func (p *Profile) Part(part Part) *Profile {
	one := *p
	one.Parts = nil
	one.Host, one.Launch, one.Stop, one.Ready = part.Host, part.Launch, part.Stop, part.Ready
	one.Server.Name = p.Server.Name + "/" + part.Name
	return &one
}

// Alone names the parts that must stop where paths of the install change, and the lines of some
// parts' services: those whose files these are, and those that come after them. It is nil where
// all must: a path is no part's alone, or of a part that would stop it is not known what it
// reads and writes.
func (p *Profile) Alone(paths, lined []string) (names []string) {
	stops := map[string]bool{}
	for _, name := range lined {
		stops[name] = true
	}
	for _, at := range paths {
		owned := false
		for _, part := range p.Parts {
			if !part.Outside && (part.Files.Match(at) || part.Files.Match(at+"/x")) {
				owned, stops[part.Name] = true, true
			}
		}
		if !owned {
			return nil
		}
	}
	all := true
	for _, part := range p.Parts { // in their order: one after a part that stops comes behind it
		if part.Outside {
			continue
		}
		if slices.ContainsFunc(part.After, func(name string) bool { return stops[name] }) {
			stops[part.Name] = true
		}
		if !stops[part.Name] {
			all = false
			continue
		}
		if len(part.Files) == 0 {
			return nil
		}
		names = append(names, part.Name)
	}
	if all {
		return nil
	}
	return names
}

// LastPart is the part that is started last, of those that are the install's: what is said to, and
// heard of, the server as a whole is said to that.
func (p *Profile) LastPart() Part {
	for _, part := range slices.Backward(p.Parts) {
		if !part.Outside {
			return part
		}
	}
	return p.Parts[len(p.Parts)-1]
}

// FilesOf are the files of some parts.
func (p *Profile) FilesOf(names []string) (files tree.Patterns) {
	for _, part := range p.Parts {
		if slices.Contains(names, part.Name) {
			files = append(files, part.Files...)
		}
	}
	return files
}

// Scripts are the launch scripts of the server, or of its parts.
func (p *Profile) Scripts() (out []string) {
	for _, part := range p.Parts {
		if s := part.Launch.Script; s != "" && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	if p.Launch.Script != "" {
		out = append(out, p.Launch.Script)
	}
	return out
}

// Starts tells whether a file is a launch script of the server, or of one of its parts.
func (p *Profile) Starts(at string) bool { return at != "" && slices.Contains(p.Scripts(), at) }

// AfterCrash is Restart of a server that is started again when it crashed.
const AfterCrash = "after-crash"

// BySudo is Rights of a service that a rule of sudo's lets the user manage.
const BySudo = "sudo"

// These are the kinds of hosts.
const (
	ByMinder   = "minder"
	ByService  = "service"
	ByCommands = "commands"
)

// Stop is how it is ended: its own console line first, signals to its own
// process tree after.
type Stop struct {
	Tell string `toml:"tell"` // console line that warns the players
	// how long before the stop = console line, with {left}, {version} and {reason} filled in
	Warn      map[string]string `toml:"warn"`
	Off       string            `toml:"off"`       // console line that says that the stop is off
	Notice    Duration          `toml:"notice"`    // between the warning and the stop line
	Send      string            `toml:"send"`      // console line that ends the server
	Try       []string          `toml:"try"`       // lines of which one may end it: tried at a stop until one is proven
	Wait      Duration          `toml:"wait"`      // how long the stop line is given
	Terminate Duration          `toml:"terminate"` // how long the terminate signal is given; 0: not sent
	Kill      *bool             `toml:"kill"`      // whether to kill what is left then
}

// Warnings are the lines of Warn, the earliest first.
func (s Stop) Warnings() (out []Warning) {
	for before, line := range s.Warn {
		if d, err := time.ParseDuration(before); err == nil {
			out = append(out, Warning{d, line})
		}
	}
	slices.SortFunc(out, func(a, b Warning) int { return cmp.Compare(b.Before, a.Before) })
	return out
}

// Warning is a console line some time before a stop.
type Warning struct {
	Before time.Duration
	Line   string
}

// Players is how to ask the console how many are on.
type Players struct {
	Ask    string   `toml:"ask"`    // console line
	Answer Pattern  `toml:"answer"` // of its answer; the first group is their number
	Wait   Duration `toml:"wait"`   // how long the answer may take
	// addresses whose connections to the server's ports are no player's: a proxy that always stands
	Proxies []string `toml:"proxies"`
}

// MayKill tells whether what outlives the terminate signal is killed.
func (s Stop) MayKill() bool { return s.Kill == nil || *s.Kill }

// Ready is how to tell that the server came up.
type Ready struct {
	Log     string   `toml:"log"`     // the file of the install in which its lines stand, if not the console; may have *
	Line    Patterns `toml:"line"`    // any of them
	Version Patterns `toml:"version"` // the first group of each is the version
	Fail    Patterns `toml:"fail"`
	Within  Duration `toml:"within"`
	Steady  Duration `toml:"steady"`
	Port    Port     `toml:"port"`  // one port, or
	Ports   []Port   `toml:"ports"` // several: each must be held
	// whether a line that does not come means that the server did not come up; where it is
	// not said, a rule that a good start has proven must hold, and any other one warns
	Strict *bool `toml:"strict"`
}

// Held are all ports that the server must hold.
func (r Ready) Held() []Port {
	if !r.Port.Given() || slices.Contains(r.Ports, r.Port) {
		return r.Ports
	}
	return append([]Port{r.Port}, r.Ports...)
}

// DefaultWithin is how long a ready line is waited for where the profile does not say.
const DefaultWithin = Duration(2 * time.Minute)

// Duration is a Go duration in a TOML string: "90s", "2m".
type Duration time.Duration

func (d *Duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	if err != nil || v < 0 {
		return fmt.Errorf("%q is not a length of time: write it as \"90s\" or \"2m\"", b)
	}
	*d = Duration(v)
	return nil
}

func (d Duration) String() string     { return time.Duration(d).String() }
func (d Duration) Std() time.Duration { return time.Duration(d) }

// Pattern is a regular expression (RE2 syntax) over one line of the console.
type Pattern struct{ *regexp.Regexp }

func (p *Pattern) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		return nil
	}
	re, err := regexp.Compile(string(b))
	if err != nil {
		return fmt.Errorf("%q is not a regular expression: %v", b, err)
	}
	p.Regexp = re
	return nil
}

func (p Pattern) MarshalText() ([]byte, error) {
	if p.Regexp == nil {
		return nil, nil
	}
	return []byte(p.Regexp.String()), nil
}

// Given tells whether the profile has a rule here.
func (p Pattern) Given() bool { return p.Regexp != nil }

// Patterns are patterns of which any may match: one string in TOML, or a list.
type Patterns []Pattern

// badValue is a value that UnmarshalTOML could not read.
type badValue struct {
	text string // as it is written
	err  error
}

func (b *badValue) Error() string { return b.err.Error() }

// UnmarshalTOML reads a string or a list of strings.
func (p *Patterns) UnmarshalTOML(data []byte) error {
	if !bytes.ContainsAny(bytes.TrimSpace(data)[:min(1, len(bytes.TrimSpace(data)))], "'\"[") {
		return &badValue{string(data), errors.New("it is neither a text in quotes nor a list of such")}
	}
	wrapped := append([]byte("V = "), data...)
	var one struct{ V Pattern }
	var list struct{ V []Pattern }
	err := toml.Unmarshal(wrapped, &one)
	switch {
	case bytes.HasPrefix(bytes.TrimSpace(data), []byte("[")):
		if err = toml.Unmarshal(wrapped, &list); err == nil {
			*p = slices.DeleteFunc(list.V, func(p Pattern) bool { return !p.Given() })
			return nil
		}
	case err == nil:
		*p = nil
		if one.V.Given() {
			*p = Patterns{one.V}
		}
		return nil
	}
	return &badValue{string(data), err}
}

// Given tells whether the profile has a rule here.
func (p Patterns) Given() bool { return len(p) > 0 }

// Match is the first pattern that a line matches, and its groups; nil for none.
func (p Patterns) Match(line string) (by *Pattern, groups []string) {
	for i := range p {
		if m := p[i].FindStringSubmatch(line); m != nil {
			return &p[i], m
		}
	}
	return nil, nil
}

// In is Match for a line of a server: held against it less its front, and as a whole.
func (p Patterns) In(l logline.Line) (by *Pattern, groups []string) {
	for i := range p {
		if m := l.Find(p[i]); m != nil {
			return &p[i], m
		}
	}
	return nil, nil
}

func (p Patterns) String() string {
	var all []string
	for _, one := range p {
		all = append(all, words.Quote(one.String()))
	}
	return strings.Join(all, " or ")
}

// Port is "udp/27750" or "tcp/25000". The zero Port is none.
type Port struct {
	Net    string
	Number int
}

func (p *Port) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		return nil
	}
	kind, num, _ := strings.Cut(string(b), "/")
	n, err := strconv.Atoi(num)
	if (kind != "tcp" && kind != "udp") || err != nil || n < 1 || n > 65535 {
		return fmt.Errorf("%q is not a port: write it as \"udp/27750\" or \"tcp/27750\"", b)
	}
	*p = Port{kind, n}
	return nil
}

// MarshalText writes it as it is read; the zero Port is "".
func (p Port) MarshalText() ([]byte, error) {
	if !p.Given() {
		return nil, nil
	}
	return []byte(p.String()), nil
}

func (p Port) Given() bool    { return p.Number != 0 }
func (p Port) String() string { return p.Net + "/" + strconv.Itoa(p.Number) }

// Error is a profile that can't be used, with the place to mend.
type Error struct {
	File string
	Line int    // 0: not known
	Key  string // dotted
	Why  string
	Near string // nearest known key, or ""
}

func (e *Error) Error() string {
	var b strings.Builder
	b.WriteString(e.File)
	if e.Line > 0 {
		fmt.Fprintf(&b, ":%d", e.Line)
	}
	if e.Key != "" {
		fmt.Fprintf(&b, ": %s", e.Key)
	}
	fmt.Fprintf(&b, ": %s", e.Why)
	if e.Near != "" {
		fmt.Fprintf(&b, "; did you mean %s?", e.Near)
	}
	return b.String()
}

// ErrNone says that a folder has no profile.
var ErrNone = errors.New("no " + FileName)

// mostValues bounds how many values a profile has: the library that reads it takes four times as long for
// twice as many.
const mostValues = 30000

// maxProfile bounds a profile, in bytes: one is written by hand.
const maxProfile = 4 << 20

// Read reads and checks the profile of the install at dir.
func Read(dir string) (*Profile, error) {
	return ReadOpen(dir, func(name string) (*os.File, error) { return tree.OpenRegular(filepath.Join(dir, name)) })
}

// ReadOpen is Read for a folder that is held open: open opens a regular file of it. dir is for
// errors alone.
func ReadOpen(dir string, open func(name string) (*os.File, error)) (*Profile, error) {
	f, err := open(FileName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w in %s", ErrNone, dir)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	path := filepath.Join(dir, FileName)
	b, err := tree.ReadOpenUpTo(f, maxProfile)
	if err != nil {
		return nil, err
	}
	return Parse(path, b)
}

// Parse reads a profile's text; path is only for its errors, which are *Error.
func Parse(path string, b []byte) (*Profile, error) {
	if n := bytes.Count(b, []byte("=")); n > mostValues {
		return nil, &Error{File: path, Why: fmt.Sprintf("it has %d values, and %d is the most that is read in reasonable time: use "+
			"patterns for files", n, mostValues)}
	}
	p := &Profile{
		Stop:    Stop{Wait: Duration(time.Minute), Terminate: Duration(20 * time.Second)},
		Backup:  Backup{Wait: Duration(10 * time.Second)},
		Players: Players{Wait: Duration(5 * time.Second)},
		Ready:   Ready{Within: DefaultWithin, Steady: Duration(5 * time.Second)},
	}
	d := toml.NewDecoder(bytes.NewReader(b)).DisallowUnknownFields().EnableUnmarshalerInterface()
	if err := d.Decode(p); err != nil {
		return nil, explain(path, b, err)
	}
	if err := unitless(path, b); err != nil {
		return nil, err
	}
	if err := p.check(path, b); err != nil {
		return nil, err
	}
	return p, nil
}

// unitless finds a length of time that is written as a bare number, which the decoder
// takes for nanoseconds.
func unitless(path string, text []byte) error {
	var raw map[string]any
	if err := toml.Unmarshal(text, &raw); err != nil {
		return explain(path, text, err)
	}
	key, value := bareTime(reflect.TypeFor[Profile](), raw, "")
	if key == "" {
		return nil
	}
	return &Error{File: path, Line: lineOf(text, key), Key: key,
		Why: fmt.Sprintf("%v is a number without a unit: write it as \"%vs\" for seconds, or \"2m\"", value, value)}
}

// bareTime is the first key of a table, by name, that is a Duration and has a number.
func bareTime(t reflect.Type, raw map[string]any, prefix string) (key string, value any) {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	for i := range t.NumField() {
		name, ft := t.Field(i).Tag.Get("toml"), t.Field(i).Type
		for ft.Kind() == reflect.Pointer || ft.Kind() == reflect.Slice {
			ft = ft.Elem()
		}
		switch v := raw[name].(type) {
		case int64, float64:
			if ft == reflect.TypeFor[Duration]() {
				return prefix + name, v
			}
		case map[string]any:
			if ft.Kind() == reflect.Struct {
				if key, value = bareTime(ft, v, prefix+name+"."); key != "" {
					return key, value
				}
			}
		case []any:
			for _, one := range v {
				if in, ok := one.(map[string]any); ok && ft.Kind() == reflect.Struct {
					if key, value = bareTime(ft, in, prefix+name+"."); key != "" {
						return key, value
					}
				}
			}
		}
	}
	return "", nil
}

// Reserved tells whether a path of an install is Fresh Keel's own: what a build,
// an archive or a layer has there belongs to another install, and is never laid out.
func Reserved(at string) bool { return tree.Ours(at) || strings.EqualFold(at, FileName) }

func (p *Profile) check(path string, text []byte) error {
	bad := func(key, why string) error {
		return &Error{File: path, Line: lineOf(text, key), Key: key, Why: why}
	}
	for key, pats := range map[string]tree.Patterns{"server.keep": p.Server.Keep, "server.settings": p.Server.Settings,
		"server.skip": p.Server.Skip, "addons.files": p.Addons.Files} {
		if err := pats.Check(); err != nil {
			return bad(key, err.Error())
		}
	}
	if err := p.checkElsewhere(bad); err != nil {
		return err
	}
	if err := p.checkPlace(bad); err != nil {
		return err
	}
	if p.Launch.Script != "" && !tree.Local(p.Launch.Script) {
		return bad("launch.script", fmt.Sprintf("%q is not a path in the install", p.Launch.Script))
	}
	if err := p.checkRunning(bad); err != nil {
		return err
	}
	if len(p.Addons.Files) > 0 && (p.Addons.Descriptor == "" || p.Addons.Fits == "") {
		return bad("addons.files", "descriptor and fits are missing: the file in each add-on that describes it, and "+
			"its field that says which versions it fits")
	}
	if b := p.Addons.Bare; b != "" && b != BareThat && b != BareAtLeast {
		return bad("addons.bare", fmt.Sprintf("%q is neither %q (a version alone fits that version) nor %q (that "+
			"version and newer)", b, BareThat, BareAtLeast))
	}
	if err := p.checkLists(bad); err != nil {
		return err
	}
	for _, l := range append(slices.Clone(p.Backup.Before), p.Backup.After...) {
		if l == "" || strings.ContainsAny(l, "\r\n") {
			return bad("backup.before", fmt.Sprintf("%q is not one line", l))
		}
	}
	if to := p.Copy.To; store.IsAddress(to) {
		if _, err := store.ParseAddress(to); err != nil {
			return bad("copy.to", err.Error())
		}
	} else if to != "" && !filepath.IsAbs(to) && !strings.HasPrefix(to, "~/") {
		return bad("copy.to", fmt.Sprintf("%q is neither a folder with its whole path nor an object store, "+
			"s3+https://HOST/BUCKET/PREFIX", to))
	}
	for _, r := range p.Copy.Recipients {
		if err := store.CheckRecipient(r); err != nil {
			return bad("copy.recipients", fmt.Sprintf("%.12s… is not an age recipient: it begins with age1, and never "+
				"with AGE-SECRET-KEY", r))
		}
	}
	for _, at := range p.Server.Consent {
		if !tree.Local(at) || strings.Contains(at, "/") {
			return bad("server.consent", fmt.Sprintf("%q is not a file at the top of the install", at))
		}
	}
	if err := p.checkRules(bad); err != nil {
		return err
	}
	if err := p.checkSources(bad); err != nil {
		return err
	}
	if p.Server.Name == "" {
		return bad("server.name", "it is missing: give the server a name")
	}
	return nil
}

var memorySize = regexp.MustCompile(`^[1-9][0-9]*[kKmMgGtT]$`)

// checkLaunch checks what the launch script is to say.
func (p *Profile) checkLaunch(bad func(key, why string) error) error {
	l := p.Launch
	for key, size := range map[string]string{"launch.memory": l.Memory, "launch.first_memory": l.FirstMemory} {
		if size != "" && !memorySize.MatchString(size) {
			return bad(key, fmt.Sprintf("%q is no size: write it as \"20G\" or \"1500M\"", size))
		}
	}
	for key, list := range map[string][]string{"launch.flags": l.Flags, "launch.with": l.With,
		"launch.without": l.Without} {
		for _, w := range list {
			n := len(strings.Fields(w))
			if n == 0 || strings.ContainsAny(w, "\r\n\x00") || n > 2 || (n == 2 && key != "launch.with") {
				return bad(key, fmt.Sprintf("%q is not one word", w))
			}
			if key == "launch.without" && (slices.Contains(l.Flags, w) || slices.Contains(l.With, w)) {
				return bad(key, fmt.Sprintf("%q must be there and must not", w))
			}
		}
	}
	if l.Folder != "" && l.Folder != "." && !tree.Local(l.Folder) {
		return bad("launch.folder", fmt.Sprintf("%q is not a folder in the install", l.Folder))
	}
	if u := p.Runtime.Use; u != "" && !filepath.IsAbs(u) && version.CheckRange(u) != nil {
		return bad(
			"runtime.use",
			fmt.Sprintf("%q is no release (\"21\"), no range of such (\">=21 <25\"), and no full "+
				"path of a runtime", u),
		)
	}
	return nil
}

// check checks what runs the server, or a part of it; at is the key of it.
func (h *Host) check(at string, bad func(key, why string) error) error {
	commands := len(h.Start)+len(h.Stop)+len(h.Status) > 0
	switch { // which kind it is stands to reason
	case h.Kind != "":
	case h.Unit != "":
		h.Kind = ByService
	case commands:
		h.Kind = ByCommands
	}
	switch h.Kind {
	case "", ByMinder:
		if h.Unit != "" || commands {
			return bad(at+".kind", "a unit goes with \"service\", and start, stop and status with \"commands\"")
		}
	case ByService:
		if !words.IsUnit(h.Unit) {
			return bad(at+".unit", fmt.Sprintf("%q is no name of a service, as in \"pond.service\"", h.Unit))
		}
	case ByCommands:
		if len(h.Start) == 0 || len(h.Stop) == 0 || len(h.Status) == 0 {
			return bad(at+".start", "start, stop and status are all needed: each is a program and its arguments")
		}
	default:
		return bad(at+".kind", fmt.Sprintf("%q is not \"minder\", \"service\" or \"commands\"", h.Kind))
	}
	if h.Rights != "" && (h.Rights != BySudo || h.Kind != ByService || h.User) {
		return bad(at+".rights", fmt.Sprintf("%q: a service of the system's may have %q, which freshkeel unit --rights prints the rule for",
			h.Rights, BySudo))
	}
	if h.Restart != "" && (h.Restart != AfterCrash || (h.Kind != "" && h.Kind != ByMinder)) {
		return bad(at+".restart", fmt.Sprintf("%q: a minder starts a server again %q; a service has a rule of its own",
			h.Restart, AfterCrash))
	}
	h.Pause, h.Crashes, h.Within = cmp.Or(h.Pause, Duration(5*time.Second)), cmp.Or(h.Crashes, 5),
		cmp.Or(h.Within, Duration(time.Hour))
	if h.Console != "" && !filepath.IsAbs(h.Console) {
		return bad(at+".console", fmt.Sprintf("%q is not the full path of a named pipe or socket", h.Console))
	}
	if h.Console != "" && len(h.Say) > 0 {
		return bad(at+".say", "console and say are two ways to the same console: one of them is enough")
	}
	return nil
}

// checkRunning checks what runs the server, and what is done to it and its data between builds.
func (p *Profile) checkRunning(bad func(key, why string) error) error {
	if err := p.Host.check("host", bad); err != nil {
		return err
	}
	for _, check := range []func(func(key, why string) error) error{p.checkParts, p.checkMigrations, p.checkLaunch} {
		if err := check(bad); err != nil {
			return err
		}
	}
	return nil
}

// checkParts checks a server's parts, and puts them into the order in which they are started.
func (p *Profile) checkParts(bad func(key, why string) error) error {
	if len(p.Parts) == 0 {
		return nil
	}
	h := p.Host
	if p.Launch.Script != "" || h.Kind != "" || h.Restart != "" || h.Console != "" || len(h.Say)+len(h.Follow) > 0 {
		return bad(
			"launch.script",
			"the server has parts: each has a script, or a host, of its own ([part.launch], [part.host])",
		)
	}
	for i := range p.Parts {
		part := &p.Parts[i]
		if part.Name == "" || !tree.Local(part.Name) || strings.ContainsAny(part.Name, "/ ") ||
			slices.ContainsFunc(p.Parts[:i], func(o Part) bool { return o.Name == part.Name }) {
			return bad("part.name", fmt.Sprintf("%q: each part needs a name of its own, of one word", part.Name))
		}
		if err := part.Host.check("part.host", bad); err != nil {
			return err
		}
		if part.Host.Kind == "" && (part.Launch.Script == "" || !tree.Local(part.Launch.Script)) {
			return bad(
				"part.launch",
				fmt.Sprintf("%s: it has neither a launch script in the install nor a host", part.Name),
			)
		}
		if s := part.Stop; len(s.Warn) > 0 || s.Tell != "" || s.Off != "" {
			return bad("part.stop", part.Name+": players are warned once for the whole server, by [stop] tell, warn and off")
		}
		if err := part.Files.Check(); err != nil {
			return bad("part.files", fmt.Sprintf("%s: %v", part.Name, err))
		}
		if part.Outside && len(part.Files) > 0 {
			return bad("part.files", part.Name+": what is outside the install has no files in it")
		}
		if part.Outside && part.Host.Kind == "" {
			return bad(
				"part.outside",
				fmt.Sprintf("%s: what is outside the install is run by a service, or by commands", part.Name),
			)
		}
		part.Ready.Within, part.Ready.Steady = cmp.Or(part.Ready.Within, Duration(2*time.Minute)),
			cmp.Or(part.Ready.Steady, Duration(2*time.Second))
		part.Stop.Wait, part.Stop.Terminate = cmp.Or(part.Stop.Wait, Duration(time.Minute)),
			cmp.Or(part.Stop.Terminate, Duration(20*time.Second))
	}
	ordered, err := inOrder(p.Parts)
	if err != nil {
		return bad("part.after", err.Error())
	}
	p.Parts = ordered
	// What is asked of the whole is asked of the last part, and of all ports.
	last := p.LastPart()
	line, held := last.Ready, p.Ready.Held()
	for _, part := range p.Parts {
		if !part.Outside {
			held = append(held, part.Ready.Held()...)
		}
	}
	line.Port, line.Ports = Port{}, held
	p.Ready = line
	if p.Stop.Send == "" {
		p.Stop.Send = last.Stop.Send
	}
	return nil
}

// inOrder are parts so that each comes after those that it names.
func inOrder(parts []Part) (out []Part, err error) {
	placed := func(name string) bool { return slices.ContainsFunc(out, func(o Part) bool { return o.Name == name }) }
	for _, part := range parts {
		for _, name := range part.After {
			if !slices.ContainsFunc(parts, func(o Part) bool { return o.Name == name }) {
				return nil, fmt.Errorf("%s is to come after %q, and there is no part of that name", part.Name, name)
			}
		}
	}
	for len(out) < len(parts) {
		before := len(out)
		for _, part := range parts {
			if !placed(part.Name) && !slices.ContainsFunc(part.After, func(n string) bool { return !placed(n) }) {
				out = append(out, part)
			}
		}
		if len(out) == before {
			return nil, errors.New("the parts wait for each other: none can come first")
		}
	}
	return out, nil
}

// checkLists checks what there may be several of: rules for settings, data outside.
func (p *Profile) checkLists(bad func(key, why string) error) error {
	for _, c := range p.Carry {
		if err := append(tree.Patterns{c.File}, c.Never...).Check(); err != nil {
			return bad("carry.file", err.Error())
		}
	}
	names := map[string]bool{}
	for _, d := range p.Data {
		switch {
		case d.Name == "" || !tree.Local(d.Name) || strings.Contains(d.Name, "/") || names[d.Name]:
			return bad("data.name", fmt.Sprintf("%q: each needs a name of its own, fit for a file", d.Name))
		case len(d.Dump) == 0 || len(d.Load) == 0:
			return bad("data.dump", "dump and load are both needed: what can't be loaded back is no backup")
		}
		names[d.Name] = true
	}
	return nil
}

// checkPlace checks the names that files of a build get.
func (p *Profile) checkPlace(bad func(key, why string) error) error {
	globs := 0
	for from, to := range p.Place {
		if err := (tree.Patterns{from}).Check(); err != nil {
			return bad("place", err.Error())
		}
		if tree.IsGlob(from) {
			globs++
		}
		if !tree.Local(to) {
			return bad("place", fmt.Sprintf("%q is not a path in the install", to))
		}
		if Reserved(to) {
			return bad("place", fmt.Sprintf("%q is Fresh Keel's own", to))
		}
	}
	if globs > mostGlobs {
		return bad("place", fmt.Sprintf("it has %d patterns with a wildcard, and each is held against each file of a build: %d at most; "+
			"names without one may be as many as there are", globs, mostGlobs))
	}
	return nil
}

// mostGlobs bounds how many patterns of [place] may have a wildcard.
const mostGlobs = 1000

// checkElsewhere checks the folders that stand elsewhere, and has the names that [place]
// gives begin with theirs where it gives a full path.
func (p *Profile) checkElsewhere(bad func(key, why string) error) error {
	for _, name := range p.Elsewhere.Names() {
		folder := p.Elsewhere[name]
		key := "elsewhere." + name
		if !tree.Local(name) || strings.Contains(name, "/") || Reserved(name) {
			return bad(key, fmt.Sprintf("%q is no name that a folder at the top of the install may have", name))
		}
		if !filepath.IsAbs(folder) || filepath.Dir(filepath.Clean(folder)) == filepath.Clean(folder) {
			return bad(key, fmt.Sprintf("%q is not the full path of a folder", folder))
		}
		p.Elsewhere[name] = filepath.Clean(folder)
		for other, at := range p.Elsewhere {
			if other != name && tree.Inside(filepath.Clean(at), filepath.Clean(folder)) {
				return bad(key, fmt.Sprintf("%s lies in %s, which %s is", folder, at, other))
			}
		}
	}
	all := []map[string]string{p.Place}
	for _, l := range p.Layers {
		all = append(all, l.Place)
	}
	for _, place := range all {
		for from, to := range place {
			for name, folder := range p.Elsewhere {
				if rest, ok := strings.CutPrefix(filepath.ToSlash(to), filepath.ToSlash(folder)+"/"); ok {
					place[from] = name + "/" + rest
				}
			}
		}
	}
	return nil
}

// checkRules checks how the server is known to be up, and how it is stopped.
func (p *Profile) checkRules(bad func(key, why string) error) error {
	for _, v := range p.Ready.Version {
		if v.NumSubexp() < 1 {
			return bad("ready.version", "it needs a group, as in '^version (\\S+)', that holds the version")
		}
	}
	if at := p.Ready.Log; at != "" {
		if !tree.Local(at) {
			return bad("ready.log", fmt.Sprintf("%q is not a path in the install", at))
		}
		if err := (tree.Patterns{at}).Check(); err != nil {
			return bad("ready.log", err.Error())
		}
	}
	for before, line := range p.Stop.Warn {
		if d, err := time.ParseDuration(before); err != nil || d <= 0 || d > 24*time.Hour {
			return bad(
				"stop.warn",
				fmt.Sprintf("%q is no time before the stop: write it as \"10m\" or \"30s\"", before),
			)
		}
		if line == "" || strings.ContainsAny(line, "\r\n") {
			return bad("stop.warn", fmt.Sprintf("%q is not one line", line))
		}
	}
	for _, at := range p.Players.Proxies {
		if _, err := netip.ParseAddr(at); err != nil {
			return bad("players.proxies", fmt.Sprintf("%q is no address: write it as \"10.0.0.9\"", at))
		}
	}
	if (p.Players.Ask == "") == p.Players.Answer.Given() {
		return bad(
			"players.ask",
			"ask and answer go together: a line for the console, and the pattern of what it says to it",
		)
	}
	if p.Players.Answer.Given() && p.Players.Answer.NumSubexp() < 1 {
		return bad("players.answer", "it needs a group, as in '^(\\d+) players', that holds their number")
	}
	for _, l := range p.Stop.Try {
		if l == "" || strings.ContainsAny(l, "\r\n") {
			return bad("stop.try", fmt.Sprintf("%q is not one line", l))
		}
	}
	return nil
}

// explain turns a decoder's error into one that names file, line, key and the
// nearest key that exists.
func explain(path string, text []byte, err error) error {
	var value *badValue
	if errors.As(err, &value) {
		e := &Error{File: path, Why: strings.TrimPrefix(value.Error(), "toml: ")}
		keys, _, _ := Text(text).scan()
		for key, at := range keys {
			if string(text[at.value:at.end]) == strings.TrimSpace(value.text) && strings.HasPrefix(key, "ready.") {
				e.Key, e.Line = key, 1+bytes.Count(text[:at.value], []byte("\n"))
			}
		}
		return e
	}
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) && len(strict.Errors) > 0 {
		first := strict.Errors[0]
		line, _ := first.Position()
		key := strings.Join(first.Key(), ".")
		return &Error{File: path, Line: line, Key: key, Why: "there is no such key", Near: nearest(key)}
	}
	var dec *toml.DecodeError
	if errors.As(err, &dec) {
		line, _ := dec.Position()
		return &Error{File: path, Line: line, Key: strings.Join(dec.Key(), "."),
			Why: strings.TrimPrefix(dec.Error(), "toml: ")}
	}
	return &Error{File: path, Why: err.Error()}
}

// Keys lists every key a profile may have, dotted. A layer's source has the
// same keys as the build's, which are not listed again.
func Keys() []string {
	var out []string
	var walk func(t reflect.Type, prefix string)
	walk = func(t reflect.Type, prefix string) {
		for i := range t.NumField() {
			name := prefix + t.Field(i).Tag.Get("toml")
			ft := t.Field(i).Type
			if ft.Kind() == reflect.Pointer ||
				(ft.Kind() == reflect.Slice && ft.Elem().Kind() == reflect.Struct &&
					ft.Elem() != reflect.TypeFor[Pattern]() && ft.Elem() != reflect.TypeFor[Port]()) {
				ft = ft.Elem()
			}
			section := ft.Kind() == reflect.Struct &&
				!reflect.PointerTo(ft).Implements(reflect.TypeFor[encoding.TextUnmarshaler]())
			if section && name != "layer.source" && !slices.Contains(partSections, name) {
				walk(ft, name+".")
			} else {
				out = append(out, name)
			}
		}
	}
	walk(reflect.TypeFor[Profile](), "")
	return out
}

// partSections are the sections of a part that have the keys of the whole server's.
var partSections = []string{"part.host", "part.launch", "part.stop", "part.ready"}

// nearest returns the known key most like key, or "" when none is close.
func nearest(key string) string {
	var wrong []string
	best, near := len(key)/2+1, ""
	for _, k := range Keys() {
		if d := words.Distance(key, k); d < best {
			best, near = d, k
		}
		if last := lastOf(k); last != k {
			if mine := lastOf(key); mine == last {
				wrong = append(wrong, k) // right key, wrong section
			}
		}
	}
	if len(wrong) == 1 || (len(wrong) > 0 && near == "") {
		return wrong[0]
	}
	return near
}

// lastOf is a dotted key's own name, without its section.
func lastOf(key string) string { return key[strings.LastIndexByte(key, '.')+1:] }

// lineOf finds the line where a dotted key is set, or its section starts; 0
// when neither stands there.
func lineOf(text []byte, key string) int {
	in, at := "", 0
	for i, raw := range strings.Split(string(text), "\n") {
		line := strings.TrimSpace(raw)
		if strings.HasPrefix(line, "[") {
			in = strings.Trim(strings.SplitN(line, "]", 2)[0], "[ ")
			if in == key || strings.HasPrefix(key, in+".") {
				at = i + 1
			}
		} else if k, _, ok := strings.Cut(line, "="); ok && in != "" && in+"."+strings.TrimSpace(k) == key {
			return i + 1
		}
	}
	return at
}

// ByHand tells whether a path is one that operators edit: settings and the launch
// script.
func (p *Profile) ByHand(at string) bool {
	return p.Server.Settings.Match(at) || slices.Contains(p.Scripts(), at)
}

var settingsName = regexp.MustCompile(`(?i)\.(conf|cfg|ini|toml|properties|ya?ml|json|xml|config|settings)$`)

// SettingsKind is SettingsByName for files that a package manager laid, too: those of a server's own package.
func SettingsKind(name string) bool { return settingsName.MatchString(name) }

// SettingsByName tells whether a file's name, or path, is of a kind that settings have.
func SettingsByName(name string) bool { return settingsName.MatchString(name) && !Vendored(name) }
