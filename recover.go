package freshkeel

import (
	"context"
	"errors"
	"time"

	"freshkeel/internal/logbook"
)

// Recover finishes or reverses what a crash interrupted. It returns nil when
// there was nothing. Every command that changes the install does it first.
func (k *Keel) Recover(ctx context.Context) (*logbook.Entry, error) {
	unlock, err := k.in.Lock("recover")
	if err != nil {
		return nil, err
	}
	defer unlock()
	k.srv.TakeOver(ctx)
	k.srv.LetGo()
	return k.changer.Recover(ctx)
}

// Unsettled is what was interrupted, and nobody is at work on; nil for nothing. To look at it changes nothing.
func (k *Keel) Unsettled() *logbook.Entry {
	e, err := k.in.Book.Unfinished()
	if err != nil || e == nil || k.in.Busy() != "" {
		return nil
	}
	return e
}

// PendingRecovery tells what Recover would have to deal with, or nil.
func (k *Keel) PendingRecovery() (*logbook.Entry, error) { return k.in.Book.Unfinished() }

// GiveUp ends the run that a crash interrupted, or that could not be ended well,
// with the install as it is: it puts nothing back and starts nothing. What was kept
// stays kept.
func (k *Keel) GiveUp() (*logbook.Entry, error) {
	unlock, err := k.in.Lock("recover")
	if err != nil {
		return nil, err
	}
	defer unlock()
	return k.changer.GiveUp()
}

// SettleFiles makes the files whole that a run left between two builds, and starts and stops nothing: it
// comes before a service manager starts the server. What else the run was about, the next command sees to. The
// entry is nil where nothing was to do.
func (k *Keel) SettleFiles(ctx context.Context) (*logbook.Entry, error) {
	unlock, err := k.lockToSettle(ctx)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if err := k.in.Bind(); err != nil {
		return nil, err
	}
	return k.changer.SettleFiles(ctx)
}

// settling is what a command is doing that makes files whole.
const settling = "making files whole"

// lockToSettle waits for others that make the files of the same install whole, for another unit of it. A
// command that exchanges files is not waited for: it may wait for the unit itself.
func (k *Keel) lockToSettle(ctx context.Context) (unlock func(), err error) {
	for {
		var busy *Busy
		if unlock, err = k.in.Lock(settling); !errors.As(err, &busy) || busy.Doing != settling {
			return unlock, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(frontRest):
		}
	}
}
