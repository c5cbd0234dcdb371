// Package fetch brings bytes here, from http(s) or from this machine, and
// makes sure that they are the right ones: it resumes, retries, sends
// credentials to the host that they are for and to no other, and holds what
// came against digests, checksum lists and signatures. It knows nothing of
// builds, and opens no archive.
package fetch

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"freshkeel/internal/secrets"

	"github.com/jdx/go-netrc"
)

// Login opens one host.
type Login struct {
	Host   string // as in the address, with a port where that has one
	From   string // "env:NAME", "file:PATH" or "netrc"
	User   string // "": the secret is a bearer token; netrc has a user of its own
	Header string // send the secret as this header instead
	Plain  bool   // also over plain http
}

// Options are what a Client needs from outside.
type Options struct {
	Logins  []Login
	Env     []string      // "NAME=value": where secrets and the home folder are looked up
	Silence time.Duration // how long a silent line is waited for; 0: 30 s
}

// Client fetches. It is safe for concurrent use.
type Client struct {
	o    Options
	http *http.Client
}

// New makes a client. Proxies come from the process's environment.
func New(o Options) *Client {
	if o.Silence <= 0 {
		o.Silence = 30 * time.Second
	}
	c := &Client{o: o}
	// There is no total time limit, since builds are large and lines are slow;
	// a connection that says nothing is given up and resumed instead.
	c.http = &http.Client{CheckRedirect: checkRedirect, Transport: &guarded{c, &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           (&net.Dialer{Timeout: 15 * time.Second}).DialContext,
		TLSHandshakeTimeout:   15 * time.Second,
		ResponseHeaderTimeout: o.Silence,
		MaxIdleConnsPerHost:   16,
		DisableCompression:    true, // a digest is over the bytes as they are published
	}}}
	return c
}

// final marks an error that trying again can't mend.
type final struct{ error }

func (f final) Unwrap() error { return f.error }

func checkRedirect(req *http.Request, via []*http.Request) error {
	if len(via) > 10 {
		return final{errors.New("it redirects in a loop: more than 10 times")}
	}
	if via[len(via)-1].URL.Scheme == "https" && req.URL.Scheme != "https" {
		return final{fmt.Errorf("it redirects from https to plain %s: refused", req.URL.Scheme)}
	}
	req.Header.Del("Referer") // the address before may hold what opens it
	return nil
}

// guarded adds credentials request by request, so that a redirect to another
// host never carries them along.
type guarded struct {
	c    *Client
	base http.RoundTripper
}

func (g *guarded) RoundTrip(req *http.Request) (*http.Response, error) {
	l := g.c.login(req.URL.Host)
	if req.URL.Scheme != "https" && (l == nil || !l.Plain) && (l != nil || req.URL.User != nil) {
		return nil, final{fmt.Errorf("credentials for %s would go over plain http; [[login]] plain = true allows it "+
			"for this host", req.URL.Host)}
	}
	if l != nil {
		name, value, err := g.c.secret(*l)
		if err != nil {
			return nil, final{err}
		}
		req = req.Clone(req.Context())
		req.Header.Set(name, value)
	}
	return g.base.RoundTrip(req)
}

func (c *Client) login(host string) *Login {
	for i, l := range c.o.Logins {
		if strings.EqualFold(l.Host, host) {
			return &c.o.Logins[i]
		}
	}
	return nil
}

// secret makes the header that opens a host.
func (c *Client) secret(l Login) (header, value string, err error) {
	user, word, err := c.pair(l)
	switch {
	case err != nil:
		return "", "", err
	case l.Header != "":
		return l.Header, word, nil
	case user != "":
		return "Authorization", "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+word)), nil
	}
	return "Authorization", "Bearer " + word, nil
}

// pair is the user and the secret of a login. Errors name the place, never the
// secret (P9).
func (c *Client) pair(l Login) (user, word string, err error) {
	kind, at, _ := strings.Cut(l.From, ":")
	user = l.User
	switch kind {
	case "env":
		word = c.env(at)
	case "file":
		b, err := os.ReadFile(c.tilde(at))
		if err != nil {
			return "", "", fmt.Errorf("the login for %s: %w", l.Host, err)
		}
		word = string(b)
	case "netrc":
		if user, word, err = c.netrc(l.Host); err != nil {
			return "", "", err
		}
	}
	secrets.Know(word)
	if word = strings.TrimSpace(word); word == "" {
		return "", "", fmt.Errorf("the login for %s: %s holds nothing", l.Host, l.From)
	}
	return user, word, nil
}

