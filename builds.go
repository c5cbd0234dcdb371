package freshkeel

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"freshkeel/internal/feed"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/tree"

	"github.com/gofrs/flock"
)

// Want says which build.
type Want struct {
	Version string   // "": the newest of the profile's channel
	From    string   // a path or URL to take a build from, instead of the feed
	As      string   // the version of a build taken From somewhere, where its name doesn't tell
	Back    bool     // an older version is meant
	Start   bool     // leave the server running even if it wasn't
	Accept  []string // checks to go past although they say stop
}

// Candidate is a build that was found and not yet fetched.
type Candidate struct {
	Version string
	Channel string
	Source  string // feed or place it comes from

	steps  []string // versions that may step to it
	parts  []feed.Part
	folder string // a folder taken as it is
	guess  bool   // archives may wrap everything in one folder
	rank   func(version string) int
}

// Build is one row of what the source offers.
type Build struct {
	Version   string `json:"version"`
	Channel   string `json:"channel,omitempty"`
	Date      string `json:"date,omitempty"`
	Notes     string `json:"notes,omitempty"`
	Bytes     int64  `json:"bytes,omitempty"` // to download, 0: not told
	Installed bool   `json:"installed"`
	Newer     bool   `json:"newer"`
	Fetched   bool   `json:"fetched"`
	InChannel bool   `json:"in_channel"`
}

// Builds lists what the source offers, oldest first, and how each stands to
// what is installed. installed is "" where it isn't known.
func (k *Keel) Builds(ctx context.Context) (rows []Build, installed string, err error) {
	f, err := k.feed(ctx)
	if err != nil {
		return nil, "", err
	}
	inv, err := k.inventory()
	if err != nil {
		return nil, "", err
	}
	l, err := k.locker()
	if err != nil {
		return nil, "", err
	}
	for _, b := range f.Builds {
		c, err := k.candidate(f, b)
		if err != nil {
			return nil, "", err
		}
		row := Build{Version: b.Version, Channel: b.Channel, Date: b.Date, Notes: b.Notes,
			Installed: b.Version == inv.Version, Fetched: l.Has(locker.Builds, c.setID()),
			Newer:     inv.Version != "" && newer(f, inv.Version, b.Version),
			InChannel: k.Profile.Source.Channel == "" || b.Channel == k.Profile.Source.Channel}
		for _, p := range b.Parts {
			row.Bytes += p.Size
		}
		rows = append(rows, row)
	}
	return rows, inv.Version, nil
}

// newer orders two versions as the feed does; by their numbers where the feed
// does not list both.
func newer(f *feed.Feed, than, version string) bool {
	if f != nil {
		if a, b := f.Rank(than), f.Rank(version); a >= 0 && b >= 0 {
			return b > a
		}
	}
	return feed.Compare(version, than) > 0
}

func (k *Keel) feed(ctx context.Context) (*feed.Feed, error) {
	where := k.Profile.Source.Feed
	if where == "" {
		return nil, &Advised{errors.New("the profile names no feed: [source] feed is empty"), "set it in freshkeel.toml, or take a build from a path or URL with --from"}
	}
	if !feed.IsURL(where) && !strings.HasPrefix(where, "file://") && !filepath.IsAbs(where) {
		where = filepath.Join(k.Dir, filepath.FromSlash(where))
	}
	return feed.Read(ctx, where)
}

func (k *Keel) candidate(f *feed.Feed, b feed.Build) (*Candidate, error) {
	c := &Candidate{Version: b.Version, Channel: b.Channel, Source: feed.Shown(f.Where()), steps: b.From, rank: f.Rank}
	for _, p := range b.Parts {
		url, err := f.Resolve(p.URL)
		if err != nil {
			return nil, fmt.Errorf("part %s of %s: %w", p.URL, b.Version, err)
		}
		p.URL = url
		c.parts = append(c.parts, p)
	}
	return c, nil
}

// resolve finds the build that is wanted. Nothing is fetched but the feed.
func (k *Keel) resolve(ctx context.Context, w Want) (*Candidate, error) {
	if w.From != "" {
		if w.Version != "" {
			return nil, &Usage{"a version and --from together: which one is meant?", "give the version of a build taken --from somewhere with --as"}
		}
		return k.fromPlace(w)
	}
	f, err := k.feed(ctx)
	if err != nil {
		return nil, err
	}
	if w.Version == "" {
		b, ok := f.Newest(k.Profile.Source.Channel)
		if !ok {
			return nil, fmt.Errorf("the feed offers no build in channel %q", k.Profile.Source.Channel)
		}
		return k.candidate(f, b)
	}
	b, ok := f.Find(w.Version)
	if !ok {
		var have []string
		for _, b := range f.Builds {
			have = append(have, b.Version)
		}
		return nil, &Advised{fmt.Errorf("the feed has no build %s; it has %s", w.Version, strings.Join(have, ", ")), "freshkeel builds"}
	}
	return k.candidate(f, b)
}

