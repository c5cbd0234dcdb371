// Package acquire leads from what is to be had to a verified build in the locker: it
// downloads parts, opens archives, follows listings, and runs the command that makes a
// build where the profile names one.
//
// Chain is the whole of it, from what is wanted to what is here.
package acquire

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Acquirer brings builds into the locker for one install.
type Acquirer struct {
	*install.Install
	inv *inventory.Kept
	res *resolve.Resolver
}

// New is an acquirer for an install.
func New(inv *inventory.Kept, res *resolve.Resolver) *Acquirer {
	return &Acquirer{inv.Install, inv, res}
}

// Fetched is a build that stands verified in the locker.
type Fetched struct {
	Set       *locker.Set        `json:"-"`
	Version   string             `json:"version"`
	Layer     string             `json:"layer,omitempty"`
	Bytes     int64              `json:"bytes"`
	Files     int                `json:"files"`
	Cached    bool               `json:"cached"`
	Damaged   []string           `json:"damaged,omitempty"` // installed files that are not what was put there
	Candidate *resolve.Candidate `json:"-"`
	Layers    []*Fetched         `json:"layers,omitempty"` // to be laid over it, in order

	Gone []resolve.Gone `json:"-"`
}

// Forget lets go of the files of a fetched build, which are many, as far as the locker
// has them: see Remember.
func (f *Fetched) Forget() {
	if !f.Candidate.AsInstalled {
		f.Set.Entries = nil
	}
	for _, l := range f.Layers {
		l.Forget()
	}
}

// Remember reads back what Forget let go of.
func (aq *Acquirer) Remember(f *Fetched) error {
	if !f.Candidate.AsInstalled && f.Set.Entries == nil {
		l, err := aq.Locker()
		if err != nil {
			return err
		}
		set, err := l.Read(locker.Builds, f.Set.ID)
		if err != nil {
			return err
		}
		f.Set = set
	}
	for _, l := range f.Layers {
		if err := aq.Remember(l); err != nil {
			return err
		}
	}
	return nil
}

