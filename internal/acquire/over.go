package acquire

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// laidOver makes a whole build of an increment: what is installed, with the increment's files over
// it. One folder around everything that the installed build does not have is taken off.
func (aq *Acquirer) laidOver(f *Fetched) error {
	head, err := aq.inv.Head()
	if err != nil {
		return err
	}
	l, err := aq.Locker()
	if err != nil {
		return err
	}
	var base *locker.Set
	if head.Build != "" {
		base, err = l.Read(locker.Builds, head.Build)
	}
	if base == nil || err != nil {
		return tell.Advise(
			errors.Join(
				errors.New("an increment is laid over the installed build, and that is not in the locker"),
				err,
			),
			"freshkeel adopt --build PATH "+words.Shell(aq.Dir)+" (the archive or folder that the install was made "+
				"from); then again",
		)
	}
	top := around(f.Set, base)
	whole := map[string]locker.File{}
	for _, e := range base.Entries {
		whole[e.Path] = e
	}
	over := 0
	for _, e := range f.Set.Entries {
		if e.Path = strings.TrimPrefix(e.Path, top); e.Path == "" || e.Path == strings.TrimSuffix(top, "/") {
			continue
		}
		if _, there := whole[e.Path]; there && e.Kind == tree.File {
			over++
		}
		whole[e.Path] = e
	}
	if over == 0 && f.Version != head.Version { // an add-on: its number is its own, and says nothing of the server
		aq.Warn("not one file of %s takes the place of an installed one: %s stays the server's version; what is laid "+
			"over it is better a layer, which later builds keep: --layer NAME --from PATH", f.Candidate.Label(),
			version.OrUnknown(head.Version))
		f.Version = head.Version
	}
	s := &locker.Set{
		Owner:   locker.Builds,
		Version: f.Version,
		Channel: f.Set.Channel,
		Source:  base.Source + ", and over it " + f.Set.Source,
		Taken:   time.Now().Round(0),
	}
	for _, at := range slices.Sorted(maps.Keys(whole)) {
		s.Entries = append(s.Entries, whole[at])
	}
	s.Tally()
	s.ID = contentID(s)
	aq.Note(
		"%s is laid over %s: %d of its files take the place of others, %d are new",
		f.Candidate.Label(),
		base.Version,
		over,
		f.Set.Files-over,
	)
	if !l.Has(locker.Builds, s.ID) {
		w := l.Writer()
		defer w.Close()
		if err := w.Publish(s); err != nil {
			return fmt.Errorf("keep the build with the increment: %w", err)
		}
	}
	f.Set, f.Bytes, f.Files = s, s.Bytes, s.Files
	return nil
}

// around is the one folder in which all of an increment lies, with its slash, where the build that
// it is for has no such folder; "" for none.
func around(inc, base *locker.Set) (top string) {
	for _, e := range inc.Entries {
		first, _, below := strings.Cut(e.Path, "/")
		if !below && e.Kind != tree.Dir || top != "" && first+"/" != top {
			return ""
		}
		top = first + "/"
	}
	for _, e := range base.Entries {
		if strings.HasPrefix(e.Path, top) {
			return ""
		}
	}
	for _, e := range inc.Entries { // an add-on's own folder stays: nothing in it is of the build
		if e.Kind == tree.File && base.Find(strings.TrimPrefix(e.Path, top)) != nil {
			return top
		}
	}
	return ""
}
