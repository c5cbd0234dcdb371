package freshkeel

import (
	"context"
	"path/filepath"
	"time"

	"freshkeel/internal/change"
	"freshkeel/internal/logbook"
)

// Entry is one record of the logbook.
type Entry = logbook.Entry

// Kinds of runs that go back.
const (
	KindRollback = logbook.Rollback
	KindRestore  = logbook.Restore
)

// These say how far to go back, and what that would do.
type (
	Back     = change.Back
	BackPlan = change.BackPlan
)

// PlanRollback finds what a rollback would undo. It changes nothing.
func (k *Keel) PlanRollback(b Back) (*BackPlan, error) { return k.changer.PlanRollback(b) }

// Rollback goes back to before a refit. The build's files, the settings and
// the launch script go back; the world stays as it is now, unless World says
// otherwise. What is there now is backed up first in any case.
func (k *Keel) Rollback(ctx context.Context, b Back) (*logbook.Entry, error) {
	unlock, err := k.begin(ctx, "rollback")
	if err != nil {
		return nil, err
	}
	defer unlock()
	return k.changer.Rollback(ctx, b)
}

// WorldOffer is the command that puts the world of the newest backup back, for a server that does not come up; "" for
// none.
func (k *Keel) WorldOffer() string { return k.changer.WorldOffer(time.Now()) }

// Logbook lists every run, oldest first.
func (k *Keel) Logbook() ([]*logbook.Entry, error) { return k.in.Book.All() }

// LogbookEntry is one run in full.
func (k *Keel) LogbookEntry(id string) (*logbook.Entry, error) { return k.in.Book.Get(id) }

// RunDir is where a run keeps what it displaced.
func (k *Keel) RunDir(id string) string { return filepath.Clean(k.in.Run(id).Dir) }