// fromPlace makes a candidate of a file, folder or URL.
func (k *Keel) fromPlace(w Want) (*Candidate, error) {
	c := &Candidate{Version: w.As, Source: feed.Shown(w.From), guess: true}
	if c.Version == "" {
		c.Version = feed.VersionIn(feed.NameOf(w.From))
	}
	if feed.IsURL(w.From) {
		c.parts = []feed.Part{{URL: w.From}}
		return c, nil
	}
	full, err := filepath.Abs(w.From)
	if err != nil {
		return nil, err
	}
	fi, err := os.Stat(full)
	if err != nil {
		return nil, fmt.Errorf("take the build from %s: %w", w.From, errors.Unwrap(err))
	}
	c.Source = full
	if fi.IsDir() {
		if tree.Inside(k.Dir, full) && full == k.Dir {
			return nil, &Usage{"that is the install itself, not a build for it", "give the folder that the new build was unpacked into"}
		}
		c.folder = full
		return c, nil
	}
	c.parts = []feed.Part{{URL: full}}
	return c, nil
}

// setID is the name of the fetched build in the locker. Where every part has a
// digest it follows the content alone, so that servers share builds whatever
// the address; without digests it follows the addresses.
func (c *Candidate) setID() string {
	type part struct {
		Where  string
		Unpack feed.Unpack
	}
	var parts []part
	for _, p := range c.parts {
		at := p.URL
		if len(p.Digests) > 0 {
			var all []string
			for name, d := range p.Digests {
				all = append(all, name+":"+strings.ToLower(d))
			}
			sort.Strings(all)
			at = strings.Join(all, " ") + " " + feed.NameOf(p.URL)
		}
		parts = append(parts, part{at, p.Unpack})
	}
	b, _ := json.Marshal(struct {
		Version string
		Parts   []part
	}{c.Version, parts})
	return "build-" + tree.SumBytes(b).String()[:16]
}

// Fetched is a build that stands verified in the locker.
type Fetched struct {
	Set       *locker.Set `json:"-"`
	Version   string      `json:"version"`
	Bytes     int64       `json:"bytes"`
	Files     int         `json:"files"`
	Cached    bool        `json:"cached"`
	Candidate *Candidate  `json:"-"`
}

// Fetch brings a build into the locker. A build that is there already is not
// fetched again.
func (k *Keel) Fetch(ctx context.Context, w Want) (*Fetched, error) {
	c, err := k.resolve(ctx, w)
	if err != nil {
		return nil, err
	}
	return k.fetch(ctx, c)
}

func (k *Keel) fetch(ctx context.Context, c *Candidate) (*Fetched, error) {
	l, err := k.locker()
	if err != nil {
		return nil, err
	}
	done := func(s *locker.Set, cached bool) *Fetched {
		return &Fetched{Set: s, Version: c.Version, Bytes: s.Bytes, Files: s.Files, Cached: cached, Candidate: c}
	}
	if !c.guess {
		s, err := l.Read(locker.Builds, c.setID())
		if err == nil {
			return done(s, true), nil
		}
		if !errors.Is(err, locker.ErrNoSet) {
			return nil, err
		}
	}
	w := l.Writer()
	defer w.Close()
	s := &locker.Set{Owner: locker.Builds, Version: c.Version, Channel: c.Channel, Source: c.Source, Taken: time.Now().Round(0)}
	if c.folder != "" {
		s.Entries, err = k.takeFolder(ctx, w, c.folder)
	} else {
		s.Entries, err = k.takeParts(ctx, l, w, c)
	}
	if err != nil {
		return nil, err
	}
	if len(s.Entries) == 0 {
		return nil, fmt.Errorf("fetch %s: it holds no files", c.Source)
	}
	s.ID = c.setID()
	if c.guess { // no feed vouches for it: its name follows what is in it
		h := tree.NewHash()
		for _, f := range s.Entries {
			h.WriteString(fmt.Sprintf("%q %s %s %s\n", f.Path, f.Kind, f.Sum, f.Target))
		}
		s.ID = "taken-" + h.Sum().String()[:16]
	}
	if err := w.Publish(s); err != nil {
		return nil, err
	}
	if c.Version == "" {
		c.Version = versionInside(l, s)
		s.Version = c.Version
	}
	return done(s, false), nil
}

