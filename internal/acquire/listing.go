package acquire

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"sync"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/words"

	"golang.org/x/sync/errgroup"
)

// smallFile is up to which size a listed file is fetched in memory, in bytes.
const smallFile = 2 << 20

// takeListing brings a build here file by file: only what neither the install
// nor the locker holds crosses the wire. Everything is held against the
// listing, wherever it came from.
func (aq *Acquirer) takeListing(ctx context.Context, l *locker.Locker, w *locker.Writer, c *resolve.Candidate,
	got *gathered) (damaged []string, err error) {
	incoming := filepath.Join(l.Dir(), "incoming")
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return nil, err
	}
	client := aq.res.Client(c.Src)
	doc, err := aq.readListing(ctx, l, client, c, incoming)
	if err != nil {
		return nil, err
	}
	inv, err := aq.inv.Read()
	if err != nil {
		return nil, err
	}
	t := &lister{k: aq, l: l, w: w, c: c, client: client, incoming: incoming, old: inv.ByPath(tree.Spelling{}),
		known: aq.knownContent(l, c, inv), moves: aq.Moves("fetch"), before: aq.buildBefore(l, c)}
	for _, f := range doc.Files {
		t.total += f.Size
	}
	// Files that are here are read by as many workers as there are processors; the others, by
	// more, since they wait for the line.
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(max(8, runtime.GOMAXPROCS(0)))
	var mu sync.Mutex
	over := feed.Over(c.Src)
	got.used = over.Watch()
	for _, lf := range doc.Files {
		got.used.See(lf.Path)
		to := over.Path(lf.Path)
		if to == "" {
			continue
		}
		g.Go(func() error {
			f, err := t.take(gctx, lf, to, doc)
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			f.Path = to
			got.put(f)
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	aq.Note("%s of %s fetched; the rest, %s, was here already and is what the listing says", words.Bytes(t.fetched),
		words.Bytes(t.total), words.Bytes(t.total-t.fetched))
	if len(t.damaged) > 0 {
		slices.Sort(t.damaged)
		aq.Note("not what was put there: %s", words.Some(t.damaged, 6))
	}
	return t.damaged, nil
}

// readListing fetches the listing: what changed since a version that the locker
// holds, where the feed has that, or else the whole.
func (aq *Acquirer) readListing(ctx context.Context, l *locker.Locker, client *fetch.Client, c *resolve.Candidate,
	incoming string) (*feed.Files, error) {
	read := func(w fetch.Wanted, old []feed.ListedFile) (*feed.Files, error) {
		name := filepath.Join(incoming, "listing-"+tree.SumBytes([]byte(w.URL)).String()[:16]+".part")
		v, err := client.Download(ctx, w, name, nil)
		if err != nil {
			return nil, err
		}
		defer os.Remove(name)
		doc, err := feed.ReadListing(v.Path, c.List, old)
		if err != nil {
			return nil, fmt.Errorf("read the listing %s: %w", fetch.Shown(w.URL), err)
		}
		if doc.Version != "" && doc.Version != c.Version {
			return nil, fmt.Errorf("read the listing %s: it lists version %s, and the list of builds gives it for %s",
				fetch.Shown(w.URL), doc.Version, c.Version)
		}
		return doc, nil
	}
	changes := c.List.Changes
	if !reflect.DeepEqual(feed.Over(c.Src), unpack.Rule{}) {
		changes = nil // the locker does not hold all that was listed
	}
	for _, change := range slices.Backward(changes) {
		s, err := l.Read(locker.Builds, c.Offer.Memory.Sets[change.Over])
		if err != nil {
			continue
		}
		doc, err := read(change.Wanted, listed(s))
		if err == nil {
			return doc, nil
		}
		if ctx.Err() != nil {
			return nil, err
		}
		aq.Note("what changed since %s can't be used: %v", change.Over, err)
	}
	return read(c.List.Wanted, nil)
}

// listed is a fetched build as a listing has it.
func listed(s *locker.Set) []feed.ListedFile {
	out := []feed.ListedFile{}
	for _, f := range s.Entries {
		if f.Kind == tree.File {
			out = append(out, feed.ListedFile{Path: f.Path, Size: f.Size, Blake3: f.Sum, Run: f.Mode&0o111 != 0})
		}
	}
	return out
}

// knownContent finds the locker's content by its hash, among what this source
// and this install have had before.
func (aq *Acquirer) knownContent(l *locker.Locker, c *resolve.Candidate,
	inv *inventory.Inventory) map[tree.Sum]locker.File {
	ids := inv.Sets()
	if c.Offer != nil {
		for _, id := range c.Offer.Memory.Sets {
			ids = append(ids, id)
		}
	}
	return inventory.ContentOf(l, ids)
}

// lister takes the files of one listing.
type lister struct {
	k        *Acquirer
	l        *locker.Locker
	w        *locker.Writer
	c        *resolve.Candidate
	client   *fetch.Client
	incoming string
	old      map[string]inventory.Owned
	known    map[tree.Sum]locker.File
	moves    func(done, total int64)
	before   *before

	mu                   sync.Mutex
	done, total, fetched int64
	damaged              []string
}

func (t *lister) take(ctx context.Context, lf feed.ListedFile, to string, doc *feed.Files) (f locker.File, err error) {
	defer func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.done += lf.Size
		t.moves(t.done, t.total)
	}()
	entry := tree.Entry{Kind: tree.File, Mode: 0o644, UID: tree.NoID, GID: tree.NoID}
	if lf.Run {
		entry.Mode = 0o755
	}
	take := func(src locker.File) locker.File {
		size := lf.Size
		if lf.Unsized { // what the list does not tell is known now
			size = src.Size
			t.mu.Lock()
			t.total += size
			t.mu.Unlock()
		}
		src.Entry, src.Size = entry, size
		return src
	}
	here, same, err := t.installed(ctx, lf, to)
	if err != nil {
		return f, err
	}
	if same {
		return take(here), nil
	}
	if known, ok := t.known[lf.Blake3]; ok && !lf.Blake3.IsZero() && known.Size == lf.Size {
		return take(known), nil
	}
	f, ok, err := t.fetchPages(ctx, lf, to, doc)
	if err != nil {
		return f, err
	}
	if ok {
		return take(f), nil
	}
	if f, err = t.fetch(ctx, lf, to, doc); err != nil {
		return f, err
	}
	if (f.Size != lf.Size && !lf.Unsized) || (!lf.Blake3.IsZero() && f.Sum != lf.Blake3) {
		return f, &fetch.Wrong{URL: doc.Address(lf), What: "its content", Want: lf.Blake3.Short(), Got: f.Sum.Short()}
	}
	t.mu.Lock()
	t.fetched += f.Size
	t.mu.Unlock()
	return take(f), nil
}

// installed reads the installed file of that name, and tells whether it is
// what the listing says. It is read even where its times say that nobody has
// written to it: disks forget.
func (t *lister) installed(ctx context.Context, lf feed.ListedFile, to string) (f locker.File, same bool, err error) {
	at := t.c.NameOf(to)
	full := t.k.Path(at)
	here, ok, err := tree.Describe(full, at)
	was, had := t.old[at]
	if err != nil || !ok || here.Kind != tree.File {
		return f, false, nil
	}
	if lf.Blake3.IsZero() {
		return t.installedBy(ctx, lf, full, here)
	}
	if here.Size == lf.Size {
		sum, err := tree.SumFile(full)
		if err != nil {
			return f, false, fmt.Errorf("read %s: %w", full, err)
		}
		if sum == lf.Blake3 {
			if known, ok := t.known[sum]; ok {
				return known, true, nil
			}
			src, err := tree.OpenRegular(full)
			if err != nil {
				return f, false, err
			}
			defer src.Close()
			f, err = t.w.AddOver(ctx, src, here.Size, t.before.over(to), nil)
			return f, err == nil && f.Sum == sum, err
		}
	}
	if had && was.Sum == lf.Blake3 && !t.k.Profile.Server.Own(at) {
		t.mu.Lock()
		t.damaged = append(t.damaged, at)
		t.mu.Unlock()
	}
	return f, false, nil
}

// installedBy is installed for a file that a maker's own list names by other digests than ours.
func (t *lister) installedBy(
	ctx context.Context,
	lf feed.ListedFile,
	full string,
	here tree.Entry,
) (f locker.File, same bool,
	err error) {
	if !lf.Unsized && here.Size != lf.Size {
		return f, false, nil
	}
	src, err := tree.OpenRegular(full)
	if err != nil {
		return f, false, nil // it is fetched
	}
	defer src.Close()
	if same, err := fetch.Matches(src, lf.Digests()); err != nil || !same {
		return f, false, err
	}
	if _, err := src.Seek(0, io.SeekStart); err != nil {
		return f, false, err
	}
	f, err = t.w.Add(ctx, src, nil)
	return f, err == nil, err
}

func (t *lister) fetch(ctx context.Context, lf feed.ListedFile, to string, doc *feed.Files) (f locker.File, err error) {
	w := fetch.Wanted{URL: doc.Address(lf), Size: lf.Size, Digests: lf.Digests()}
	if lf.Size <= smallFile && !lf.Unsized {
		b, err := t.client.Small(ctx, w, smallFile)
		if err != nil {
			return f, err
		}
		return t.w.Add(ctx, bytes.NewReader(b), nil)
	}
	name := filepath.Join(t.incoming, "file-"+tree.SumBytes([]byte(w.URL)).String()[:16]+".part")
	v, err := t.client.Download(ctx, w, name, nil)
	if err != nil {
		return f, err
	}
	defer os.Remove(name)
	src, err := tree.OpenRegular(v.Path)
	if err != nil {
		return f, err
	}
	defer src.Close()
	return t.w.AddOver(ctx, src, v.Size, t.before.over(to), nil)
}
