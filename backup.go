package freshkeel

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"freshkeel/internal/backups"
	"freshkeel/internal/lay"
	"freshkeel/internal/locker"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// LayOrder says what is to be laid, and where.
type LayOrder struct {
	Dir, Source, Version, Name string
	Ports                      map[string]string // of the other's: what each is to be here
	Like                       string            // the install that it is to be like; "": none
	World                      bool              // its world comes too
	At                         string            // all of it as it was in this backup
}

// LayServer makes a server from nothing, or a second instance beside one that is there: what
// comes of that one comes out of a backup, so that it holds together.
func LayServer(ctx context.Context, r LayOrder, o Options) (*NewServer, error) {
	order := lay.Order{Dir: r.Dir, Source: r.Source, Version: r.Version, Name: r.Name, Ports: r.Ports}
	if r.Like == "" {
		return lay.Lay(ctx, order, o)
	}
	k, err := Open(r.Like, o)
	if err != nil {
		return nil, err
	}
	at, whole := r.At, r.At != ""
	var set *Backup
	if whole {
		if set, err = k.shelf.ReadMeant(at); err != nil {
			return nil, tell.Advise(err, "freshkeel -d "+words.Shell(k.Dir)+" backup list")
		}
	} else if set, _, err = k.TakeBackup(ctx, "", Choice{}); err != nil {
		return nil, err
	}
	order.Other = &lay.Other{Install: k.in, Version: set.Version, World: r.World, Whole: whole,
		Files: func(ctx context.Context, into string, only tree.Patterns) error {
			whole, err := k.shelf.Read(set.ID)
			if err != nil || len(only) == 0 {
				return errors.Join(err, k.shelf.LayOut(ctx, Restore{Backup: set.ID, To: into}))
			}
			only = slices.DeleteFunc(slices.Clone(only), func(pat string) bool { // a profile may speak of what is not there yet
				return !slices.ContainsFunc(whole.Entries,
					func(f locker.File) bool { return (tree.Patterns{pat}).Match(f.Path) })
			})
			if len(only) == 0 {
				return os.MkdirAll(into, 0o755)
			}
			return k.shelf.LayOut(ctx, Restore{Backup: set.ID, Only: only, To: into})
		}}
	return lay.Lay(ctx, order, o)
}

// TakeBackup backs the install up as it is, the server running or not, or the
// part of it that is chosen. A running server is told by the profile's console
// lines to save before and to go on after. moving names the files that would not
// hold still while they were read.
func (k *Keel) TakeBackup(ctx context.Context, label string, part Choice) (set *Backup, moving []string, err error) {
	if err := k.in.Choose(&part.Only, &part.Leave); err != nil {
		return nil, nil, err
	}
	unlock, err := k.begin(ctx, "backup")
	if err != nil {
		return nil, nil, err
	}
	defer unlock()
	l, err := k.in.Locker()
	if err != nil {
		return nil, nil, err
	}
	inv, err := k.inv.Head()
	if err != nil {
		return nil, nil, err
	}
	w := l.Writer()
	w.PiecesAlone = true
	defer w.Close()
	release, err := k.srv.Quiet(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer release()
	if st := k.in.Host().Status(); st.Running && len(k.Profile.Backup.Before) == 0 {
		k.in.Warn("the server runs, and nothing holds its world still meanwhile: files of one backup may be of two " +
			"moments. [backup] before and after are the console lines that pause its saving (docs/profile.md)")
	}
	base, err := k.shelf.Last()
	if err != nil {
		return nil, nil, err
	}
	if part.Reread {
		base = base.Doubted()
	}
	_, err = k.in.Step("backup", func() (string, error) {
		taken, err := w.Take(ctx, k.in.Dir, k.in.Profile.Server.Skip, part.Takes(), base, k.in.Moves("backup"))
		if err != nil {
			return "", err
		}
		if len(part.Only) == 0 {
			if err := k.outside.Dump(ctx, w, taken); err != nil {
				return "", err
			}
		}
		release()
		k.shelf.TellLinks(taken)
		moving = taken.Moving
		k.shelf.Doubt(taken)
		set = &locker.Set{Version: inv.Version, Label: label, Only: part.Only, Left: part.Leave}
		if err = k.shelf.Publish(w, taken, set); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s: %s, %s, %s new in the locker", set.ID, words.Plural(set.Files, "file"),
			words.Bytes(set.Bytes), words.Bytes(set.New)), nil
	})
	return set, moving, err
}

