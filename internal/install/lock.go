package install

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
)

// holder is who has an install's lock.
type holder struct {
	PID   int       `json:"pid"`
	Doing string    `json:"doing"`
	Since time.Time `json:"since"`
}

// Lock keeps every other command that changes the install out (P7). It returns
// the unlock function, or Busy.
func (in *Install) Lock(doing string) (unlock func(), err error) {
	if err := tree.MakeDirs(in.State(), 0o700); err != nil {
		return nil, in.notMine(err)
	}
	l := tree.NewLock(tree.Reached(in.State("lock")))
	// Tried for a moment: a status command may be looking at the lock.
	moment, cancel := context.WithTimeout(context.Background(), 60*time.Millisecond)
	defer cancel()
	if ok, err := l.TryLockContext(moment, 10*time.Millisecond); errors.Is(err, context.DeadlineExceeded) {
		return nil, in.holder()
	} else if err != nil || !ok {
		return nil, in.notMine(err)
	}
	// The holder's name is only for telling others: a full disk must not keep
	// anybody from the lock.
	if b, err := json.Marshal(holder{os.Getpid(), doing, time.Now().Round(0)}); err == nil {
		tree.WriteFile(in.State("holder.json"), b, 0o600)
	}
	unlock = func() {
		os.Remove(in.State("holder.json"))
		l.Unlock()
	}
	if err := settlePlace(in, doing); err != nil {
		unlock()
		return nil, err
	}
	in.enlist()
	return unlock, nil
}

// holder tells who has the lock. Whoever has just taken it may not have said
// so yet, and a dead holder's word may still stand there.
func (in *Install) holder() *Busy {
	var h holder
	for range 20 {
		if b, err := tree.ReadOwn(in.State("holder.json")); err == nil && json.Unmarshal(b, &h) == nil &&
			host.Alive(h.PID) {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	return &Busy{h.PID, h.Doing, h.Since}
}

// Busy tells what another command is doing here, "" for nothing.
func (in *Install) Busy() string {
	if _, err := os.Stat(in.State("holder.json")); err != nil {
		return ""
	}
	l := tree.NewLock(tree.Reached(in.State("lock")))
	if ok, err := l.TryRLock(); err != nil || ok { // a dead command's word
		l.Unlock()
		return ""
	}
	return in.holder().Error()
}

// notMine explains why the install can't be locked.
func (in *Install) notMine(err error) error {
	if at := (*fs.PathError)(nil); errors.As(err, &at) { // as it is written, not as it was reached
		err = &fs.PathError{Op: at.Op, Path: in.State("lock"), Err: at.Err}
	}
	err = fmt.Errorf("lock the install: %w", err)
	if e, _, derr := tree.Describe(in.Dir, ""); derr == nil && errors.Is(err, fs.ErrPermission) {
		return tell.Advise(err, fmt.Sprintf("run it as the install's owner, user %d, or as root", e.UID))
	}
	return err
}

// Busy refuses a second run on one install at a time.
type Busy struct {
	PID   int
	Doing string
	Since time.Time
}

func (b *Busy) Error() string {
	return fmt.Sprintf("another command is at work here: %s, process %d, since %s", b.Doing, b.PID,
		b.Since.Format("15:04:05"))
}
