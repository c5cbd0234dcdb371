package feed

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"lukechampine.com/blake3"
)

var digests = map[string]func() hash.Hash{
	"sha256": sha256.New,
	"sha512": sha512.New,
	"blake3": func() hash.Hash { return blake3.New(32, nil) },
}

// client has no total time limit, since builds are large and lines are slow;
// a connection that says nothing for stall is given up and resumed instead.
var client = &http.Client{Transport: &http.Transport{
	Proxy:                 http.ProxyFromEnvironment,
	DialContext:           (&net.Dialer{Timeout: 15 * time.Second}).DialContext,
	TLSHandshakeTimeout:   15 * time.Second,
	ResponseHeaderTimeout: 30 * time.Second,
	DisableCompression:    true, // a digest is over the bytes as they are published
}, CheckRedirect: func(req *http.Request, via []*http.Request) error {
	if len(via) > 10 {
		return errors.New("more than 10 redirects")
	}
	if via[len(via)-1].URL.Scheme == "https" && req.URL.Scheme != "https" {
		return fmt.Errorf("redirected from https to plain %s: refused", req.URL.Scheme)
	}
	return nil
}}

const stall = 30 * time.Second

// retryWait is the pause before the second try; it doubles with each further one.
var retryWait = 500 * time.Millisecond

const tries = 6

// hidden takes the address out of a network error, which the caller names as
// it may be shown.
func hidden(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

func get(ctx context.Context, where string, head http.Header) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, where, nil)
	if err != nil {
		return nil, err
	}
	for k, v := range head {
		req.Header[k] = v
	}
	req.Header.Set("User-Agent", "freshkeel")
	return client.Do(req)
}

// Verified is a file whose bytes matched what was expected of them. Only
// Download and Open make one.
type Verified struct {
	Path string
	URL  string
	Size int64
	Sum  string // BLAKE3, hex: also where the maker gives no digest
}

// Wrong is a download that is not what it should be.
type Wrong struct {
	URL, What, Want, Got string
}

func (w *Wrong) Error() string {
	return fmt.Sprintf("fetch %s: %s is %s, expected %s", Shown(w.URL), w.What, w.Got, w.Want)
}

