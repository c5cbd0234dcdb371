package freshkeel

// What callers meet of the rooms below, by the names that they know it by here.

import (
	"context"
	"io"
	"time"

	"freshkeel/internal/adopt"

	"freshkeel/internal/server"

	"freshkeel/internal/check"

	"freshkeel/internal/backups"

	"freshkeel/internal/plan"

	"freshkeel/internal/runtimes"

	"freshkeel/internal/resolve"

	"freshkeel/internal/inventory"

	"freshkeel/internal/fetch"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/store"
	"freshkeel/internal/tell"
	"freshkeel/internal/words"
)

// Options are what the core needs from outside.
type Options = install.Options

// Event is one thing that happened during a run.
type Event = tell.Event

// What an Event reports: see internal/tell.
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

// What a check of backups found.
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

// BecomeOwner is what a command that root runs over somebody else's folder does
// first: it becomes that user for good.
func BecomeOwner(dir, self string, answer []string) (name string, err error) {
	return install.BecomeOwner(dir, self, answer)
}

// Bytes writes a size as the core's own messages do.
func Bytes(n int64) string { return words.Bytes(n) }

// Age is how long something lasted, as a person reads it.
func Age(d time.Duration) string { return words.Age(d) }

// Near is the word of a list that a mistyped one may be meant for, "" for none.
func Near(word string, list []string) string { return words.Near(word, list) }

// Shown is an address without what opens it: names, passwords, tokens.
func Shown(where string) string { return fetch.Shown(where) }

// Printable is a text without anything that a terminal would obey: what comes from
// a console, a feed or a file's name is shown as that.
func Printable(s string) string { return words.Printable(s) }

// Answer turns this process into the one that stays root: see BecomeOwner.
func Answer(in io.Reader, out io.Writer) error { return host.Answer(in, out) }

// Mind turns this process into a minder: see Options.Self. It reads its order
// from in, answers on out, and returns when the server is gone.
func Mind(in io.Reader, out io.WriteCloser) error { return host.Mind(in, out) }

// Of the room inventory.
type (
	Laid = inventory.Laid
	Move = inventory.Move
)

// Of the room resolve.
type (
	Build   = resolve.Build
	Changes = resolve.Changes
	Offer   = resolve.Offer
	Want    = resolve.Want
)

// Of the room runtimes.
type (
	FoundRuntime = runtimes.FoundRuntime
	Runtime      = runtimes.Runtime
	Runtimes     = runtimes.Runtimes
)

// Of the room plan.
type (
	Drop     = plan.Drop
	Edit     = plan.Edit
	Overlaid = plan.Overlaid
	Plan     = plan.Plan
)

// Of the room backups.
type (
	AwayWant   = backups.AwayWant
	Backup     = backups.Backup
	BackupView = backups.View
	Choice     = backups.Choice
	Keeping    = backups.Keeping
	Owners     = backups.Owners
	PushHow    = backups.PushHow
	Pushed     = backups.Pushed
	Restore    = backups.Restore
	Thinning   = backups.Thinning
)

// Of the room check.
type (
	Finding   = check.Finding
	Level     = check.Level
	Preflight = check.Preflight
)

// Of the room check.
const (
	OK   = check.OK
	Stop = check.Stop
	Warn = check.Warn
)

// Of the room server.
type (
	Interrupted = server.Interrupted
	Verdict     = server.Verdict
)

// Of the room adopt.
type (
	Adopt   = adopt.Order // how to take an install under care
	Adopted = adopt.Adopted
	Guess   = adopt.Guess
)