// Keys is the user and the secret for a host, as its login says; without a login
// the netrc's. plain tells whether they may go over plain http.
func (c *Client) Keys(host string) (user, secret string, plain bool, err error) {
	l := c.login(host)
	if l == nil {
		l = &Login{Host: host, From: "netrc"}
	}
	user, secret, err = c.pair(*l)
	return user, secret, l.Plain, err
}

func (c *Client) netrc(host string) (user, word string, err error) {
	file := c.env("NETRC")
	if file == "" {
		file = c.tilde("~/.netrc")
	}
	n, err := netrc.Parse(file)
	if err != nil {
		return "", "", fmt.Errorf("the login for %s: read %s: %w", host, file, err)
	}
	name, _, _ := strings.Cut(host, ":")
	for _, h := range []string{host, name} {
		if m := n.Machine(h); m != nil && !m.IsDefault {
			return m.Get("login"), m.Get("password"), nil
		}
	}
	return "", "", fmt.Errorf("the login for %s: %s has no machine of that name", host, file)
}

func (c *Client) env(name string) string {
	for _, e := range c.o.Env {
		if k, v, ok := strings.Cut(e, "="); ok && k == name {
			return v
		}
	}
	return ""
}

func (c *Client) tilde(p string) string {
	if rest, ok := strings.CutPrefix(p, "~/"); ok {
		home := c.env("HOME")
		if home == "" {
			home, _ = os.UserHomeDir()
		}
		return filepath.Join(home, rest)
	}
	return p
}

// Folder is the whole path of a folder that somebody named.
func (c *Client) Folder(p string) (string, error) { return filepath.Abs(c.tilde(p)) }

// Unreachable says that a place could not be asked at all: what was known of
// it before is the best there is.
type Unreachable struct {
	URL string
	Err error
}

func (u *Unreachable) Error() string { return fmt.Sprintf("%s: %v", Shown(u.URL), u.Err) }
func (u *Unreachable) Unwrap() error { return u.Err }

// Status is an answer that is not the thing.
type Status struct {
	Code  int
	Text  string
	Host  string
	after time.Duration
}

func (s *Status) Error() string {
	switch s.Code {
	case http.StatusUnauthorized, http.StatusForbidden:
		return fmt.Sprintf("%s wants a login (%s)", s.Host, s.Text)
	}
	return "the server answered " + s.Text
}

// passing tells whether the same request may well succeed later.
func (s *Status) passing() bool {
	return s.Code == http.StatusTooManyRequests || s.Code == http.StatusRequestTimeout || s.Code >= 500
}

// hidden takes the address out of a network error, which the caller names as
// it may be shown.
func hidden(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// again tells whether trying once more may help.
func again(err error) bool {
	var (
		f      final
		status *Status
		cert   *tls.CertificateVerificationError
		ca     x509.UnknownAuthorityError
		wrong  *Wrong
	)
	switch {
	case errors.As(err, &status):
		return status.passing()
	case errors.As(err, &f), errors.As(err, &cert), errors.As(err, &ca), errors.As(err, &wrong):
		return false
	}
	return true
}

// retryWait is the pause before the second try; it doubles with each further one.
var retryWait = 500 * time.Millisecond

const tries = 6

// retry calls try until it succeeds, can't, or has been called often enough.
func retry[T any](ctx context.Context, atMost int, try func() (T, error)) (v T, err error) {
	wait := retryWait
	for n := 1; ; n++ {
		if v, err = try(); err == nil || !again(err) || n >= atMost {
			return v, err
		}
		if ctx.Err() != nil {
			return v, ctx.Err()
		}
		pause := wait
		var status *Status
		if errors.As(err, &status) {
			pause = max(wait, status.after)
		}
		wait *= 2
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return v, ctx.Err()
		}
	}
}