// Download fetches a part into the file at dest, which may hold the beginning
// of it from an earlier try: with a validator (ETag or Last-Modified) kept in
// dest+".from", only the rest is asked for. A cut connection is resumed. The
// digests are computed while bytes arrive. What does not match is removed.
// progress, which may be nil, hears bytes done and bytes to do (0: not known).
func Download(ctx context.Context, p Part, dest string, progress func(done, total int64)) (*Verified, error) {
	if !IsURL(p.URL) {
		return copyLocal(ctx, p, dest, progress)
	}
	d := &download{part: p, dest: dest, progress: progress}
	wait := retryWait
	for try := 1; ; try++ {
		v, err := d.attempt(ctx)
		if err == nil {
			return v, nil
		}
		var wrong *Wrong
		if errors.As(err, &wrong) {
			os.Remove(dest)
			os.Remove(dest + ".from")
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var status statusError
		final := errors.As(err, &status) && !status.passing()
		if try == tries || final || errors.Is(err, errLocal) {
			return nil, fmt.Errorf("fetch %s: %w", Shown(p.URL), hidden(err))
		}
		pause := max(wait, status.after)
		wait *= 2
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

type statusError struct {
	code  int
	text  string
	after time.Duration
}

func (s statusError) Error() string { return "the server answered " + s.text }
func (s statusError) passing() bool {
	return s.code == http.StatusTooManyRequests || s.code == http.StatusRequestTimeout || s.code >= 500
}

// errLocal marks what trying again can't mend: this machine's own disk.
var errLocal = errors.New("write it here")

type download struct {
	part     Part
	dest     string
	progress func(done, total int64)
}

func (d *download) attempt(ctx context.Context) (*Verified, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	have, validator := d.resume()
	head := http.Header{}
	if have > 0 {
		head.Set("Range", fmt.Sprintf("bytes=%d-", have))
		head.Set("If-Range", validator)
	}
	resp, err := get(ctx, d.part.URL, head)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	switch resp.StatusCode {
	case http.StatusOK:
		have = 0
	case http.StatusPartialContent:
		if !strings.HasPrefix(resp.Header.Get("Content-Range"), fmt.Sprintf("bytes %d-", have)) {
			os.Remove(d.dest)
			return nil, fmt.Errorf("asked for bytes from %d, got %q", have, resp.Header.Get("Content-Range"))
		}
	case http.StatusRequestedRangeNotSatisfiable:
		os.Remove(d.dest) // what is here is as long as the whole, and was not verified
		return nil, errors.New("the file there is shorter than what had arrived: starting over")
	default:
		return nil, statusError{resp.StatusCode, resp.Status, retryAfter(resp)}
	}
	total := d.part.Size
	if total == 0 && resp.ContentLength >= 0 {
		total = have + resp.ContentLength
	}
	d.remember(resp)
	s, err := newSink(d.part, d.dest, have)
	if err != nil {
		return nil, err
	}
	defer s.close()
	// A silent line is cut, so that the next try resumes.
	idle := time.AfterFunc(stall, func() { cancel(fmt.Errorf("nothing arrived for %s", stall)) })
	defer idle.Stop()
	for buf := make([]byte, 256<<10); ; {
		n, err := resp.Body.Read(buf)
		if n > 0 {
			idle.Reset(stall)
			if err := s.write(buf[:n]); err != nil {
				return nil, err
			}
			if d.progress != nil {
				d.progress(s.size, total)
			}
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			if cause := context.Cause(ctx); cause != nil {
				err = cause
			}
			return nil, fmt.Errorf("cut after %d bytes: %w", s.size, err)
		}
	}
	if resp.ContentLength > 0 && s.size < have+resp.ContentLength {
		return nil, fmt.Errorf("cut after %d of %d bytes", s.size, have+resp.ContentLength)
	}
	v, err := s.verify()
	if err == nil {
		os.Remove(d.dest + ".from")
	}
	return v, err
}

// resume tells how much is here already, and by which validator. Without a
// strong validator nothing is resumed, lest two files be spliced.
func (d *download) resume() (int64, string) {
	b, err := os.ReadFile(d.dest + ".from")
	fi, err2 := os.Stat(d.dest)
	from, validator, ok := strings.Cut(string(b), "\n")
	if err != nil || err2 != nil || !ok || from != d.address() || validator == "" {
		return 0, ""
	}
	return fi.Size(), validator
}

func (d *download) remember(resp *http.Response) {
	v := resp.Header.Get("ETag")
	if v == "" || strings.HasPrefix(v, "W/") {
		v = resp.Header.Get("Last-Modified")
	}
	os.WriteFile(d.dest+".from", []byte(d.address()+"\n"+v), 0o600)
}

// address is what the part's address is known by on disk: its hash, since the
// address itself may open something (P9).
func (d *download) address() string {
	sum := sha256.Sum256([]byte(d.part.URL))
	return hex.EncodeToString(sum[:])
}

func retryAfter(resp *http.Response) time.Duration {
	if s, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil && s > 0 {
		return time.Duration(min(s, 120)) * time.Second
	}
	return 0
}

// sink is the file that a download grows into, hashed as it grows.
type sink struct {
	part Part
	path string
	f    *os.File
	sums map[string]hash.Hash
	size int64
	head []byte // the first bytes, to tell an error page from an archive
}

func newSink(p Part, dest string, have int64) (*sink, error) {
	f, err := os.OpenFile(dest, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errLocal, err)
	}
	s := &sink{part: p, path: dest, f: f, sums: map[string]hash.Hash{"blake3": digests["blake3"]()}}
	for name := range p.Digests {
		s.sums[name] = digests[name]()
	}
	if err := f.Truncate(have); err != nil {
		f.Close()
		return nil, fmt.Errorf("%w: %w", errLocal, err)
	}
	buf := make([]byte, 256<<10)
	for { // what arrived earlier counts in the digest too
		n, err := f.Read(buf)
		s.count(buf[:n])
		if errors.Is(err, io.EOF) {
			return s, nil
		}
		if err != nil {
			f.Close()
			return nil, fmt.Errorf("%w: %w", errLocal, err)
		}
	}
}

func (s *sink) count(b []byte) {
	for _, h := range s.sums {
		h.Write(b)
	}
	if room := 512 - len(s.head); room > 0 {
		s.head = append(s.head, b[:min(room, len(b))]...)
	}
	s.size += int64(len(b))
}

func (s *sink) write(b []byte) error {
	if s.part.Size > 0 && s.size+int64(len(b)) > s.part.Size {
		return &Wrong{s.part.URL, "its size", fmt.Sprintf("%d bytes", s.part.Size), "more"}
	}
	if _, err := s.f.Write(b); err != nil {
		return fmt.Errorf("%w: %w", errLocal, err)
	}
	s.count(b)
	return nil
}

func (s *sink) close() { s.f.Close() }

// verify holds the whole against what was expected and makes it durable.
func (s *sink) verify() (*Verified, error) {
	wrong := func(what, want, got string) error { return &Wrong{s.part.URL, what, want, got} }
	if s.size == 0 {
		return nil, wrong("the file", "a build", "empty")
	}
	if looksHTML(s.head) && !strings.HasSuffix(strings.ToLower(s.part.URL), ".html") {
		return nil, wrong("what came", "a build", "an HTML page (an error or login page, often)")
	}
	if s.part.Size > 0 && s.size != s.part.Size {
		return nil, wrong("its size", fmt.Sprintf("%d bytes", s.part.Size), fmt.Sprintf("%d bytes", s.size))
	}
	for name, want := range s.part.Digests {
		if got := hex.EncodeToString(s.sums[name].Sum(nil)); !strings.EqualFold(got, want) {
			return nil, wrong("its "+name, strings.ToLower(want), got)
		}
	}
	return &Verified{Path: s.path, URL: s.part.URL, Size: s.size, Sum: hex.EncodeToString(s.sums["blake3"].Sum(nil))}, nil
}

// copyLocal brings a part from this machine, through the same checks. It is
// copied, not used in place, so that nobody can change it after it was checked.
func copyLocal(ctx context.Context, p Part, dest string, progress func(done, total int64)) (*Verified, error) {
	src, err := os.Open(localPath(p.URL))
	if err != nil {
		return nil, fmt.Errorf("fetch: %w", err)
	}
	defer src.Close()
	fi, err := src.Stat()
	if err != nil || !fi.Mode().IsRegular() {
		return nil, fmt.Errorf("fetch: %s is not a file", p.URL)
	}
	os.Remove(dest)
	s, err := newSink(p, dest, 0)
	if err != nil {
		return nil, err
	}
	defer s.close()
	for buf := make([]byte, 256<<10); ctx.Err() == nil; {
		n, err := src.Read(buf)
		if n > 0 {
			if err := s.write(buf[:n]); err != nil {
				os.Remove(dest)
				return nil, err
			}
			if progress != nil {
				progress(s.size, fi.Size())
			}
		}
		if errors.Is(err, io.EOF) {
			v, err := s.verify()
			if err != nil {
				os.Remove(dest)
			}
			return v, err
		}
		if err != nil {
			return nil, fmt.Errorf("fetch: %w", err)
		}
	}
	return nil, ctx.Err()
}

func looksHTML(b []byte) bool {
	b = bytes.ToLower(bytes.TrimLeft(b[:min(len(b), 512)], "\xef\xbb\xbf \t\r\n"))
	return bytes.HasPrefix(b, []byte("<!doctype html")) || bytes.HasPrefix(b, []byte("<html"))
}

// NameOf is the file name at the end of a URL or path.
func NameOf(where string) string {
	where, _, _ = strings.Cut(Shown(where), "?")
	return filepath.Base(filepath.FromSlash(strings.TrimRight(where, "/")))
}
