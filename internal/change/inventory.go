package change

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"time"

	"freshkeel/internal/inventory"
	"freshkeel/internal/logbook"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
)

// inventoryBefore is the inventory as it was when the run began, inventoryAfter as it is
// to be.
const (
	inventoryBefore = "inventory-before.json"
	inventoryAfter  = "inventory-after.json"
)

// keepInventory notes the inventory that holds now, for a way back.
func (t *transaction) keepInventory(context.Context) (string, error) {
	s, err := t.k.Inv.Scan()
	if err != nil {
		return "", err
	}
	defer s.Close()
	return "", s.CopyTo(filepath.Join(t.Dir.Dir, inventoryBefore), nil)
}

// keptBefore names the inventory that was kept; "" where a version of before kept none.
func keptBefore(run swap.Run) string {
	if _, _, err := tree.Describe(filepath.Join(run.Dir, inventoryBefore), ""); errors.Is(err, fs.ErrNotExist) {
		return ""
	}
	return inventoryBefore
}

// takeInventory makes one of the saved inventories the install's own.
func (t *transaction) takeInventory(from swap.Run, name string) error {
	s, err := inventory.Open(filepath.Join(from.Dir, name))
	if err != nil {
		return err
	}
	defer s.Close()
	s.Head.At = time.Now().Round(0)
	if s.Head.Version == "" && name == inventoryAfter {
		s.Head.Version = t.E.To // as the server said it
	}
	return s.CopyTo(t.k.Inv.File(), func(o *inventory.Owned) {
		o.SeenAt = 0
		// Only a file that provably still is what was put there is noted with
		// its identity; any other is read when next it is compared.
		now, ok, err := tree.Describe(t.In.Path(o.Path), o.Path)
		if err == nil && ok && now.Kind == o.Kind && now.Size == o.Size && o.Mtime != 0 && now.Mtime == o.Mtime &&
			(o.Inode == 0 || o.Inode == now.Inode) {
			o.Entry, o.SeenAt = now, time.Now().UnixNano()
		}
	})
}

// inventoryOf takes the inventory of a version that was installed before, when
// a whole restore went back to it. One that is not known is said to be so.
func (t *transaction) inventoryOf(ver string) error {
	inv, err := t.k.Inv.Head()
	if err != nil || (inv.Version == ver && len(inv.Mixed) == 0) {
		return err
	}
	all, err := t.In.Book.All()
	if err != nil {
		return err
	}
	for i := len(all) - 1; i >= 0; i-- {
		if e := all[i]; e.Kind == logbook.Refit && e.From == ver && e.ID != t.E.ID {
			if err := t.takeInventory(t.In.Run(e.ID), inventoryBefore); err == nil {
				t.E.Undid = logbook.UndoneBy(all, e.ID, true)
				return nil
			}
		}
		if e := all[i]; e.Kind == logbook.Refit && e.To == ver && e.Outcome == logbook.Confirmed {
			if err := t.takeInventory(t.In.Run(e.ID), inventoryAfter); err == nil {
				t.E.Undid = logbook.UndoneBy(all, e.ID, false)
				return nil
			}
		}
	}
	return inventory.Write(t.k.Inv.File(), &inventory.Inventory{Version: ver})
}

// inventoryBack takes the inventory of before the run, where the run has exchanged it.
func (t *transaction) inventoryBack() error {
	kept := keptBefore(t.Dir)
	head, err := t.k.Inv.Head()
	if err != nil || kept == "" || t.E.Kind == logbook.Refit && !head.At.After(t.E.Started) {
		return err
	}
	return t.takeInventory(t.Dir, kept)
}

// takeNew has the new build's inventory hold.
func (t *transaction) takeNew(context.Context) (string, error) {
	return "", t.takeInventory(t.Dir, inventoryAfter)
}

// takeOld has the inventory hold of before the refit that was undone.
func (t *transaction) takeOld(context.Context) (string, error) {
	return "", t.takeInventory(t.In.Run(t.E.Target), inventoryBefore)
}

// takeRestored has the inventory hold of the build whose files a restore has put back.
func (t *transaction) takeRestored(context.Context) (string, error) {
	set, err := t.target()
	if err != nil {
		return "", err
	}
	if len(t.E.Only) > 0 || len(set.Only)+len(set.Left) > 0 {
		return "", t.reckon(set)
	}
	return "", t.inventoryOf(set.Version)
}
