package acquire

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/locker"
	"freshkeel/internal/pages"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
)

// before is the build that a new one is most like: the one that is installed, or the newest
// that came from the same source. A large file of the new one is stored over the file that had
// its path there, and of its pages only those are fetched that are not in it.
type before struct {
	l     *locker.Locker
	files map[string]*locker.File // large ones alone, by their path in the build
}

// large is the size from which a file is stored over the one before it, in bytes: a smaller one
// is a piece or two.
const large = 1 << 20

// buildBefore finds it. Without one everything is as if each file were new.
func (aq *Acquirer) buildBefore(l *locker.Locker, c *resolve.Candidate) *before {
	b := &before{l: l, files: map[string]*locker.File{}}
	var ids []string
	if head, err := aq.inv.Head(); err == nil {
		ids = append(ids, head.Of(c.Layer).Build)
	}
	if c.Offer != nil {
		heads, err := l.Heads(locker.Builds)
		if err != nil {
			return b
		}
		slices.SortFunc(heads, func(a, b *locker.Set) int { return b.Taken.Compare(a.Taken) })
		for _, h := range heads {
			for _, id := range c.Offer.Memory.Sets {
				if id == h.ID {
					ids = append(ids, id)
				}
			}
		}
	}
	for _, id := range ids {
		if id == "" || id == c.Set {
			continue
		}
		if err := l.Each(locker.Builds, id, func(f *locker.File) {
			if f.Kind == tree.File && f.Size >= large && b.files[f.Path] == nil {
				one := *f
				one.Pieces = slices.Clone(f.Pieces)
				b.files[f.Path] = &one
			}
		}); err == nil {
			break
		}
	}
	return b
}

// over is the pieces of the file that had a path; nil for none.
func (b *before) over(at string) []tree.Sum {
	if f := b.files[at]; f != nil {
		return f.PieceSums()
	}
	return nil
}

// store stores an item's content, over what had its path before where that was large.
func (b *before) store(ctx context.Context, w *locker.Writer, it unpack.Item, to, dir string, note func(int64)) (
	f locker.File, err error) {
	had := b.over(to)
	if had == nil {
		return w.Add(ctx, it.Body, note)
	}
	spool, err := os.CreateTemp(dir, "inside-*.part")
	if err != nil {
		return f, err
	}
	defer os.Remove(spool.Name())
	defer spool.Close()
	n, err := io.Copy(spool, it.Body)
	if err != nil {
		return f, err
	}
	return w.AddOver(ctx, spool, n, had, note)
}

// fetchPages fetches of a large file what is not in the version before it, and stores it. ok is
// false where there is no such version, or its pages can't be had: then it is fetched whole.
func (t *lister) fetchPages(
	ctx context.Context,
	lf feed.ListedFile,
	to string,
	doc *feed.Files,
) (f locker.File, ok bool,
	err error) {
	was := t.before.files[to]
	if was == nil || lf.Pages.IsZero() || lf.Blake3.IsZero() || lf.Size < pages.From {
		return f, false, nil
	}
	where := doc.Address(lf)
	text, err := t.client.Small(ctx, fetch.Wanted{URL: fetch.Beside(where, feed.PagesSuffix),
		Digests: map[string]string{"blake3": lf.Pages.String()}}, pages.Bound(lf.Size))
	if err != nil {
		return f, false, t.instead(ctx, lf, err)
	}
	list, err := pages.Parse(text, lf.Size)
	if err != nil {
		return f, false, t.instead(ctx, lf, err)
	}
	tmp, err := os.CreateTemp(t.incoming, "file-*.part")
	if err != nil {
		return f, false, err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	came, err := t.assemble(ctx, list, was, where, tmp)
	if err != nil {
		return f, false, t.instead(ctx, lf, err)
	}
	if f, err = t.w.AddOver(ctx, tmp, lf.Size, was.PieceSums(), nil); err != nil {
		return f, false, err
	}
	if f.Sum != lf.Blake3 {
		return f, false, t.instead(ctx, lf, errors.New("what its pages make is not the file that the listing names"))
	}
	t.mu.Lock()
	t.fetched += came + int64(len(text))
	t.mu.Unlock()
	return f, true, nil
}

// instead tells why a file is fetched whole. An end of the command is one.
func (t *lister) instead(ctx context.Context, lf feed.ListedFile, why error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	t.k.Note("%s is fetched whole: %v", lf.Path, why)
	return nil
}

// assemble makes the new version of a file out of the old one and of what is fetched. Each page
// that comes is held against the list.
func (t *lister) assemble(ctx context.Context, list *pages.List, was *locker.File, where string, into *os.File) (
	came int64, err error) {
	at, err := list.Find(func() io.ReaderAt { return t.l.Content(*was) }, was.Size)
	if err != nil {
		return 0, err
	}
	old := t.l.Content(*was)
	buf := make([]byte, pages.Size)
	for i, from := range at {
		a, b := list.Span(i)
		if from == pages.Missing {
			continue
		}
		if n, err := old.ReadAt(buf[:b-a], from); int64(n) != b-a {
			return 0, err
		}
		if _, err := into.WriteAt(buf[:b-a], a); err != nil {
			return 0, err
		}
	}
	var spans []fetch.Span
	_, whole := list.Span(list.Count() - 1)
	for _, r := range list.Ranges(at) {
		spans = append(spans, fetch.Span(r))
		came += r.To - r.From
	}
	if err := t.client.Ranges(ctx, where, whole, spans, into, nil); err != nil {
		return 0, err
	}
	for i, from := range at {
		if from != pages.Missing {
			continue
		}
		a, b := list.Span(i)
		if _, err := into.ReadAt(buf[:b-a], a); err != nil || !list.Holds(i, buf[:b-a]) {
			return 0, fmt.Errorf("bytes %d to %d of %s did not come as the list of pages has them", a, b,
				filepath.Base(fetch.NameOf(where)))
		}
	}
	return came, nil
}
