// Package logbook keeps the record of every refit, rollback, backup and
// restore of one install: one JSON document each, from the moment it begins.
// An entry without an outcome is one that a crash interrupted; its phase says
// how far it got.
package logbook

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshkeel/internal/secrets"
	"freshkeel/internal/tree"
)

const format = "freshkeel-logbook/1"

// Kind is what was done.
type Kind string

const (
	Refit    Kind = "refit"
	Rollback Kind = "rollback"
	Restore  Kind = "restore"
	Crash    Kind = "crash" // the server ended by itself, and was to be started again
	Mend     Kind = "mend"  // of an audit: files that were missing or changed were put back, the server running on
)

// Phase is how far a run has got. It is flushed before the phase begins, so
// that after a crash nothing of a later phase can have happened.
type Phase string

const (
	Preparing   Phase = "preparing"    // the server runs on; nothing of the install changed
	Stopping    Phase = "stopping"     // the server was told to stop; nothing changed yet
	Swapping    Phase = "swapping"     // the backup is complete; files move
	Migrating   Phase = "migrating"    // the new files are in place; what their makers want is done to data
	Watching    Phase = "watching"     // every file is in place; the server starts and is watched
	Confirming  Phase = "confirming"   // it came up; only our own records are left to write
	RollingBack Phase = "rolling-back" // on the way back to the tree of the backup
	Returning   Phase = "returning"    // the old tree is in place; the old server comes up
	Reverting   Phase = "reverting"    // of a rollback or restore that did not end well: on the way to where it began
	Done        Phase = "done"
)

// Outcome is how a run ended. "" means that it has not.
type Outcome string

const (
	Confirmed  Outcome = "confirmed"      // the new state holds
	RolledBack Outcome = "rolled back"    // the old tree is back
	Abandoned  Outcome = "abandoned"      // ended before anything changed
	NeedsHands Outcome = "needs hands"    // neither came up; everything is kept
	Restarted  Outcome = "restarted"      // of a crash
	StayedDown Outcome = "stays down"     // of a crash: it crashed too often, or somebody else saw to it
	Left       Outcome = "left as it was" // given up by the operator while it was under way
)

// Step is one step of a run with the time it took.
type Step struct {
	Name  string        `json:"name"`
	Took  time.Duration `json:"took_ns"`
	Bytes int64         `json:"bytes,omitempty"`
	Note  string        `json:"note,omitempty"`
}

// Entry is one run.
type Entry struct {
	Format string `json:"format"`
	ID     string `json:"id"`
	Kind   Kind   `json:"kind"`
	From   string `json:"from"` // version; "" when not known
	To     string `json:"to"`
	Build  string `json:"build,omitempty"` // set in the locker
	// the set in the locker that was installed before; "": none was known
	FromBuild string   `json:"from_build,omitempty"`
	Layers    []string `json:"layers,omitempty"`  // what became of each layer that changed
	Target    string   `json:"target,omitempty"`  // of a rollback or restore: the run or backup it goes back to
	World     bool     `json:"world,omitempty"`   // a rollback that puts the world back too
	Only      []string `json:"only,omitempty"`    // of a restore: patterns
	NoData    bool     `json:"no_data,omitempty"` // of a restore: the data outside is left as it is
	Undid     []string `json:"undid,omitempty"`   // of a restore: refits of whose files none are left
	Backup    string   `json:"backup,omitempty"`  // the backup it took before it changed anything

	// When that backup, and the target of a restore, was taken: to the nanosecond,
	// which tells it from another of the same number in another locker.
	BackupTaken time.Time `json:"backup_taken,omitzero"`
	TargetTaken time.Time `json:"target_taken,omitzero"`
	Locker      string    `json:"locker,omitempty"` // the locker that the backup was put into

	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended,omitzero"`
	Phase   Phase     `json:"phase"`
	Outcome Outcome   `json:"outcome,omitempty"`

	WasRunning bool          `json:"was_running"`
	RanSince   time.Time     `json:"ran_since,omitzero"`    // when the server that ran had been started
	Stuck      string        `json:"stuck,omitempty"`       // why the last try to end it well did not
	EndRunning bool          `json:"end_running"`           // whether to leave it running
	Down       time.Duration `json:"down_ns,omitempty"`     // stop line sent → ready again
	Exchange   time.Duration `json:"exchange_ns,omitempty"` // old process gone → new one spawned
	Steps      []Step        `json:"steps"`
	Why        string        `json:"why,omitempty"`   // what decided the outcome
	Lines      []string      `json:"lines,omitempty"` // console lines that decided it
	Told       []string      `json:"told,omitempty"`  // what the operator should know
	Accepted   []string      `json:"accepted,omitempty"`
	Consents   []string      `json:"consents,omitempty"`  // files in which a consent was given
	HeldBack   []string      `json:"held_back,omitempty"` // add-ons that were left out

	Migrations []Migrated `json:"migrations,omitempty"` // that were begun
	LeftOut    []string   `json:"left_out,omitempty"`   // migrations that the data had had already
	Part       string     `json:"part,omitempty"`       // of a crash: the part of the server
	Alone      []string   `json:"alone,omitempty"`      // parts that were stopped, where others ran on
	Relined    []Lined    `json:"relined,omitempty"`    // services whose own line changed

	Boot     string    `json:"boot,omitempty"`        // of the machine, as it was numbered when the run began
	Mixed    time.Time `json:"moving_since,omitzero"` // since when files may be of two builds, or were
	Spawned  time.Time `json:"start_began,omitzero"`  // when it began to start the new build
	Intact   bool      `json:"intact,omitempty"`      // going back: nothing of the new build ever ran, no migration either
	Reverted bool      `json:"reverted,omitempty"`    // it is back where it began, as to files
}

