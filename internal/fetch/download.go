package fetch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/shirou/gopsutil/v4/disk"
)

// Wanted is one file to fetch, and what is known of it beforehand.
type Wanted struct {
	URL     string            `json:"url"`                 // http(s), file URL or path
	Size    int64             `json:"size,omitempty"`      // bytes; 0: not told
	Digests map[string]string `json:"digests,omitempty"`   // sha256, sha512, blake3, sha1, md5 → hex
	Sums    string            `json:"sums,omitempty"`      // where a sidecar or checksum list stands
	Sig     string            `json:"signature,omitempty"` // where its minisign signature stands; "": beside it

	Key     string `json:"-"` // minisign public key that it must be signed by; "": none
	Archive bool   `json:"-"` // it is known to be an archive

	vouched bool   // by a signed list that holds its digest
	said    string // see Verified.Said
}

func (w *Wanted) name() string { return NameOf(w.URL) }

// Vouched says that a list which names w's digests was signed itself.
func (w Wanted) Vouched() Wanted {
	for name := range w.Digests {
		w.vouched = w.vouched || !Weak(name)
	}
	return w
}

// IsVouched tells whether a signed list holds a good digest of it.
func (w Wanted) IsVouched() bool { return w.vouched }

// Verified is a file whose bytes matched what was expected of them. Only
// Download makes one.
type Verified struct {
	Path string
	URL  string
	Name string // file name, as its server or its address has it
	Size int64
	By   []string // what vouched for it: digests, minisign; none: nothing did
	Said string   // what its signature's trusted comment says, which is signed too; "": nothing
	Head http.Header
}

// WeakOnly tells whether nothing stronger than MD5 or SHA-1 vouched for it.
func (v *Verified) WeakOnly() bool {
	for _, by := range v.By {
		if !Weak(by) {
			return false
		}
	}
	return len(v.By) > 0
}

// Wrong is a download that is not what it should be.
type Wrong struct {
	URL, What, Want, Got string
}

func (w *Wrong) Error() string {
	return fmt.Sprintf("fetch %s: %s is %s, expected %s", Shown(w.URL), w.What, w.Got, w.Want)
}

// Download fetches a file into dest, which may hold the beginning of it from an
// earlier try: with a validator (ETag or Last-Modified, RFC 9110 section 13.1.5)
// kept in dest+".from", only the rest is asked for. A cut connection is resumed.
// The digests are computed while bytes arrive. What does not match is removed.
// progress, which may be nil, hears bytes done and bytes to do (0: not known).
func (c *Client) Download(ctx context.Context, w Wanted, dest string, progress func(done, total int64)) (*Verified,
	error) {
	fail := func(err error) (*Verified, error) {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if errors.As(err, new(*Wrong)) {
			os.Remove(dest)
			os.Remove(dest + ".from")
			return nil, err
		}
		return nil, fmt.Errorf("fetch %s: %w", Shown(w.URL), err)
	}
	if err := c.sums(ctx, &w); err != nil {
		return fail(err)
	}
	var sig []byte
	if w.Key != "" && !w.vouched {
		at := w.Sig
		if at == "" {
			at = Beside(w.URL, ".minisig")
		}
		var err error
		if sig, err = c.signature(ctx, at); err != nil {
			return fail(err)
		}
	}
	var v *Verified
	var err error
	if IsURL(w.URL) {
		d := &download{c: c, want: w, dest: dest, progress: progress}
		v, err = retry(ctx, tries, func() (*Verified, error) { return d.attempt(ctx) })
	} else {
		v, err = copyLocal(ctx, w, dest, progress)
	}
	if err != nil {
		return fail(err)
	}
	if sig != nil {
		f, err := os.Open(dest)
		if err != nil {
			return fail(err)
		}
		defer f.Close()
		if err := verifySignature(w.Key, f, v.Size, sig); err != nil {
			os.Remove(dest)
			return fail(err)
		}
		w.said = signedComment(sig)
	}
	v.Said = w.said
	return v, nil
}

