package acquire

import (
	"context"
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
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/words"

	"github.com/gofrs/flock"
	"github.com/shirou/gopsutil/v4/disk"
	"golang.org/x/sync/errgroup"
)

// atOnce is how many files are downloaded at the same time.
const atOnce = 4

// arrived is one part that is here, held by a lock against other commands.
type arrived struct {
	*fetch.Verified
	lock *flock.Flock
}

// takeParts downloads every part, several at a time, and opens them in order;
// a later part's files win over an earlier one's.
func (aq *Acquirer) takeParts(ctx context.Context, l *locker.Locker, w *locker.Writer, c *resolve.Candidate,
	got *gathered) error {
	incoming := filepath.Join(l.Dir(), "incoming")
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return err
	}
	sweepIncoming(incoming)
	if err := roomFor(incoming, c.Parts); err != nil {
		return err
	}
	here := make([]arrived, len(c.Parts))
	defer func() {
		for _, a := range here {
			if a.lock != nil {
				a.lock.Unlock()
			}
		}
	}()
	client := aq.res.Client(c.Src)
	total := aq.together("fetch", c.Parts)
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for i, p := range c.Parts {
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
	was := aq.buildBefore(l, c)
	for i, p := range c.Parts {
		if err := aq.takePart(ctx, w, c, p, here[i], incoming, was, got); err != nil {
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
	return tell.Advise(fmt.Errorf("the download needs %s, and %s has %s free", words.Bytes(need), dir,
		words.Bytes(int64(u.Free))), "free space there, or move FRESHKEEL_HOME to another disk")
}

// takePart lays one part over what the parts before it brought.
func (aq *Acquirer) takePart(ctx context.Context, w *locker.Writer, c *resolve.Candidate, p feed.Part, a arrived,
	incoming string, was *before, got *gathered) error {
	if p.Folder != "" {
		return aq.takeFolder(ctx, w, p.Folder, p.Unpack, was, got)
	}
	if p.Make != nil {
		made, err := aq.make(ctx, c, p.Make)
		if err != nil {
			return err
		}
		if fi, err := os.Stat(made); err == nil && fi.IsDir() {
			return aq.takeFolder(ctx, w, made, p.Unpack, was, got)
		}
		name := filepath.Join(incoming, "made-"+tree.SumBytes([]byte(made)).String()[:16]+".part")
		if a.Verified, err = aq.res.Client(c.Src).Download(ctx, fetch.Wanted{URL: made}, name,
			aq.Moves("fetch")); err != nil {
			return err
		}
		if err := aq.madeAs(c, a.Verified); err != nil {
			os.Remove(a.Path)
			return err
		}
	}
	// Verified and about to be stored piece by piece: the download itself has
	// done its work, whether it can be opened or not.
	defer os.Remove(a.Path)
	aq.tellVouched(p.URL, a.Verified)
	got.said = append(got.said, a.Said)
	rule := p.Unpack
	if c.Guess {
		top, err := aq.Wrapper(ctx, a.Verified, rule, incoming)
		if err != nil {
			return err
		}
		if top != "" {
			aq.Note("everything in %s lies in one folder, %s: its content is taken", fetch.NameOf(p.URL), top)
			rule.Strip = 1
		}
	}
	over := feed.Over(c.Src)
	see := got.watch(c, &rule, over)
	var mu sync.Mutex
	var stored int64
	unpacking := func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		stored += n
		aq.Tell(tell.Event{Kind: tell.StepMoves, Step: "fetch", Text: "opening " + fetch.NameOf(a.URL), Done: stored})
	}
	fresh := &gathered{}
	found, err := unpack.Unpacked(ctx, a.Verified, rule, incoming, func(it unpack.Item) error {
		see(it.Path)
		to := over.Path(it.Path)
		if to == "" {
			return nil
		}
		f := locker.File{}
		if it.Body != nil {
			var err error
			if f, err = was.store(ctx, w, it, to, incoming, unpacking); err != nil {
				return err
			}
		}
		f = EntryOf(f, it, to)
		mu.Lock()
		defer mu.Unlock()
		fresh.put(f)
		return nil
	})
	if err != nil {
		return err
	}
	if len(found.LeftOut) > 0 {
		slices.Sort(found.LeftOut)
		aq.Note("left out of %s: %s", fetch.NameOf(a.URL), words.Some(found.LeftOut, 6))
	}
	got.over(fresh, func(at string) bool { return removedBy(found.Removals, at) })
	return nil
}

// tellVouched tells where little or nothing vouches for a download.
func (aq *Acquirer) tellVouched(url string, a *fetch.Verified) {
	switch {
	case a.WeakOnly():
		aq.Warn("%s is vouched for by a weak digest alone (%s): it tells damage, not malice", fetch.NameOf(url),
			strings.Join(a.By, ", "))
	case len(a.By) == 0 && fetch.IsURL(url):
		aq.Note("nothing vouches for %s: its source gives no digest and no signature", fetch.NameOf(url))
	}
}

// takeFolder stores what a rule takes of a folder, without the owners it has
// there.
func (aq *Acquirer) takeFolder(ctx context.Context, w *locker.Writer, folder string, rule unpack.Rule, was *before,
	got *gathered) error {
	list, err := tree.Walk(folder, nil)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(e tree.Entry) bool { return e.Kind != tree.Dir && rule.Path(e.Path) == "" })
	t, err := w.TakeList(
		ctx,
		folder,
		list,
		func(at string) []tree.Sum { return was.over(rule.Path(at)) },
		aq.Moves("fetch"),
	)
	if err != nil {
		return err
	}
	if len(t.Moving) > 0 {
		return tell.Advise(fmt.Errorf("take the build from %s: %s changed while it was read", folder,
			words.Some(t.Moving, 3)), "end what writes there, and try again")
	}
	fresh, seen := &gathered{files: t.Entries[:0]}, ""
	for _, f := range t.Entries {
		to := rule.Path(f.Path)
		if to == "" || (f.Kind == tree.Dir && (len(rule.Take) > 0 || len(rule.Leave) > 0 || len(rule.Moved) > 0)) {
			continue // folders that files need are made for them
		}
		f.Path = to
		f.UID, f.GID, f.Inode, f.Ctime, f.ReadAt = tree.NoID, tree.NoID, 0, 0, 0
		f.Mode &^= 0o022 | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky
		if to > seen { // as nearly always: the folder's own order
			seen = to
			fresh.files = append(fresh.files, f)
			continue
		}
		if old := fresh.get(to); old != nil && old.Kind != tree.Dir {
			return fmt.Errorf("take the build from %s: two of its files would be %s", folder, to)
		}
		fresh.put(f)
		seen = "\xff" // from here on each is looked for
	}
	got.over(fresh, nil)
	return nil
}

// EntryOf describes the item of an archive whose content is stored, as it is to
// stand at a path.
func EntryOf(f locker.File, it unpack.Item, to string) locker.File {
	size := f.Size
	f.Entry = tree.Entry{Path: to, Kind: tree.File, Mode: it.Mode.Perm(), UID: tree.NoID, GID: tree.NoID,
		Target: it.Target}
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
func (aq *Acquirer) together(step string, parts []feed.Part) func(i int) func(done, total int64) {
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
	moves := aq.Moves(step)
	return func(i int) func(d, t int64) {
		return func(d, t int64) {
			mu.Lock()
			defer mu.Unlock()
			done[i], total[i] = d, t
			moves(sum(done), sum(total))
		}
	}
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

// Wrapper names the one folder that holds everything of an archive, unless the
// install has a folder of that name, which then is part of the layout.
func (aq *Acquirer) Wrapper(ctx context.Context, v *fetch.Verified, rule unpack.Rule, dir string) (string, error) {
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
	if err != nil || !only || !deep || aq.Exists(top) {
		return "", err
	}
	return top, nil
}