// Mixes tells whether files may be of two builds in a phase, or data half migrated.
func (p Phase) Mixes() bool {
	return p == Swapping || p == Migrating || p == RollingBack || p == Reverting
}

// Lined is a service whose line changes, by a drop-in of ours: the words of before and after.
type Lined struct {
	Unit string   `json:"unit"`
	User bool     `json:"user,omitempty"` // of a user's own manager
	File string   `json:"file"`           // the drop-in
	Was  []string `json:"was"`            // null: no drop-in
	Now  []string `json:"now"`
}

// Migrated is one migration that a refit began. It is written before it begins, and again when
// it is known to be done.
type Migrated struct {
	Name  string        `json:"name"`
	Began time.Time     `json:"began"`
	Done  bool          `json:"done"`
	Took  time.Duration `json:"took_ns,omitempty"`
}

// Book is the logbook of one install.
type Book struct{ Dir string }

var idForm = regexp.MustCompile(`^r(\d{4,})$`)

func (b Book) path(id string) string { return filepath.Join(b.Dir, id+".json") }

// Begin gives a new entry the next free number and writes it.
func (b Book) Begin(e *Entry) error {
	if err := tree.MakeDirs(b.Dir, 0o700); err != nil {
		return err
	}
	all, err := b.All()
	if err != nil {
		return err
	}
	n := 0
	if len(all) > 0 {
		n, _ = strconv.Atoi(all[len(all)-1].ID[1:])
	}
	e.Format, e.ID, e.Started = format, fmt.Sprintf("r%04d", n+1), time.Now().Round(0)
	return b.Save(e)
}

// Save makes the entry durable as it is now.
func (b Book) Save(e *Entry) error {
	j, err := json.MarshalIndent(e.recorded(), "", " ")
	if err != nil {
		return err
	}
	if err := tree.WriteFile(b.path(e.ID), j, 0o600); err != nil {
		return fmt.Errorf("write the logbook: %w", err)
	}
	return nil
}

// recorded is the entry without secrets in what is only for people to read. What a run reads back, the
// lines of a service above all, is as it is.
func (e *Entry) recorded() *Entry {
	out := *e
	out.Why, out.Stuck = secrets.Recorded(e.Why), secrets.Recorded(e.Stuck)
	out.Lines, out.Told = recorded(e.Lines), recorded(e.Told)
	out.Steps = slices.Clone(e.Steps)
	for i := range out.Steps {
		out.Steps[i].Note = secrets.Recorded(out.Steps[i].Note)
	}
	return &out
}

func recorded(list []string) (out []string) {
	for _, l := range list {
		out = append(out, secrets.Recorded(l))
	}
	return out
}

// ErrNone says that there is no such entry.
var ErrNone = errors.New("no such entry in the logbook")

// Get reads one entry.
func (b Book) Get(id string) (*Entry, error) {
	if !idForm.MatchString(id) {
		return nil, fmt.Errorf("%q: %w", id, ErrNone)
	}
	j, err := tree.ReadOwn(b.path(id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", id, ErrNone)
	}
	if err != nil {
		return nil, err
	}
	e := &Entry{}
	if err := json.Unmarshal(j, e); err != nil || e.Format != format {
		return nil, fmt.Errorf("read %s: not an entry of format %s (%v)", b.path(id), format, err)
	}
	if e.ID != id { // which names the folder of the run
		return nil, fmt.Errorf("read %s: it calls itself %q", b.path(id), e.ID)
	}
	return e, nil
}

// All reads every entry, oldest first.
func (b Book) All() ([]*Entry, error) {
	list, err := os.ReadDir(b.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []*Entry
	for _, d := range list {
		id, ok := strings.CutSuffix(d.Name(), ".json")
		if !ok || !idForm.MatchString(id) {
			continue
		}
		e, err := b.Get(id)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// Unfinished returns the entry that a crash interrupted, or nil.
func (b Book) Unfinished() (*Entry, error) {
	all, err := b.All()
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if e.Outcome == "" {
			return e, nil
		}
	}
	return nil, nil
}

// Since lists the runs that ended well after a time, newest first.
func (b Book) Since(at time.Time) ([]*Entry, error) {
	all, err := b.All()
	all = slices.DeleteFunc(all, func(e *Entry) bool { return e.Outcome != Confirmed || !e.Ended.After(at) })
	slices.Reverse(all)
	return all, err
}

// InEffect lists the refits whose files are in the install, oldest first: each
// confirmed refit, less those that a rollback or a restore undid.
func (b Book) InEffect() ([]*Entry, error) {
	all, err := b.All()
	if err != nil {
		return nil, err
	}
	var stack []*Entry
	for _, e := range all {
		switch {
		case e.Outcome != Confirmed:
		case e.Kind == Refit:
			stack = append(stack, e)
		case e.Kind == Restore:
			stack = slices.DeleteFunc(stack, func(s *Entry) bool { return slices.Contains(e.Undid, s.ID) })
		case e.Kind == Rollback:
			for i, s := range stack {
				if s.ID == e.Target {
					stack = stack[:i]
					break
				}
			}
		}
	}
	return stack, nil
}

// UndoneBy lists the refits of which nothing is left once the files are as they were
// after one of them, or before it.
func UndoneBy(all []*Entry, refit string, before bool) (out []string) {
	for _, e := range all {
		if e.Kind == Refit && (e.ID > refit || (before && e.ID == refit)) {
			out = append(out, e.ID)
		}
	}
	return out
}