// Small fetches a file that fits into memory, held against its size and
// digests. most is in bytes.
func (c *Client) Small(ctx context.Context, w Wanted, most int64) ([]byte, error) {
	b, err := c.Document(ctx, w.URL, most)
	if err != nil {
		return nil, fmt.Errorf("fetch %s: %w", Shown(w.URL), err)
	}
	if w.Size > 0 && int64(len(b)) != w.Size {
		return nil, &Wrong{w.URL, "its size", fmt.Sprintf("%d bytes", w.Size), fmt.Sprintf("%d bytes", len(b))}
	}
	for name, want := range w.Digests {
		h := digests[name]()
		h.Write(b)
		if got := hex.EncodeToString(h.Sum(nil)); !strings.EqualFold(got, want) {
			return nil, &Wrong{w.URL, "its " + name, strings.ToLower(want), got}
		}
	}
	return b, nil
}

// local is an error of this machine's own disk, which trying again can't mend.
func local(err error) error { return final{fmt.Errorf("write it here: %w", err)} }

type download struct {
	c        *Client
	want     Wanted
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
	resp, err := d.c.ask(ctx, http.MethodGet, d.want.URL, head)
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
	}
	total := d.want.Size
	if total == 0 && resp.ContentLength >= 0 {
		total = have + resp.ContentLength
	}
	d.remember(resp)
	s, err := newSink(d.want, d.dest, have)
	if err != nil {
		return nil, err
	}
	defer s.close()
	s.unsized = total == 0
	began, arrived := time.Now(), int64(0)
	// A silent line is cut, so that the next try resumes.
	silence := d.c.o.Silence
	idle := time.AfterFunc(silence, func() { cancel(fmt.Errorf("nothing arrived for %s", silence)) })
	defer idle.Stop()
	for buf := make([]byte, 256<<10); ; {
		n, err := resp.Body.Read(buf)
		if n > 0 {
			idle.Reset(silence)
			if arrived += int64(n); time.Since(began) > slowTime {
				if arrived < slowBytes {
					return nil, final{fmt.Errorf("only %d bytes arrived in %s: the line drips", arrived, slowTime)}
				}
				began, arrived = time.Now(), 0
			}
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
		v.Name, v.Head = nameOf(resp), resp.Header
		os.Remove(d.dest + ".from")
	}
	return v, err
}

// A line that brings fewer than slowBytes in slowTime is given up: at that rate a
// build takes months, and whoever serves it so may mean to.
var slowTime = 10 * time.Minute

const slowBytes = 256 << 10

// reserve is what a download whose size nobody tells leaves free on its disk, in
// bytes, and lookEach how often that is looked at.
var reserve = uint64(512 << 20)

const lookEach = 32 << 20

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
	sum := sha256.Sum256([]byte(d.want.URL))
	return hex.EncodeToString(sum[:])
}

// sink is the file that a download grows into, hashed as it grows.
type sink struct {
	want Wanted
	path string
	f    *os.File
	sums map[string]hash.Hash
	size int64

	unsized bool  // nobody tells how much will come
	looked  int64 // at this size the disk was last looked at

	head []byte // the first bytes, to tell an error page from an archive
}