// ask sends one request. An answer other than 200, 206 and 416 is a *Status.
func (c *Client) ask(ctx context.Context, method, where string, head http.Header) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, where, nil)
	if err != nil {
		return nil, final{hidden(err)}
	}
	for k, v := range head {
		req.Header[k] = v
	}
	req.Header.Set("User-Agent", "freshkeel")
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, hidden(err)
	}
	switch resp.StatusCode {
	case http.StatusOK, http.StatusPartialContent, http.StatusRequestedRangeNotSatisfiable:
		return resp, nil
	}
	resp.Body.Close()
	s := &Status{Code: resp.StatusCode, Text: resp.Status, Host: resp.Request.URL.Host}
	if n, err := strconv.Atoi(resp.Header.Get("Retry-After")); err == nil && n > 0 {
		s.after = time.Duration(min(n, 120)) * time.Second
	} else if at, err := http.ParseTime(resp.Header.Get("Retry-After")); err == nil {
		s.after = min(time.Until(at), 2*time.Minute)
	}
	return nil, s
}

// Document reads something small whole: a list of builds, a signature. What
// can't be asked for at all gives *Unreachable.
func (c *Client) Document(ctx context.Context, where string, most int64) ([]byte, error) {
	if !IsURL(where) {
		f, err := os.Open(LocalPath(where))
		if err != nil {
			return nil, err
		}
		defer f.Close()
		return atMost(f, most)
	}
	b, err := retry(ctx, 3, func() ([]byte, error) {
		resp, err := c.ask(ctx, http.MethodGet, where, nil)
		if err != nil {
			return nil, offline(where, err)
		}
		defer resp.Body.Close()
		return c.body(ctx, resp, most)
	})
	return b, unreached(ctx, where, err)
}

// unreached makes an error that trying again did not mend one that says that
// the place can't be reached now.
func unreached(ctx context.Context, where string, err error) error {
	if err == nil || ctx.Err() != nil || !again(err) {
		return err
	}
	return &Unreachable{where, err}
}

// body reads an answer's body, unless the line falls silent.
func (c *Client) body(ctx context.Context, resp *http.Response, most int64) ([]byte, error) {
	t := time.AfterFunc(c.o.Silence, func() { resp.Body.Close() })
	defer t.Stop()
	var late atomic.Bool // a line that drips is no line
	whole := time.AfterFunc(documentTime, func() { late.Store(true); resp.Body.Close() })
	defer whole.Stop()
	b, err := atMost(&restarting{resp.Body, t, c.o.Silence}, most)
	if err == nil && resp.ContentLength >= 0 && int64(len(b)) != resp.ContentLength {
		err = fmt.Errorf("cut after %d of %d bytes", len(b), resp.ContentLength)
	}
	if err != nil && ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil && late.Load() {
		return nil, final{fmt.Errorf("only %d bytes had come after %s", len(b), documentTime)}
	}
	return b, err
}

// documentTime is how long something small may take in all.
var documentTime = 3 * time.Minute

// restarting puts a timer back whenever something is read.
type restarting struct {
	r io.Reader
	t *time.Timer
	d time.Duration
}

func (r *restarting) Read(b []byte) (int, error) {
	n, err := r.r.Read(b)
	if n > 0 {
		r.t.Reset(r.d)
	}
	return n, err
}

// offline sorts a network error: no such host and nobody listening are not
// worth the wait of another try.
func offline(where string, err error) error {
	var (
		dns *net.DNSError
		op  *net.OpError
	)
	if errors.As(err, &dns) || (errors.As(err, &op) && op.Op == "dial") {
		return final{&Unreachable{where, err}}
	}
	return err
}

func atMost(r io.Reader, most int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, most+1)) // what came before an error too
	if err == nil && int64(len(b)) > most {
		return nil, final{fmt.Errorf("it is larger than %s", mib(most))}
	}
	return b, err
}

func mib(n int64) string { return fmt.Sprintf("%d MiB", n>>20) }

// Seen is what an address says of its content, without the content itself.
type Seen struct {
	Mark   string // ETag or Last-Modified and length; "" where neither is given
	Name   string // file name, as the server or the address has it
	Size   int64  // bytes; 0: not told
	Date   time.Time
	Header http.Header
}