// ImportBackup makes a backup of a folder, or of an archive, that the operator has
// from before: what they copied by hand.
func (k *Keel) ImportBackup(ctx context.Context, from, label string) (*Backup, error) {
	fi, err := os.Stat(from)
	if err != nil {
		return nil, err
	}
	if from, err = filepath.Abs(from); err != nil {
		return nil, err
	}
	unlock, err := k.begin(ctx, "backup")
	if err != nil {
		return nil, err
	}
	defer unlock()
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	w := l.Writer()
	w.PiecesAlone = true
	defer w.Close()
	set := &locker.Set{Label: cmp.Or(label, "from "+filepath.Base(from)), Source: from}
	_, err = k.in.Step("import", func() (string, error) {
		taken, err := k.shelf.TakeIn(ctx, w, from, fi)
		if err != nil {
			return "", err
		}
		for i := range taken.Entries { // nothing of this says where in the install a file is now
			f := &taken.Entries[i]
			f.Inode, f.Ctime, f.ReadAt = 0, 0, 0
		}
		if err := k.shelf.Publish(w, &locker.Taken{Entries: taken.Entries}, set); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s: %s, %s", set.ID, words.Plural(set.Files, "file"), words.Bytes(set.Bytes)), nil
	})
	return set, err
}

// Thin drops what PlanThin decided, and gives the space back.
func (k *Keel) Thin(ctx context.Context, n Keeping) (*Thinning, error) {
	unlock, err := k.begin(ctx, "thin")
	if err != nil {
		return nil, err
	}
	defer unlock()
	t, err := k.shelf.PlanThin(n)
	if err != nil {
		return nil, err
	}
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	id, err := k.in.Identity()
	if err != nil {
		return nil, err
	}
	_, err = k.in.Step("thin", func() (string, error) {
		for _, b := range t.Drop {
			if err := ctx.Err(); err != nil {
				return "", err
			}
			if err := l.Drop(id, b.ID); err != nil {
				return "", err
			}
			if err := k.in.Halt("dropped"); err != nil {
				return "", err
			}
		}
		t.Freed, err = l.GiveBack(ctx, k.in.Halt)
		if errors.Is(err, locker.ErrBusy) {
			t.Later, err = true, nil
			return fmt.Sprintf("%s dropped; their space is given back next time: something is being written",
				words.Plural(len(t.Drop), "backup")), nil
		}
		return fmt.Sprintf("%s dropped, %s given back", words.Plural(len(t.Drop), "backup"), words.Bytes(t.Freed)), err
	})
	return t, err
}

// BringAll brings every backup of this install that a copy has and this locker has
// not, or the one that is named, and tells under which numbers they stand here.
func (k *Keel) BringAll(ctx context.Context, from *Shelf, id string, owners Owners) (brought map[string]string,
	err error) {
	unlock, err := k.begin(ctx, "bring")
	if err != nil {
		return nil, err
	}
	defer unlock()
	theirs, err := from.List()
	if err != nil {
		return nil, err
	}
	mine, err := k.shelf.List()
	if err != nil {
		return nil, err
	}
	if id != "" {
		if id, err = from.Meant(id); err != nil {
			return nil, tell.Advise(err, "freshkeel backup list --from the same place")
		}
	}
	brought = map[string]string{}
	for _, b := range theirs {
		here := slices.ContainsFunc(mine, func(m *Backup) bool { return m.Damage == "" && m.Taken.Equal(b.Taken) })
		if (id != "" && b.ID != id) || (id == "" && (here || b.Damage != "")) {
			continue
		}
		if brought[b.ID], err = k.shelf.Bring(ctx, from, b.ID, owners); err != nil {
			return brought, err
		}
	}
	return brought, nil
}

// Shelf is one install's backups, in its own locker or in another place: see Away.
type Shelf = backups.Shelf

// Shelf is the install's backups: to list, show, check, export, push and mend.
func (k *Keel) Shelf() *Shelf { return k.shelf }

// Away opens backups in another place for reading: a copy's, or another locker's. here is
// the install that asks, nil where there is none, as on a fresh machine. done lets go of
// what was brought here meanwhile.
func Away(ctx context.Context, o Options, here *Keel, w AwayWant) (there *Shelf, done func(), err error) {
	if here == nil {
		return backups.Away(ctx, o, nil, w)
	}
	return backups.Away(ctx, o, here.shelf, w)
}