func newSink(w Wanted, dest string, have int64) (*sink, error) {
	f, err := os.OpenFile(dest, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, local(err)
	}
	s := &sink{want: w, path: dest, f: f, sums: map[string]hash.Hash{}}
	for name := range w.Digests {
		s.sums[name] = digests[name]()
	}
	if err := f.Truncate(have); err != nil {
		f.Close()
		return nil, local(err)
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
			return nil, local(err)
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
	if s.want.Size > 0 && s.size+int64(len(b)) > s.want.Size {
		return &Wrong{s.want.URL, "its size", fmt.Sprintf("%d bytes", s.want.Size), "more"}
	}
	if s.unsized && s.size-s.looked >= lookEach {
		s.looked = s.size
		if u, err := disk.Usage(filepath.Dir(s.path)); err == nil && u.Free < reserve {
			return &Wrong{s.want.URL, "its size", "one that is told, or that the disk has room for",
				fmt.Sprintf("more than %s, with %s left on the disk", mib(s.size), mib(int64(u.Free)))}
		}
	}
	if _, err := s.f.Write(b); err != nil {
		if s.unsized { // what came is of no use: nobody knows how much is missing
			os.Remove(s.path)
		}
		return local(err)
	}
	s.count(b)
	return nil
}

func (s *sink) close() { s.f.Close() }

// verify holds the whole against what was expected and makes it durable.
func (s *sink) verify() (*Verified, error) {
	wrong := func(what, want, got string) error { return &Wrong{s.want.URL, what, want, got} }
	if s.size == 0 {
		return nil, wrong("the file", "a build", "empty")
	}
	if looksHTML(s.head) && !strings.HasSuffix(strings.ToLower(s.want.URL), ".html") {
		return nil, wrong("what came", "a build", "an HTML page (an error or login page, often)")
	}
	if text := placeholder(s.head, s.size); text != "" && (s.want.Archive || binaryName(s.want.name())) {
		return nil, wrong("what came", "a build", fmt.Sprintf("a few words of text: «%s»", text))
	}
	if s.want.Size > 0 && s.size != s.want.Size {
		return nil, wrong("its size", fmt.Sprintf("%d bytes", s.want.Size), fmt.Sprintf("%d bytes", s.size))
	}
	for name, want := range s.want.Digests {
		if got := hex.EncodeToString(s.sums[name].Sum(nil)); !strings.EqualFold(got, want) {
			return nil, wrong("its "+name, strings.ToLower(want), got)
		}
	}
	return &Verified{Path: s.path, URL: s.want.URL, Name: s.want.name(), Size: s.size, By: s.want.vouchers()}, nil
}

// copyLocal brings a part from this machine, through the same checks. It is
// copied, not used in place, so that nobody can change it after it was checked.
func copyLocal(ctx context.Context, w Wanted, dest string, progress func(done, total int64)) (*Verified, error) {
	src, err := os.Open(LocalPath(w.URL))
	if err != nil {
		return nil, final{err}
	}
	defer src.Close()
	fi, err := src.Stat()
	if err != nil || !fi.Mode().IsRegular() {
		return nil, final{errors.New("it is not a file")}
	}
	os.Remove(dest)
	s, err := newSink(w, dest, 0)
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
			return nil, final{err}
		}
	}
	return nil, ctx.Err()
}

func looksHTML(b []byte) bool {
	b = bytes.ToLower(bytes.TrimLeft(b[:min(len(b), 512)], "\xef\xbb\xbf \t\r\n"))
	return bytes.HasPrefix(b, []byte("<!doctype html")) || bytes.HasPrefix(b, []byte("<html"))
}

// LooksHTML tells whether b begins as an HTML page does.
func LooksHTML(b []byte) bool { return looksHTML(b) }

// placeholder returns the beginning of what is no build but a word about one:
// a pointer that a repository keeps instead of the file, an error in JSON.
func placeholder(head []byte, size int64) string {
	if size > 4<<10 || bytes.IndexByte(head, 0) >= 0 || !utf8.Valid(head[:max(len(head)-3, 0)]) {
		return ""
	}
	text := strings.Join(strings.Fields(string(head)), " ")
	if len(text) > 80 {
		text = strings.ToValidUTF8(text[:80], "") + "…"
	}
	return text
}

// binaryName tells whether a name promises something that is never text.
func binaryName(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".zip", ".jar", ".tar", ".tgz", ".gz", ".xz", ".zst", ".bz2", ".7z", ".rar", ".exe", ".dll", ".so":
		return true
	}
	return false
}