// Look asks an address what stands there.
func (c *Client) Look(ctx context.Context, where string) (*Seen, error) {
	if !IsURL(where) {
		fi, err := os.Stat(LocalPath(where))
		if err != nil {
			return nil, err
		}
		return &Seen{Mark: fmt.Sprintf("%d %d", fi.ModTime().UnixNano(), fi.Size()), Name: fi.Name(), Size: fi.Size(),
			Date: fi.ModTime()}, nil
	}
	s, err := retry(ctx, 3, func() (*Seen, error) {
		resp, err := c.ask(ctx, http.MethodHead, where, nil)
		if status := (*Status)(nil); errors.As(err, &status) &&
			(status.Code == http.StatusMethodNotAllowed || status.Code == http.StatusNotImplemented) {
			resp, err = c.ask(ctx, http.MethodGet, where, nil)
		}
		if err != nil {
			return nil, offline(where, err)
		}
		resp.Body.Close()
		s := &Seen{Name: nameOf(resp), Size: max(resp.ContentLength, 0), Header: resp.Header,
			Mark: resp.Header.Get("ETag")}
		s.Date, _ = http.ParseTime(resp.Header.Get("Last-Modified"))
		if s.Mark == "" && !s.Date.IsZero() {
			s.Mark = fmt.Sprintf("%d %d", s.Date.Unix(), s.Size)
		}
		return s, nil
	})
	return s, unreached(ctx, where, err)
}

// nameOf is the file's name: as the server gives it, or at the end of the
// address that it was redirected to.
func nameOf(resp *http.Response) string {
	if _, p, err := mime.ParseMediaType(resp.Header.Get("Content-Disposition")); err == nil {
		if name := path.Base(strings.ReplaceAll(p["filename"], `\`, "/")); name != "." && name != "/" {
			return name
		}
	}
	return path.Base(resp.Request.URL.Path)
}

// IsURL tells whether where is to be fetched over http or https.
func IsURL(where string) bool {
	scheme, _, ok := strings.Cut(where, "://")
	return ok && (strings.EqualFold(scheme, "http") || strings.EqualFold(scheme, "https"))
}

// Shown is an address as it may be shown and stored: a name, password or token
// in it is nobody's business (P9). That holds for one of any scheme, and for one
// that can't be parsed: then everything but its host and path is left out.
func Shown(where string) string {
	if !addressLike.MatchString(where) || strings.HasPrefix(where, "file://") {
		return where
	}
	if u, err := url.Parse(where); err == nil && u.Opaque == "" {
		u.User, u.Fragment, u.RawFragment = nil, "", ""
		if u.RawQuery != "" {
			u.RawQuery = "…"
		}
		return u.String()
	}
	scheme, rest, _ := strings.Cut(where, "://")
	rest, _, _ = strings.Cut(rest, "#")
	rest, query, asked := strings.Cut(rest, "?")
	if at := strings.LastIndexByte(rest, '@'); at >= 0 { // a password may hold any letter, a slash too
		rest = rest[at+1:]
	}
	if asked && query != "" {
		rest += "?…"
	}
	return scheme + "://" + rest
}

// addressLike is how an address of any scheme begins (RFC 3986, section 3.1).
var addressLike = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9+.-]*://`)

// LocalPath is the path in a file URL, or where itself.
func LocalPath(where string) string { return strings.TrimPrefix(where, "file://") }

// NameOf is the file name at the end of a URL or path.
func NameOf(where string) string {
	where, _, _ = strings.Cut(Shown(where), "?")
	return filepath.Base(filepath.FromSlash(strings.TrimRight(where, "/")))
}

// Resolve makes an address whole: a relative one stands beside base. What is
// read from another host never names a file of this one.
func Resolve(base, ref string) (string, error) {
	if !IsURL(base) {
		if IsURL(ref) || filepath.IsAbs(ref) || strings.HasPrefix(ref, "file://") {
			return ref, nil
		}
		return filepath.Join(filepath.Dir(LocalPath(base)), filepath.FromSlash(ref)), nil
	}
	b, err := url.Parse(base)
	if err != nil {
		return "", hidden(err)
	}
	r, err := url.Parse(ref)
	if err != nil {
		return "", hidden(err)
	}
	out := b.ResolveReference(r)
	if out.Scheme != "http" && out.Scheme != "https" {
		return "", fmt.Errorf("%q: %s addresses are not followed from there", Shown(ref), out.Scheme)
	}
	if out.Host == "" {
		return "", fmt.Errorf("%q names no host", Shown(ref))
	}
	return out.String(), nil
}
