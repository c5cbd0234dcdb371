package fetch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
)

// Span is a stretch of a file: its bytes From to To, without To.
type Span struct{ From, To int64 }

// ErrNoRanges says that a server gives no parts of a file, or others than were asked for.
var ErrNoRanges = errors.New("the server gives no parts of files")

const (
	askedAtOnce = 96       // spans in one request: servers bound how long its head may be
	gap         = 32 << 10 // bytes between two spans that are fetched with them where one is asked at a time
)

// Ranges fetches stretches of a file of a certain size (RFC 9110, section 14) and writes each to
// its place; spans are in order, and apart. Many are asked for in one request; from a server
// that answers one at a time, one at a time. Nothing is verified here. note, which may be nil,
// hears how many bytes have come.
func (c *Client) Ranges(ctx context.Context, where string, size int64, spans []Span, into io.WriterAt,
	note func(int64)) error {
	if note == nil {
		note = func(int64) {}
	}
	if !IsURL(where) {
		return localRanges(LocalPath(where), spans, into, note)
	}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for some := range slices.Chunk(spans, askedAtOnce) {
		g.Go(func() error {
			left := slices.Clone(some)
			_, err := retry(gctx, tries, func() (any, error) {
				var err error
				left, err = c.askSpans(gctx, where, size, left, into, note)
				return nil, err
			})
			if err == nil && len(left) > 0 { // it answers one at a time
				err = c.oneByOne(gctx, where, size, left, into, note)
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("fetch parts of %s: %w", Shown(where), err)
	}
	return nil
}

func localRanges(path string, spans []Span, into io.WriterAt, note func(int64)) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	for _, s := range spans {
		n, err := io.Copy(io.NewOffsetWriter(into, s.From), io.NewSectionReader(f, s.From, s.To-s.From))
		if err != nil || n != s.To-s.From {
			return errors.Join(err, ErrNoRanges)
		}
		note(n)
	}
	return nil
}

// oneByOne asks for one stretch at a time, neighbours together.
func (c *Client) oneByOne(ctx context.Context, where string, size int64, spans []Span, into io.WriterAt,
	note func(int64)) error {
	var joined []Span
	for _, s := range spans {
		if n := len(joined); n > 0 && s.From-joined[n-1].To <= gap {
			joined[n-1].To = s.To
		} else {
			joined = append(joined, s)
		}
	}
	for _, s := range joined {
		left, err := retry(ctx, tries, func() ([]Span, error) {
			return c.askSpans(ctx, where, size, []Span{s}, into, note)
		})
		if err != nil {
			return err
		}
		if len(left) > 0 {
			return ErrNoRanges
		}
	}
	return nil
}

// askSpans asks for some stretches in one request, and returns those that did not come.
func (c *Client) askSpans(ctx context.Context, where string, size int64, spans []Span, into io.WriterAt,
	note func(int64)) ([]Span, error) {
	var asked []string
	var total int64
	for _, s := range spans {
		asked = append(asked, fmt.Sprintf("%d-%d", s.From, s.To-1))
		total += s.To - s.From
	}
	resp, err := c.ask(ctx, http.MethodGet, where, http.Header{"Range": {"bytes=" + strings.Join(asked, ",")}})
	if err != nil {
		return spans, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusPartialContent {
		return spans, final{ErrNoRanges}
	}
	silent := time.AfterFunc(c.o.Silence, func() { resp.Body.Close() })
	defer silent.Stop()
	// A server may join stretches, but not send much that nobody asked for.
	body := io.LimitReader(&restarting{resp.Body, silent, c.o.Silence}, total+int64(len(spans))*gap+1<<20)
	came := func(contentRange string, r io.Reader) error {
		from, to, ok := spanOf(contentRange, size)
		if !ok {
			return final{fmt.Errorf("%w: it sent %q", ErrNoRanges, contentRange)}
		}
		n, err := io.Copy(io.NewOffsetWriter(into, from), io.LimitReader(r, to-from))
		if err == nil && n < to-from {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return err
		}
		note(n)
		spans = slices.DeleteFunc(spans, func(s Span) bool { return from <= s.From && s.To <= to })
		return nil
	}
	kind, params, _ := mime.ParseMediaType(resp.Header.Get("Content-Type"))
	if kind != "multipart/byteranges" {
		return spans, came(resp.Header.Get("Content-Range"), body)
	}
	parts := multipart.NewReader(body, params["boundary"])
	for {
		part, err := parts.NextRawPart()
		if errors.Is(err, io.EOF) {
			return spans, nil
		}
		if err != nil {
			return spans, err
		}
		if err := came(part.Header.Get("Content-Range"), part); err != nil {
			return spans, err
		}
	}
}

// spanOf reads «bytes FROM-LAST/SIZE» of a file of a certain size.
func spanOf(s string, size int64) (from, to int64, ok bool) {
	s, _ = strings.CutPrefix(s, "bytes ")
	span, whole, _ := strings.Cut(s, "/")
	a, b, _ := strings.Cut(span, "-")
	from, err := strconv.ParseInt(a, 10, 64)
	last, err2 := strconv.ParseInt(b, 10, 64)
	if err != nil || err2 != nil || from < 0 || last < from || last >= size ||
		(whole != "*" && whole != strconv.FormatInt(size, 10)) {
		return 0, 0, false
	}
	return from, last + 1, true
}