// takeFolder stores a folder as a build, without the owners it has there.
func (k *Keel) takeFolder(ctx context.Context, w *locker.Writer, folder string) ([]locker.File, error) {
	// A folder that is itself an install has a profile and a log of its own.
	t, err := w.Take(ctx, folder, tree.Patterns{"freshkeel.toml"}, nil, k.moves("fetch"))
	if err != nil {
		return nil, err
	}
	if len(t.Moving) > 0 {
		return nil, fmt.Errorf("take the build from %s: %s changed while it was read", folder, strings.Join(t.Moving, ", "))
	}
	for i := range t.Entries {
		f := &t.Entries[i]
		f.UID, f.GID, f.Inode, f.Ctime, f.ReadAt = -1, -1, 0, 0, 0
		f.Mode &^= 0o022 | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky
	}
	return t.Entries, nil
}

// takeParts downloads, verifies and opens each part in order; a later part's
// files win over an earlier one's.
func (k *Keel) takeParts(ctx context.Context, l *locker.Locker, w *locker.Writer, c *Candidate) ([]locker.File, error) {
	incoming := filepath.Join(l.Dir(), "incoming")
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return nil, err
	}
	got := map[string]locker.File{}
	for _, p := range c.parts {
		name := filepath.Join(incoming, tree.SumBytes([]byte(p.URL)).String()[:16])
		lock := flock.New(name+".lock", flock.SetPermissions(0o600))
		if ok, err := lock.TryLockContext(ctx, 100*time.Millisecond); err != nil || !ok {
			return nil, fmt.Errorf("wait for another download of %s: %w", feed.Shown(p.URL), err)
		}
		err := k.takePart(ctx, w, p, name+".part", c.guess, got)
		lock.Unlock()
		if err != nil {
			return nil, err
		}
	}
	var out []locker.File
	for _, f := range got {
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b locker.File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

func (k *Keel) takePart(ctx context.Context, w *locker.Writer, p feed.Part, dest string, guess bool, got map[string]locker.File) error {
	v, err := feed.Download(ctx, p, dest, k.moves("fetch"))
	if err != nil {
		return err
	}
	// Verified and about to be stored piece by piece: the download itself has
	// done its work, whether it can be opened or not.
	defer os.Remove(v.Path)
	rule := p.Unpack
	if guess {
		top, err := k.wrapper(v, rule)
		if err != nil {
			return err
		}
		if top != "" {
			k.note("everything in %s lies in one folder, %s: its content is taken", feed.NameOf(p.URL), top)
			rule.Strip = 1
		}
	}
	return feed.Unpacked(v, rule, func(it feed.Item) error {
		f := locker.File{}
		if it.Body != nil {
			var err error
			if f, err = w.Add(ctx, it.Body, nil); err != nil {
				return err
			}
		}
		size := f.Size
		f.Entry = tree.Entry{Path: it.Path, Kind: tree.File, Mode: it.Mode.Perm(), UID: -1, GID: -1, Target: it.Target}
		f.Size = size
		if y := it.Mtime.Year(); y > 1980 && y < 2200 {
			f.Mtime = it.Mtime.UnixNano()
		}
		switch {
		case it.Mode.IsDir():
			f.Kind = tree.Dir
		case it.Mode&fs.ModeSymlink != 0:
			f.Kind = tree.Link
		}
		got[f.Path] = f
		return nil
	})
}

// wrapper names the one folder that holds everything of an archive, unless the
// install has a folder of that name, which then is part of the layout.
func (k *Keel) wrapper(v *feed.Verified, rule feed.Unpack) (string, error) {
	top, only, deep := "", true, false
	err := feed.Unpacked(v, rule, func(it feed.Item) error {
		first, _, more := strings.Cut(it.Path, "/")
		deep = deep || more
		only = only && (more || it.Mode.IsDir()) && (top == "" || top == first)
		top = first
		return nil
	})
	if err != nil || !only || !deep || k.exists(top) {
		return "", err
	}
	return top, nil
}

// versionInside reads a version from the manifest of the only jar of a build.
func versionInside(l *locker.Locker, s *locker.Set) string {
	version, jars := "", 0
	for _, f := range s.Entries {
		if f.Kind != tree.File || !strings.HasSuffix(f.Path, ".jar") || strings.Contains(f.Path, "/") {
			continue
		}
		jars++
		if j, _ := needs.ReadJar(l.Content(f), f.Size); j != nil {
			version = j.Version
		}
	}
	if jars != 1 {
		return ""
	}
	return version
}
