package data

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/tree"
)

// A migration that changes data twice spoils it. So what the data has had is written down beside the
// install, goes into each backup with the data's dump, and comes back with it.

// Had is a migration that the data has had, or that began on it.
type Had struct {
	Name  string    `json:"name"`
	Run   string    `json:"run"` // the refit that began it
	From  string    `json:"from,omitempty"`
	To    string    `json:"to,omitempty"`
	Began time.Time `json:"began"`
	Done  bool      `json:"done"`           // it was seen to end well
	Said  bool      `json:"said,omitempty"` // nobody saw it: the operator said so
}

// String tells of one, as an end of a sentence.
func (h Had) String() string {
	step := ""
	if h.From != "" && h.To != "" {
		step = " (" + h.From + " → " + h.To + ")"
	}
	when := h.Began.Local().Format(time.DateTime)
	switch {
	case h.Said:
		return fmt.Sprintf("you said on %s, for %s%s, that the data has had it", when, h.Run, step)
	case h.Done:
		return fmt.Sprintf("%s%s ran it on %s, and the data was kept since", h.Run, step, when)
	}
	return fmt.Sprintf("%s%s began it on %s, and it was not seen to end", h.Run, step, when)
}

// hadFile is the record's name, in our own folder and in a backup.
const hadFile = "data-had.json"

const hadFormat = "freshkeel-data-had/1"

type hadList struct {
	Format string `json:"format"`
	Had    []Had  `json:"had"`
}

// Had is what the data of now has had, oldest first.
func (od *Outside) Had() ([]Had, error) {
	b, err := tree.ReadOwn(od.State(hadFile))
	if errors.Is(err, fs.ErrNotExist) {
		return od.hadByBook()
	}
	if err != nil {
		return nil, err
	}
	return readHad(b)
}

func readHad(b []byte) ([]Had, error) {
	var l hadList
	if err := json.Unmarshal(b, &l); err != nil || l.Format != hadFormat {
		return nil, fmt.Errorf("what the data has had can't be read: it is no record of format %s (%v)", hadFormat, err)
	}
	return l.Had, nil
}

// hadByBook is what the logbook tells of an install that has no record yet.
func (od *Outside) hadByBook() (out []Had, err error) {
	all, err := od.Book.All()
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		switch {
		case e.Kind == logbook.Refit && (e.Outcome != logbook.RolledBack || len(od.Profile.Data) == 0):
			for _, m := range e.Migrations {
				out = append(out, Had{Name: m.Name, Run: e.ID, From: e.From, To: e.To, Began: m.Began, Done: m.Done})
			}
		case e.Kind == logbook.Rollback && e.World && e.Outcome == logbook.Confirmed:
			out = slices.DeleteFunc(out, func(h Had) bool { return h.Run >= e.Target })
		case e.Kind == logbook.Restore && len(e.Only) == 0 && !e.NoData && e.Outcome == logbook.Confirmed &&
			!e.TargetTaken.IsZero():
			out = slices.DeleteFunc(out, func(h Had) bool { return h.Began.After(e.TargetTaken) })
		}
	}
	return out, nil
}

// Note makes a migration's record durable: a new one, or what became of the last of that name.
func (od *Outside) Note(h Had) error {
	all, err := od.Had()
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(o Had) bool { return o.Name == h.Name && o.Run == h.Run })
	if i < 0 {
		all = append(all, h)
	} else {
		all[i] = h
	}
	return od.writeHad(all)
}

func (od *Outside) writeHad(all []Had) error {
	b, err := json.MarshalIndent(hadList{hadFormat, all}, "", " ")
	if err != nil {
		return err
	}
	if err := tree.WriteFile(od.State(hadFile), b, 0o600); err != nil {
		return fmt.Errorf("write down what the data has had: %w", err)
	}
	return nil
}

// dumpHad adds the record to a pass.
func (od *Outside) dumpHad(ctx context.Context, w *locker.Writer, taken *locker.Taken) error {
	all, err := od.Had()
	if err != nil {
		return err
	}
	b, err := json.Marshal(hadList{hadFormat, all})
	if err != nil {
		return err
	}
	f, err := w.Add(ctx, bytes.NewReader(b), func(int64) {})
	if err != nil {
		return err
	}
	size := f.Size
	f.Entry = tree.Entry{Path: tree.StateFolder + "/" + hadFile, Kind: tree.File, Mode: 0o600, UID: tree.NoID,
		GID:   tree.NoID,
		Mtime: time.Now().UnixNano()}
	f.Size = size
	taken.Insert(f)
	return nil
}

// loadHad makes the record that of a backup, whose data was loaded. One that an earlier version took has
// none: of that what began since is not had any more.
func (od *Outside) loadHad(l *locker.Locker, set *locker.Set) error {
	if f := set.Find(tree.StateFolder + "/" + hadFile); f != nil {
		var b bytes.Buffer
		if err := l.Copy(&b, *f); err != nil {
			return err
		}
		all, err := readHad(b.Bytes())
		if err != nil {
			return err
		}
		return od.writeHad(all)
	}
	all, err := od.Had()
	if err != nil {
		return err
	}
	return od.writeHad(slices.DeleteFunc(all, func(h Had) bool { return h.Began.After(set.Taken) }))
}
