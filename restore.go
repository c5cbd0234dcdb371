package freshkeel

import (
	"context"

	"freshkeel/internal/backups"
	"freshkeel/internal/change"
	"freshkeel/internal/data"
	"freshkeel/internal/logbook"
	"freshkeel/internal/swap"
)

// IsSame tells whether a restore had nothing to do.
func IsSame(err error) bool { return change.IsSame(err) }

// PlanRestore tells what a restore into the install would exchange, as things
// are now. It changes nothing.
func (k *Keel) PlanRestore(r Restore) ([]swap.Step, error) { return k.changer.PlanRestore(r) }

// What becomes of the data outside in a whole restore.
const (
	LoadData  = backups.LoadData
	LeaveData = backups.LeaveData
)

// Dumped is a dump of data outside the install, in a backup.
type Dumped = data.Dumped

// DumpsOf are the dumps of a backup that a whole restore could load.
func (k *Keel) DumpsOf(backup string) ([]Dumped, error) {
	set, err := k.shelf.ReadMeant(backup)
	if err != nil {
		return nil, err
	}
	return k.outside.In(set), nil
}

// Restore brings a backup back. Into the install it is a run of its
// own: the server stops, what is there is backed up, only what differs is
// exchanged, and what is not in the backup is moved aside. Shelf.LayOut lays a backup
// out in another folder.
func (k *Keel) Restore(ctx context.Context, r Restore) (*logbook.Entry, error) {
	set, err := k.changer.Meant(&r)
	if err != nil {
		return nil, err
	}
	unlock, err := k.begin(ctx, "restore")
	if err != nil {
		return nil, err
	}
	defer unlock()
	return k.changer.Restore(ctx, set, r)
}
