package freshkeel

// These are the types of the rooms below that callers meet, by their names here.

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"freshkeel/internal/adopt"
	"freshkeel/internal/backups"
	"freshkeel/internal/check"
	"freshkeel/internal/fetch"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/lay"
	"freshkeel/internal/learn"
	"freshkeel/internal/lessons"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/secrets"
	"freshkeel/internal/server"
	"freshkeel/internal/store"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Options are what the core needs from outside.
type Options = install.Options

// Parting is how a command parts players from a server that it stops.
type Parting = install.Parting

// Event is one thing that happened during a run.
type Event = tell.Event

// These are the kinds of events: see internal/tell.
const (
	StepBegun  = tell.StepBegun
	StepMoves  = tell.StepMoves
	StepEnded  = tell.StepEnded
	StepFailed = tell.StepFailed
	ServerSaid = tell.ServerSaid
	ToolSaid   = tell.ToolSaid
	Noted      = tell.Noted
	Warned     = tell.Warned
)

// Errors on which a caller decides.
type (
	Usage          = tell.Usage      // a request that makes no sense as it is
	Advised        = tell.Advised    // an error with a next step
	ToolFailed     = tell.ToolFailed // a command of the profile, or of a build, failed
	Busy           = install.Busy    // another command is at work on the install
	ProfileError   = profile.Error
	AlreadyRunning = host.AlreadyRunning
	Unreachable    = store.Unreachable // a place that can't be used: Do is what helps
)

// These are the results of a check of backups.
type (
	Damage  = locker.Damage
	Checked = locker.Checked
)

// Find is the nearest folder from start upwards that has a profile.
func Find(start string) (string, error) { return install.Find(start) }

// DefaultHome is where locker and runtimes stand when nobody says otherwise.
func DefaultHome() (string, error) { return install.DefaultHome() }

// AdoptInstall takes an existing install under care: it looks at it, writes a
// commented profile and records the inventory. It touches nothing else.
func AdoptInstall(ctx context.Context, a Adopt, o Options) (*Adopted, error) {
	return adopt.Install(ctx, a, o)
}

// MergedProposals puts what two looks propose together: of one key the first counts.
func MergedProposals(first, second []Proposal) []Proposal { return learn.Merged(first, second) }

// ReleaseInstall ends the care of an install: what Fresh Keel put there goes.
func ReleaseInstall(ctx context.Context, r Release, o Options) (*Released, error) {
	return adopt.GiveBack(ctx, r, o)
}

// ProfileKeys lists every key that a profile may have.
func ProfileKeys() []string { return profile.Keys() }

// AcceptableChecks lists the checks that an operator may go past.
func AcceptableChecks() []string { return slices.Clone(check.Acceptable) }

// Enter is where a command over the folder at dir begins: it comes to it once, and tells as whom the
// command is to work; nil: as who it is. A command that root runs over somebody else's folder does
// the rest of its work as that user, by a Rest.
func Enter(dir string) (*Rest, error) {
	o, err := install.Enter(dir)
	if err != nil || o == nil {
		return nil, err
	}
	dir, err = filepath.Abs(dir)
	return &Rest{Owner: *o, Dir: dir, Held: tree.Kept(dir)}, err
}

// EnterTarget looks at the place where a command of root's is to write something new; the rest of it
// is done by the user who could lead the way there elsewhere. nil: by root itself.
func EnterTarget(path string) (*Rest, error) {
	o, h, err := install.EnterTarget(path)
	if err != nil || o == nil {
		return nil, err
	}
	return &Rest{Owner: *o, Dir: h.Dir, Held: h}, nil
}

// These are of a command that root began over somebody else's folder, and that goes on as that user.
type (
	Rest   = host.Rest   // as root sees it, who keeps the terminal
	Seen   = host.Seen   // what the other part is told of that
	Became = host.Became // the other part, which has become the user
)

// InheritNothing has no process that is started from now on get a file that this one was given by whoever
// started it: a shell's lock, say, or what only root could open.
func InheritNothing() error { return host.InheritNothing() }

// BeOwner turns this process, which a Rest began, into the folder's owner for good.
func BeOwner() (*Became, error) { return host.BeOwner() }

// AskPerson has root put a question, by its fields, to the person at its terminal, behind the bytes that
// were said.
func AskPerson(fields any, said int64) (string, error) { return host.AskPerson(fields, said) }

// HearTyped has what is typed at root's terminal come to this process's standard input, if this one
// has become another user.
func HearTyped() error { return host.HearTyped() }

// Bytes writes a size as the core's own messages do.
func Bytes(n int64) string { return words.Bytes(n) }

// Age is how long something lasted, as a person reads it.
func Age(d time.Duration) string { return words.Age(d) }

// Shell is a word as a shell takes it.
func Shell(word string) string { return words.Shell(word) }

// Quote is a text as messages and profiles quote it.
func Quote(text string) string { return words.Quote(text) }

// Near is the word of a list that a mistyped one may be meant for, "" for none.
func Near(word string, list []string) string { return words.Near(word, list) }

// Shown is an address without what opens it: names, passwords, tokens.
func Shown(where string) string { return fetch.Shown(where) }

// Hidden is a value as it may be shown under its key, and Masked a text, or JSON, as they may: without
// secrets, unless RevealSecrets was called.
func Hidden(key, value string) string { return secrets.Of(key, value) }

