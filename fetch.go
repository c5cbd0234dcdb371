package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/version"
	"freshkeel/internal/words"

	"github.com/gofrs/flock"
	"github.com/shirou/gopsutil/v4/disk"
	"golang.org/x/sync/errgroup"
)

// Fetched is a build that stands verified in the locker.
type Fetched struct {
	Set       *locker.Set `json:"-"`
	Version   string      `json:"version"`
	Layer     string      `json:"layer,omitempty"`
	Bytes     int64       `json:"bytes"`
	Files     int         `json:"files"`
	Cached    bool        `json:"cached"`
	Damaged   []string    `json:"damaged,omitempty"` // installed files that are not what was put there
	Candidate *Candidate  `json:"-"`
	Layers    []*Fetched  `json:"layers,omitempty"` // to be laid over it, in order

	gone []gone
}

// Fetch brings a build into the locker, and the layers that are wanted with
// it. What is there already is not fetched again.
func (k *Keel) Fetch(ctx context.Context, w Want) (*Fetched, error) {
	all, err := k.gather(ctx, w, false)
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

func (k *Keel) fetch(ctx context.Context, c *Candidate) (*Fetched, error) {
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	done := func(s *locker.Set, cached bool) *Fetched {
		if c.Version == "" {
			c.Version = s.Version
		}
		return &Fetched{Set: s, Version: c.Version, Layer: c.Layer, Bytes: s.Bytes, Files: s.Files, Cached: cached, Candidate: c}
	}
	key, err := feed.Key(c.src, k.in.Dir)
	if err != nil {
		return nil, err
	}
	by := fetch.KeyMark(key)
	if c.stays { // it is installed: nothing is brought in
		by = ""
	}
	if c.set != "" {
		// Another command may be fetching the same: whoever comes second finds
		// it there.
		unlock, err := k.alone(ctx, l, c)
		if err != nil {
			return nil, err
		}
		defer unlock()
		s, err := l.Read(locker.Builds, c.set)
		if err == nil && by != "" && s.Vouched != by {
			k.in.Note("%s is in the locker, but was not signed by [source] key when it was fetched: it is fetched again", c.label())
			err = locker.ErrNoSet
		}
		if err == nil {
			k.fetched(c, s)
			return done(s, true), nil
		}
		if !errors.Is(err, locker.ErrNoSet) {
			return nil, err
		}
	}
	if c.offer != nil && c.offer.stale {
		return nil, tell.Advise(fmt.Errorf("%s is not in the locker, and its source can't be reached", c.label()), "try again when it can be; what is fetched already: freshkeel builds")
	}
	w := l.Writer()
	defer w.Close()
	s := &locker.Set{Owner: locker.Builds, Version: c.Version, Channel: c.Channel, Source: c.Source, Taken: time.Now().Round(0), Vouched: by}
	got := map[string]locker.File{}
	var damaged []string
	switch {
	case c.folder != "":
		err = k.takeFolder(ctx, w, c.folder, unpack.Rule{}, got)
	case c.list != nil:
		damaged, err = k.takeListing(ctx, l, w, c, got)
	default:
		err = k.takeParts(ctx, l, w, c, got)
	}
	if err != nil {
		return nil, denied(err)
	}
	var left []string
	for at, f := range got {
		if profile.Reserved(at) {
			left = append(left, at)
			continue
		}
		s.Entries = append(s.Entries, f)
	}
	if len(left) > 0 {
		slices.Sort(left)
		k.in.Note("left out, since it is Fresh Keel's own, of another install: %s", words.Some(left, 3))
	}
	slices.SortFunc(s.Entries, func(a, b locker.File) int { return strings.Compare(a.Path, b.Path) })
	s.Tally()
	if s.Files == 0 {
		return nil, fmt.Errorf("fetch %s: it holds no files", c.Source)
	}
	s.ID = c.set
	if s.ID == "" || c.build.Mark != "" { // nothing but its content tells it from another
		s.ID = contentID(s)
	}
	if old, err := l.Read(locker.Builds, s.ID); err == nil && s.Vouched == "" && s.ID == contentID(s) {
		s.Vouched = old.Vouched // the same content, which another server has a key for
	}
	if c.Version == "" {
		// Its own files tell it, so they have to be readable first. The set appears once,
		// with its version: a crash before leaves no build that has none.
		if err := w.Flush(); err != nil {
			return nil, err
		}
		c.Version = versionInside(l, s, c.src.Version)
		s.Version = c.Version
	}
	if err := w.Publish(s); err != nil {
		return nil, err
	}
	k.fetched(c, s)
	f := done(s, false)
	f.Damaged = damaged
	return f, nil
}

// alone waits until no other command fetches the same build.
func (k *Keel) alone(ctx context.Context, l *locker.Locker, c *Candidate) (unlock func(), err error) {
	if l.Has(locker.Builds, c.set) {
		return func() {}, nil
	}
	dir := filepath.Join(l.Dir(), "incoming")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	lock := tree.NewLock(filepath.Join(dir, c.set+".lock"))
	if ok, err := lock.TryLockContext(ctx, 100*time.Millisecond); err != nil || !ok {
		return nil, fmt.Errorf("wait for another download of %s: %w", c.label(), err)
	}
	return func() { lock.Unlock() }, nil
}

// contentID names a set by what is in it.
func contentID(s *locker.Set) string {
	h := tree.NewHash()
	for _, f := range s.Entries {
		h.WriteString(fmt.Sprintf("%q %s %s %s\n", f.Path, f.Kind, f.Sum, f.Target))
	}
	return "taken-" + h.Sum().String()[:16]
}

// fetched remembers what was fetched of a source.
func (k *Keel) fetched(c *Candidate, s *locker.Set) {
	if c.offer == nil || c.offer.stale {
		return
	}
	m := c.offer.memory
	old := m.Sets[c.Version]
	if mark := c.build.Mark; mark != "" && mark != "?" {
		m.Marks[mark] = s.ID
	}
	if m.Sets[c.Version] = s.ID; old != s.ID || c.build.Mark != "" {
		m.save()
	}
}

// takeFolder stores what a rule takes of a folder, without the owners it has
// there.
func (k *Keel) takeFolder(ctx context.Context, w *locker.Writer, folder string, rule unpack.Rule, got map[string]locker.File) error {
	list, err := tree.Walk(folder, nil)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(e tree.Entry) bool { return e.Kind != tree.Dir && rule.Path(e.Path) == "" })
	t, err := w.TakeList(ctx, folder, list, nil, k.in.Moves("fetch"))
	if err != nil {
		return err
	}
	if len(t.Moving) > 0 {
		return tell.Advise(fmt.Errorf("take the build from %s: %s changed while it was read", folder, words.Some(t.Moving, 3)), "end what writes there, and try again")
	}
	for _, f := range t.Entries {
		to := rule.Path(f.Path)
		if to == "" || (f.Kind == tree.Dir && (len(rule.Take) > 0 || len(rule.Leave) > 0 || len(rule.Moved) > 0)) {
			continue // folders that files need are made for them
		}
		if old, twice := got[to]; twice && old.Kind != tree.Dir {
			return fmt.Errorf("take the build from %s: two of its files would be %s", folder, to)
		}
		f.Path = to
		f.UID, f.GID, f.Inode, f.Ctime, f.ReadAt = -1, -1, 0, 0, 0
		f.Mode &^= 0o022 | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky
		got[to] = f
	}
	return nil
}

