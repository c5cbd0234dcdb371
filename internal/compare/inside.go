package compare

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"freshkeel/internal/tree"
	"freshkeel/internal/words"

	"github.com/aymanbagabas/go-udiff"
	"github.com/klauspost/compress/zip"
)

// Bounds of what is looked into.
const (
	maxText    = 1 << 20 // bytes of a text that is compared by lines
	maxLines   = 40_000  // and its lines
	maxEntries = 200_000 // of an archive
	maxPeeks   = 5000    // how many changed files are looked into
)

// lookInside says of what was changed how: a text by its lines, an archive by its entries.
func (c *comparing) lookInside(ctx context.Context) error {
	var changed []*Difference
	for i := range c.out.Differences {
		d := &c.out.Differences[i]
		if d.Kind == Changed && d.What == "" {
			d.What = summary(d)
			if len(changed) < maxPeeks {
				changed = append(changed, d)
			}
		}
	}
	for _, one := range []struct {
		s  *Side
		of func(d *Difference) *entry
	}{{c.a, func(d *Difference) *entry { return d.a }}, {c.b, func(d *Difference) *entry { return d.b }}} {
		if one.s.prepare == nil || len(changed) == 0 {
			continue
		}
		var list []*entry
		for _, d := range changed {
			list = append(list, one.of(d))
		}
		if err := one.s.prepare(ctx, list); err != nil {
			return err
		}
	}
	return each(ctx, len(changed), func(i int) error { return c.peek(changed[i]) })
}

func (c *comparing) peek(d *Difference) error {
	fa, na, doneA, err := c.a.open(d.a)
	if err != nil {
		return fmt.Errorf("read %s of %s: %w", d.Path, c.a.Label, err)
	}
	defer doneA()
	fb, nb, doneB, err := c.b.open(d.b)
	if err != nil {
		return fmt.Errorf("read %s of %s: %w", d.Path, c.b.Label, err)
	}
	defer doneB()
	if zipped(fa) && zipped(fb) {
		return archives(d, fa, na, fb, nb)
	}
	if na > maxText || nb > maxText {
		return nil
	}
	a, b := make([]byte, na), make([]byte, nb)
	if full(fa, a, 0) != nil || full(fb, b, 0) != nil || !isText(a) || !isText(b) {
		return nil
	}
	c.texts(d, string(a), string(b))
	return nil
}

func isText(b []byte) bool {
	return bytes.IndexByte(b, 0) < 0 && utf8.Valid(b) && bytes.Count(b, []byte("\n")) <= maxLines
}

// texts compares two texts by their lines. Line ends count: a text that differs by them alone is
// told as that.
func (c *comparing) texts(d *Difference, a, b string) {
	unix := func(s string) string { return strings.ReplaceAll(s, "\r\n", "\n") }
	if unix(a) == unix(b) {
		d.What = "its line ends alone differ"
		return
	}
	diff := udiff.Unified(d.Path, d.Path, a, b)
	for i, line := range strings.Split(diff, "\n") {
		switch {
		case i < 2: // the two names
		case strings.HasPrefix(line, "+"):
			d.Plus++
		case strings.HasPrefix(line, "-"):
			d.Less++
		}
	}
	d.What = fmt.Sprintf("%s more, %s less", words.Plural(d.Plus, "line"), words.Plural(d.Less, "line"))
	if c.o.Text == 0 {
		return
	}
	if _, body, ok := strings.Cut(diff, "\n"); ok {
		_, diff, _ = strings.Cut(body, "\n") // the names are told already
	}
	if len(diff) > c.o.Text {
		cut := strings.LastIndexByte(diff[:c.o.Text], '\n') + 1
		left := strings.Count(diff[cut:], "\n")
		diff = fmt.Sprintf("%s… and %s more of the diff\n", diff[:cut], words.Plural(left, "line"))
	}
	d.Diff = diff
}

func zipped(r io.ReaderAt) bool {
	b := make([]byte, 4)
	n, _ := r.ReadAt(b, 0)
	return n == 4 && string(b) == "PK\x03\x04"
}

// archives compares two zips by their entries: by what they unpack to, whatever they are packed
// like and whichever dates they say.
func archives(d *Difference, fa io.ReaderAt, na int64, fb io.ReaderAt, nb int64) error {
	za, errA := zip.NewReader(fa, na)
	zb, errB := zip.NewReader(fb, nb)
	if errA != nil || errB != nil || len(za.File) > maxEntries || len(zb.File) > maxEntries {
		return nil // of no use as archives: that they differ is told
	}
	was := map[string]*zip.File{}
	for _, f := range za.File {
		if !strings.HasSuffix(f.Name, "/") {
			was[f.Name] = f
		}
	}
	same := 0
	for _, f := range zb.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		old := was[f.Name]
		delete(was, f.Name)
		switch {
		case old == nil:
			d.Inside = append(d.Inside, Difference{Kind: Added, Path: f.Name, After: int64(f.UncompressedSize64)})
		case sameEntry(old, f):
			same++
		default:
			d.Inside = append(d.Inside, Difference{Kind: Changed, Path: f.Name, Before: int64(old.UncompressedSize64),
				After: int64(f.UncompressedSize64)})
		}
	}
	for name, f := range was {
		d.Inside = append(d.Inside, Difference{Kind: Gone, Path: name, Before: int64(f.UncompressedSize64)})
	}
	slices.SortFunc(d.Inside, func(a, b Difference) int { return strings.Compare(a.Path, b.Path) })
	if len(d.Inside) == 0 {
		d.What = "packed anew: what is in it is the same, " + words.Plural(same, "file")
		return nil
	}
	d.What = fmt.Sprintf("%s; in it %s, and %s the same", summary(d), words.Differ(len(d.Inside), "file"),
		words.Is(same, "file"))
	return nil
}

// sameEntry tells whether two entries unpack to the same. The check sums that archives carry
// tell what differs; what they call alike is read.
func sameEntry(a, b *zip.File) bool {
	if a.UncompressedSize64 != b.UncompressedSize64 || a.CRC32 != b.CRC32 {
		return false
	}
	sum := func(f *zip.File) (tree.Sum, bool) {
		r, err := f.Open()
		if err != nil {
			return tree.Sum{}, false
		}
		defer r.Close()
		h := tree.NewHash()
		_, err = io.Copy(h, io.LimitReader(r, int64(f.UncompressedSize64)+1))
		return h.Sum(), err == nil
	}
	x, okA := sum(a)
	y, okB := sum(b)
	return okA && okB && x == y
}