// Masked is a text without secrets.
func Masked(s string) string { return secrets.Mask(s) }

// MaskedJSON is a JSON text without secrets.
func MaskedJSON(b []byte) []byte { return secrets.MaskJSON(b) }

// RevealSecrets has Hidden, Masked and MaskedJSON leave what they get as it is.
func RevealSecrets() { secrets.Reveal() }

// Printable is a text without anything that a terminal would obey: what comes from
// a console, a feed or a file's name is shown as that.
func Printable(s string) string { return words.Printable(s) }

// Answer answers what a command may ask of root that has become the user of an install: see Rest.
func Answer(in io.Reader, out, heard io.Writer, uid int, dir string) error {
	return host.Answer(in, out, heard, uid, dir)
}

// AnswerBySudo is Answer for a user who runs it by a rule of sudo's: see Rights.
func AnswerBySudo(in io.Reader, out, heard io.Writer, uid, dir string) error {
	owner, err := install.Enter(dir)
	if err != nil {
		return err
	}
	return host.AnswerBySudo(in, out, heard, owner, uid, dir)
}

// BeApart turns this process into one that shuts itself off and runs a program: see
// Options.Apart. It returns the program's status.
func BeApart(in, out, errs *os.File) int { return host.BeApart(in, out, errs) }

// Mind turns this process into a minder: see Options.Self. It reads its order
// from in, answers on out, and returns when the server is gone.
func Mind(in io.Reader, out io.WriteCloser) error { return host.Mind(in, out) }

// These say how an install is taken under care.
type (
	Adopt    = adopt.Order    // what to look at, and what is known of it
	Adopted  = adopt.Adopted  // what was found and written
	Release  = adopt.Release  // how an install is given back
	Released = adopt.Released // what went, and what stays
	Guess    = adopt.Guess    // one line of the profile, and what it was guessed from
)

// What was learned from a server, and may be written into its profile: see Keel.Lessons.
type (
	Proposal = learn.Proposal // one key, what it would be, and what speaks for it
	Change   = lessons.Change // one key of the profile that is edited by hand
	Remark   = lessons.Remark // one thing worth minding in a profile
	Question = adopt.Question // what only a person can tell
	Doubt    = adopt.Doubt    // files of which nothing tells whose they are
)

// These say which build is wanted, and which builds are to be had.
type (
	Want    = resolve.Want    // which build, and how to go about it
	Offer   = resolve.Offer   // what one source offers
	Build   = resolve.Build   // one row of an offer
	Changes = resolve.Changes // how a folder of files differs from what is installed
	Laid    = inventory.Laid  // a layer as it lies over the build
	Lined   = logbook.Lined   // a service whose own line changes
	Move    = inventory.Move  // content that has another name now
)

// These say what a refit would meet and do.
type (
	Preflight = check.Preflight // the plan and what the checks found
	Finding   = check.Finding   // what, where, why it matters, what to do
	Level     = check.Level     // how much a finding weighs
	Plan      = plan.Plan       // what becomes of each file
	Edit      = plan.Edit       // a line of a script that is changed
	Drop      = plan.Drop       // a folder around a build that the install does not have
	Overlaid  = plan.Overlaid   // a path that two layers bring
)

// Levels of a finding.
const (
	OK   = check.OK   // it was looked at, and is fine
	Warn = check.Warn // worth minding
	Stop = check.Stop // the refit is refused
)

// Screen is a terminal that is lent to a command.
type Screen = host.Screen

// NewServer is a server that was laid out.
type NewServer = lay.Laid

// Consent is a file in which a server's makers ask for a consent.
type Consent = plan.Consent

// OpenConsents lists the consents that are asked for and not given yet. Those that the operator
// accepts by name are given, which given names.
func (k *Keel) OpenConsents(accepted []string) (open []Consent, given []string, err error) {
	for _, c := range k.planner.OpenConsents() {
		if k.planner.Accepts(c.Path, Want{Consent: accepted}) == "" {
			open = append(open, c)
			continue
		}
		if err := k.planner.Agree(c); err != nil {
			return nil, nil, err
		}
		given = append(given, c.Path)
	}
	return open, given, nil
}

// The server.
type (
	Verdict     = server.Verdict     // whether it came up, and on what that was decided
	Interrupted = server.Interrupted // a command ended before it had changed anything
)

// Runtimes of this machine.
type (
	Runtimes     = runtimes.Runtimes     // which are here, and what is needed
	Runtime      = runtimes.Runtime      // one of them, and how it stands to the server
	FoundRuntime = runtimes.FoundRuntime // one by itself
)

// Backups: see Shelf.
type (
	Backup     = backups.Backup   // one, without its entries
	BackupView = backups.View     // what it holds, and how it differs from the one before
	Choice     = backups.Choice   // which part of the install one takes
	Restore    = backups.Restore  // what of one to bring back, and where
	Owners     = backups.Owners   // what becomes of the owners that a copy's files have
	Keeping    = backups.Keeping  // how many to keep
	Thinning   = backups.Thinning // what a thinning drops
	PushHow    = backups.PushHow  // how a push to the other place goes about it
	Pushed     = backups.Pushed   // what it sent
	AwayWant   = backups.AwayWant // which other place is to be read
)

// RunsScripts tells whether this system runs a script by its first line.
const RunsScripts = host.HasModes