// atOnce is how many files are downloaded at the same time.
const atOnce = 4

// arrived is one part that is here, held by a lock against other commands.
type arrived struct {
	*fetch.Verified
	lock *flock.Flock
}

// takeParts downloads every part, several at a time, and opens them in order;
// a later part's files win over an earlier one's.
func (k *Keel) takeParts(ctx context.Context, l *locker.Locker, w *locker.Writer, c *Candidate, got map[string]locker.File) error {
	incoming := filepath.Join(l.Dir(), "incoming")
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return err
	}
	sweepIncoming(incoming)
	if err := roomFor(incoming, c.parts); err != nil {
		return err
	}
	here := make([]arrived, len(c.parts))
	defer func() {
		for _, a := range here {
			if a.lock != nil {
				a.lock.Unlock()
			}
		}
	}()
	client := k.client(c.src)
	total := k.together("fetch", c.parts)
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for i, p := range c.parts {
		if p.Folder != "" || p.Make != nil {
			continue
		}
		g.Go(func() error {
			name := filepath.Join(incoming, tree.SumBytes([]byte(p.URL)).String()[:16])
			lock := tree.NewLock(name + ".lock")
			if ok, err := lock.TryLockContext(gctx, 100*time.Millisecond); err != nil || !ok {
				return fmt.Errorf("wait for another download of %s: %w", fetch.Shown(p.URL), err)
			}
			here[i].lock = lock
			v, err := client.Download(gctx, p.Wanted, name+".part", total(i))
			here[i].Verified = v
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, p := range c.parts {
		if err := k.takePart(ctx, w, c, p, here[i], incoming, got); err != nil {
			return err
		}
	}
	return nil
}

// roomFor refuses a download that its disk has no room for, before the first byte.
func roomFor(dir string, parts []feed.Part) error {
	var need int64
	for _, p := range parts {
		need += p.Size
	}
	u, err := disk.Usage(dir)
	if err != nil || need == 0 || int64(u.Free) >= need {
		return nil
	}
	return tell.Advise(fmt.Errorf("the download needs %s, and %s has %s free", words.Bytes(need), dir, words.Bytes(int64(u.Free))), "free space there, or move FRESHKEEL_HOME to another disk")
}

// itemEntry describes the item of an archive whose content is stored, as it is to
// stand at a path.
func itemEntry(f locker.File, it unpack.Item, to string) locker.File {
	size := f.Size
	f.Entry = tree.Entry{Path: to, Kind: tree.File, Mode: it.Mode.Perm(), UID: -1, GID: -1, Target: it.Target}
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
	return f
}

// sweepIncoming removes what killed commands left: a download is worth resuming
// for two weeks, the rest for as long as it can be in use.
func sweepIncoming(dir string) {
	list, _ := filepath.Glob(filepath.Join(dir, "*.part*"))
	for _, p := range list {
		keep := 14 * 24 * time.Hour
		for _, passing := range []string{"inside-", "made-", "listing-", "file-"} {
			if strings.HasPrefix(filepath.Base(p), passing) {
				keep = 24 * time.Hour
			}
		}
		if fi, err := os.Stat(p); err == nil && time.Since(fi.ModTime()) > keep {
			os.Remove(p)
		}
	}
}

// together sums the progress of several downloads into one.
func (k *Keel) together(step string, parts []feed.Part) func(i int) func(done, total int64) {
	var mu sync.Mutex
	done, total := make([]int64, len(parts)), make([]int64, len(parts))
	for i, p := range parts {
		total[i] = p.Size
	}
	sum := func(list []int64) (s int64) {
		for _, v := range list {
			s += v
		}
		return
	}
	moves := k.in.Moves(step)
	return func(i int) func(d, t int64) {
		return func(d, t int64) {
			mu.Lock()
			defer mu.Unlock()
			done[i], total[i] = d, t
			moves(sum(done), sum(total))
		}
	}
}

// takePart lays one part over what the parts before it brought.
func (k *Keel) takePart(ctx context.Context, w *locker.Writer, c *Candidate, p feed.Part, a arrived, incoming string, got map[string]locker.File) error {
	if p.Folder != "" {
		return k.takeFolder(ctx, w, p.Folder, p.Unpack, got)
	}
	if p.Make != nil {
		made, err := k.make(ctx, c, p.Make)
		if err != nil {
			return err
		}
		if fi, err := os.Stat(made); err == nil && fi.IsDir() {
			return k.takeFolder(ctx, w, made, p.Unpack, got)
		}
		name := filepath.Join(incoming, "made-"+tree.SumBytes([]byte(made)).String()[:16]+".part")
		if a.Verified, err = k.client(c.src).Download(ctx, fetch.Wanted{URL: made}, name, k.in.Moves("fetch")); err != nil {
			return err
		}
		if err := k.madeAs(c, a.Verified); err != nil {
			os.Remove(a.Path)
			return err
		}
	}
	// Verified and about to be stored piece by piece: the download itself has
	// done its work, whether it can be opened or not.
	defer os.Remove(a.Path)
	switch {
	case a.WeakOnly():
		k.in.Warn("%s is vouched for by a weak digest alone (%s): it tells damage, not malice", fetch.NameOf(p.URL), strings.Join(a.By, ", "))
	case len(a.By) == 0 && fetch.IsURL(p.URL):
		k.in.Note("nothing vouches for %s: its source gives no digest and no signature", fetch.NameOf(p.URL))
	}
	rule := p.Unpack
	if c.guess {
		top, err := k.wrapper(ctx, a.Verified, rule, incoming)
		if err != nil {
			return err
		}
		if top != "" {
			k.in.Note("everything in %s lies in one folder, %s: its content is taken", fetch.NameOf(p.URL), top)
			rule.Strip = 1
		}
	}
	over := feed.Over(c.src)
	var mu sync.Mutex
	var stored int64
	unpacking := func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		stored += n
		k.in.Tell(tell.Event{Kind: tell.StepMoves, Step: "fetch", Text: "opening " + fetch.NameOf(a.URL), Done: stored})
	}
	fresh := map[string]locker.File{}
	found, err := unpack.Unpacked(ctx, a.Verified, rule, incoming, func(it unpack.Item) error {
		to := over.Path(it.Path)
		if to == "" {
			return nil
		}
		f := locker.File{}
		if it.Body != nil {
			var err error
			if f, err = w.Add(ctx, it.Body, unpacking); err != nil {
				return err
			}
		}
		f = itemEntry(f, it, to)
		mu.Lock()
		defer mu.Unlock()
		fresh[to] = f
		return nil
	})
	if err != nil {
		return err
	}
	if len(found.LeftOut) > 0 {
		slices.Sort(found.LeftOut)
		k.in.Note("left out of %s: %s", fetch.NameOf(a.URL), words.Some(found.LeftOut, 6))
	}
	for at := range got {
		if _, again := fresh[at]; !again && removedBy(found.Removals, at) {
			delete(got, at)
		}
	}
	for at, f := range fresh {
		// What was a folder may be a file now, and the other way round.
		if old, ok := got[at]; ok && old.Kind == tree.Dir && f.Kind != tree.Dir {
			for under := range got {
				if strings.HasPrefix(under, at+"/") {
					delete(got, under)
				}
			}
		}
		got[at] = f
	}
	return nil
}

// removedBy tells whether a list of removals names a path, or a folder it is in.
func removedBy(list tree.Patterns, at string) bool {
	if len(list) == 0 {
		return false
	}
	for p := at; p != "."; p = path.Dir(p) {
		if list.Match(p) || slices.Contains(list, p) {
			return true
		}
	}
	return false
}

// wrapper names the one folder that holds everything of an archive, unless the
// install has a folder of that name, which then is part of the layout.
func (k *Keel) wrapper(ctx context.Context, v *fetch.Verified, rule unpack.Rule, dir string) (string, error) {
	var mu sync.Mutex
	top, only, deep := "", true, false
	_, err := unpack.Unpacked(ctx, v, rule, dir, func(it unpack.Item) error {
		mu.Lock()
		defer mu.Unlock()
		first, _, more := strings.Cut(it.Path, "/")
		deep = deep || more
		only = only && (more || it.Mode.IsDir()) && (top == "" || top == first)
		top = first
		return nil
	})
	if err != nil || !only || !deep || k.in.Exists(top) {
		return "", err
	}
	return top, nil
}

func jarVersion(path string) string {
	f, err := os.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	if fi, err := f.Stat(); err == nil {
		if j, _ := needs.ReadJar(f, fi.Size()); j != nil {
			return j.Version
		}
	}
	return ""
}

// versionInside reads a version from what a build holds: how is [source]
// version. Without a word it is the manifest of the only jar at the top.
func versionInside(l *locker.Locker, s *locker.Set, how string) string {
	kind, at, _ := strings.Cut(how, ":")
	ver, jars := "", 0
	for _, f := range s.Entries {
		if f.Kind != tree.File {
			continue
		}
		switch {
		case kind == "file" && f.Path == at && f.Size < 1<<20:
			b := make([]byte, f.Size)
			if _, err := l.Content(f).ReadAt(b, 0); err == nil {
				return version.InText(string(b))
			}
		case (kind == "" || kind == "jar") && strings.HasSuffix(f.Path, ".jar") && (f.Path == at || (at == "" && !strings.Contains(f.Path, "/"))):
			jars++
			if j, _ := needs.ReadJar(l.Content(f), f.Size); j != nil {
				ver = j.Version
			}
		}
	}
	if jars != 1 {
		return ""
	}
	return ver
}