// Goal finds the build that is wanted and brings it into the locker.
func (aq *Acquirer) Goal(ctx context.Context, w resolve.Want) (*Fetched, error) {
	all, err := aq.gather(ctx, w, false)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// Chain finds what is wanted and brings it into the locker: the first two steps of every
// refit. It is every build to step through, the one that is wanted being the last.
func (aq *Acquirer) Chain(ctx context.Context, w resolve.Want) ([]*Fetched, error) {
	return aq.gather(ctx, w, true)
}

func (aq *Acquirer) gather(ctx context.Context, w resolve.Want, chain bool) ([]*Fetched, error) {
	var r *resolve.Resolved
	var hops []*resolve.Resolved
	if _, err := aq.Step("resolve", func() (sum string, err error) {
		if r, err = aq.res.All(ctx, w); err != nil {
			return "", err
		}
		hops = []*resolve.Resolved{r}
		if chain {
			if hops, err = aq.res.Route(ctx, r, w); err != nil {
				return "", err
			}
		}
		sum = "found " + r.Base.Label()
		if r.Base.Stays {
			sum = r.Base.Label() + " stays"
		}
		for _, c := range r.Layers {
			sum += ", " + c.Label()
		}
		if len(hops) > 1 {
			sum += fmt.Sprintf(", %d steps away", len(hops))
		}
		return sum, nil
	}); err != nil {
		return nil, err
	}
	var fetched []*Fetched
	if _, err := aq.Step("fetch", func() (sum string, err error) {
		cached := true
		for _, hop := range hops {
			f, err := aq.fetchAll(ctx, hop)
			if err == nil && w.Over {
				err = aq.laidOver(f)
			}
			if err != nil {
				return "", err
			}
			fetched = append(fetched, f)
			for _, one := range append([]*Fetched{f}, f.Layers...) {
				cached = cached && one.Cached
			}
		}
		f := fetched[len(fetched)-1]
		if cached {
			return fmt.Sprintf("%s is in the locker already, verified", f.Candidate.Label()), nil
		}
		return fmt.Sprintf("%s, %s", words.Plural(f.Files, "file"), words.Bytes(f.Bytes)), nil
	}); err != nil {
		return nil, err
	}
	return fetched, nil
}

// fetchAll brings the build and its layers into the locker.
func (aq *Acquirer) fetchAll(ctx context.Context, r *resolve.Resolved) (f *Fetched, err error) {
	if r.Base.AsInstalled {
		s, err := aq.installedSet()
		if err != nil {
			return nil, err
		}
		f = &Fetched{Set: s, Version: r.Base.Version, Bytes: s.Bytes, Files: s.Files, Cached: true, Candidate: r.Base}
	} else if f, err = aq.Fetch(ctx, r.Base); err != nil {
		return nil, err
	}
	for _, c := range r.Layers {
		lf, err := aq.Fetch(ctx, c)
		if err != nil {
			return nil, fmt.Errorf("layer %s: %w", c.Layer, err)
		}
		f.Layers = append(f.Layers, lf)
	}
	f.Gone = r.Gone
	return f, nil
}

// installedSet is the build as the inventory has it, where the locker holds
// none: good for being left as it is, and for nothing else.
func (aq *Acquirer) installedSet() (*locker.Set, error) {
	inv, err := aq.inv.Read()
	if err != nil {
		return nil, err
	}
	s := &locker.Set{ID: inv.Build, Version: inv.Version, Channel: inv.Channel}
	for _, o := range inv.Files {
		if o.Layer == "" && aq.Exists(o.Path) {
			s.Entries = append(s.Entries, locker.File{Entry: o.Entry, Sum: o.Sum})
		}
	}
	s.Tally()
	return s, nil
}

// Fetch brings one candidate into the locker, or finds it there. A download, an archive
// or a command that does not give what is vouched for is an error, and leaves no set.
func (aq *Acquirer) Fetch(ctx context.Context, c *resolve.Candidate) (*Fetched, error) {
	l, err := aq.Locker()
	if err != nil {
		return nil, err
	}
	key, err := feed.Key(c.Src, aq.Dir)
	if err != nil {
		return nil, err
	}
	by := fetch.KeyMark(key)
	if c.Stays { // it is installed: nothing is brought in
		by = ""
	}
	if c.Set != "" {
		// Another command may be fetching the same: whoever comes second finds
		// it there.
		unlock, err := aq.alone(ctx, l, c)
		if err != nil {
			return nil, err
		}
		defer unlock()
		s, err := l.Read(locker.Builds, c.Set)
		if err == nil && by != "" && s.Vouched != by {
			aq.Note("%s is in the locker, but was not signed by [source] key when it was fetched: it is fetched again",
				c.Label())
			err = locker.ErrNoSet
		}
		if err == nil {
			aq.fetched(c, s)
			return fetchedAs(c, s, true), nil
		}
		if !errors.Is(err, locker.ErrNoSet) {
			return nil, err
		}
	}
	if c.Offer != nil && c.Offer.Stale {
		return nil, tell.Advise(fmt.Errorf("%s is not in the locker, and its source can't be reached", c.Label()),
			"try again when it can be; what is fetched already: freshkeel builds")
	}
	return aq.bring(ctx, l, c, by)
}

// fetchedAs is a candidate that stands in the locker.
func fetchedAs(c *resolve.Candidate, s *locker.Set, cached bool) *Fetched {
	if c.Version == "" {
		c.Version = s.Version
	}
	return &Fetched{Set: s, Version: c.Version, Layer: c.Layer, Bytes: s.Bytes, Files: s.Files, Cached: cached,
		Candidate: c}
}

// bring fetches a candidate's parts and makes them a set; by is the mark of the key that
// vouches for it, "" for none.
func (aq *Acquirer) bring(ctx context.Context, l *locker.Locker, c *resolve.Candidate, by string) (*Fetched, error) {
	var look tree.Sum // at a folder, before it is read
	read := time.Now().UnixNano()
	if c.Folder != "" {
		if s := aq.keptFolder(l, c); s != nil {
			aq.fetched(c, s)
			return fetchedAs(c, s, true), nil
		}
		look, _, _ = lookAt(c.Folder) // that it can't be looked at is told when it is read
	}
	w := l.Writer()
	defer w.Close()
	s := &locker.Set{Owner: locker.Builds, Version: c.Version, Channel: c.Channel, Source: c.Source,
		Taken: time.Now().Round(0), Vouched: by, Root: aq.Dir} // the install that it was fetched for
	got := &gathered{}
	damaged, err := aq.take(ctx, l, w, c, got)
	if err != nil {
		return nil, resolve.Denied(err)
	}
	var left []string
	s.Entries = slices.DeleteFunc(got.all(), func(f locker.File) bool {
		if profile.Reserved(f.Path) {
			left = append(left, f.Path)
			return true
		}
		return false
	})
	s.Vain = got.used.Vain()
	if len(left) > 0 {
		aq.Note("left out, since it is Fresh Keel's own, of another install: %s", words.Some(left, 3))
	}
	s.Tally()
	if err := sane(c, s); err != nil {
		return nil, err
	}
	s.ID = c.Set
	if s.ID == "" || c.Build.Mark != "" { // nothing but its content tells it from another
		s.ID = contentID(s)
	}
	if old, err := l.Head(locker.Builds, s.ID); err == nil && s.Vouched == "" && s.ID == contentID(s) {
		s.Vouched = old.Vouched // the same content, which another server has a key for
	}
	if c.Version == "" {
		// Its own files tell it, so they have to be readable first. The set appears once,
		// with its version: a crash before leaves no build that has none.
		if err := w.Flush(); err != nil {
			return nil, err
		}
		if c.Version = versionInside(l, s, c.Src.Version); c.Version == "" && c.Src.Version == "" && c.Layer == "" {
			c.Version = versionOfRun(aq, l, s)
		}
		s.Version = c.Version
	}
	if by != "" && c.Offer != nil && !c.Offer.Signed() {
		if err := w.Flush(); err != nil {
			return nil, err
		}
		if err := unlabelled(l, c, s, got.said); err != nil {
			return nil, err
		}
	}
	if err := w.Publish(s); err != nil {
		return nil, err
	}
	aq.fetched(c, s)
	if c.Folder != "" {
		noteFolder(l, c.Folder, look, read, s.ID)
	}
	f := fetchedAs(c, s, false)
	f.Damaged = damaged
	return f, nil
}

// take takes a candidate's parts in.
func (aq *Acquirer) take(ctx context.Context, l *locker.Locker, w *locker.Writer, c *resolve.Candidate, got *gathered) (
	damaged []string, err error) {
	switch {
	case c.Folder != "":
		return nil, aq.takeFolder(ctx, w, c.Folder, unpack.Rule{}, aq.buildBefore(l, c), got)
	case c.List != nil:
		return aq.takeListing(ctx, l, w, c, got)
	}
	return nil, aq.takeParts(ctx, l, w, c, got)
}

// sane refuses a build without files, and one whose files lie deeper than is worked on in reasonable time.
func sane(c *resolve.Candidate, s *locker.Set) error {
	if s.Files == 0 {
		return fmt.Errorf("fetch %s: it holds no files", c.Source)
	}
	for _, f := range s.Entries {
		if strings.Count(f.Path, "/") > unpack.MostDeep {
			return fmt.Errorf("fetch %s: %s… is more than %d folders deep", c.Source, f.Path[:min(len(f.Path), 100)], unpack.MostDeep)
		}
	}
	return nil
}

// unlabelled refuses a signed build of which a list that is not signed alone says the version: whoever serves
// the list could give an old build for the newest one. What is signed says it: the comment of its signature
// that is signed with it, or the build itself.
func unlabelled(l *locker.Locker, c *resolve.Candidate, s *locker.Set, said []string) error {
	const do = "ask its makers to sign their list, or to name the file in the signature's trusted comment; or take the build " +
		"yourself, by --from PATH"
	known := versionInside(l, s, "")
	for _, comment := range said {
		for _, word := range strings.Fields(comment) {
			if v := version.In(strings.TrimPrefix(word, "file:")); v != "" && strings.HasPrefix(word, "file:") {
				known = v
			}
		}
	}
	switch {
	case known == "":
		return tell.Advise(fmt.Errorf("%s is signed, and its list is not: nothing that is signed says that it is %s", c.Label(),
			c.Version), do)
	case version.Alike(known, c.Version) == version.Other:
		return tell.Advise(fmt.Errorf("%s is signed, and its list, which is not, calls it %s: by what is signed it is %s",
			c.Source, c.Version, known), do)
	}
	return nil
}

// alone waits until no other command fetches the same build.
func (aq *Acquirer) alone(ctx context.Context, l *locker.Locker, c *resolve.Candidate) (unlock func(), err error) {
	if l.Has(locker.Builds, c.Set) {
		return func() {}, nil
	}
	dir := filepath.Join(l.Dir(), "incoming")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	lock := tree.NewLock(filepath.Join(dir, c.Set+".lock"))
	if ok, err := lock.TryLockContext(ctx, 100*time.Millisecond); err != nil || !ok {
		return nil, fmt.Errorf("wait for another download of %s: %w", c.Label(), err)
	}
	return func() { lock.Unlock() }, nil
}

// contentID names a set by its content.
func contentID(s *locker.Set) string {
	h := tree.NewHash()
	for _, f := range s.Entries {
		h.WriteString(fmt.Sprintf("%q %s %s %s\n", f.Path, f.Kind, f.Sum, f.Target))
	}
	return "taken-" + h.Sum().String()[:16]
}

// fetched remembers what was fetched of a source.
func (aq *Acquirer) fetched(c *resolve.Candidate, s *locker.Set) {
	if c.Offer == nil || c.Offer.Stale {
		return
	}
	m := c.Offer.Memory
	old := m.Sets[c.Version]
	if mark := c.Build.Mark; mark != "" && mark != "?" {
		m.Marks[mark] = s.ID
	}
	if m.Sets[c.Version] = s.ID; old != s.ID || c.Build.Mark != "" {
		m.Save()
	}
}
