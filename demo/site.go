package demo

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Site is the made-up makers' site: it serves a folder over http, with
// validators and ranges, and can misbehave as real ones do.
type Site struct {
	Dir string

	mu     sync.Mutex
	faults map[string][]*Fault
	seen   []Request
}

// Request is one request that the site answered.
type Request struct {
	Method, Path, Range, IfRange string
	Login                        string // what came as Authorization or X-Club-Key
	Sent                         int64  // bytes of body
}

// Fault is how the site misbehaves for one path. Zero fields are as always.
type Fault struct {
	Times      int    // answers that it holds for; 0: all
	Status     int    // answer this, with a short page
	RetryAfter string // with Status
	Cut        int64  // end the connection after so many bytes of the body
	Stall      int64  // after so many bytes fall silent until the client goes
	Longer     int64  // claim that the body is so many bytes longer
	Redirect   string // send elsewhere
	Instead    []byte // serve this content
	Login      string // what Authorization or X-Club-Key must be
	Blind      bool   // give no validators
	Header     string // give this header, "Name: value"
}

// Misbehave adds a fault to a path; several are used up one after the other.
func (s *Site) Misbehave(at string, f Fault) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.faults == nil {
		s.faults = map[string][]*Fault{}
	}
	s.faults[at] = append(s.faults[at], &f)
}

// Behave takes every fault away.
func (s *Site) Behave() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.faults = nil
}

// Seen returns what was asked since it was last called.
func (s *Site) Seen() []Request {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.seen
	s.seen = nil
	return out
}

func (s *Site) fault(at string) Fault {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := s.faults[at]
	if len(list) == 0 {
		return Fault{}
	}
	f := *list[0]
	if f.Times > 0 {
		if list[0].Times--; list[0].Times == 0 {
			s.faults[at] = list[1:]
		}
	}
	return f
}

func (s *Site) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f := s.fault(r.URL.Path)
	login := r.Header.Get("Authorization")
	if login == "" {
		login = r.Header.Get("X-Club-Key")
	}
	c := &counting{ResponseWriter: w, fault: f}
	defer func() {
		s.mu.Lock()
		s.seen = append(s.seen, Request{r.Method, r.URL.Path, r.Header.Get("Range"), r.Header.Get("If-Range"), login,
			c.sent})
		s.mu.Unlock()
	}()
	switch {
	case f.Login != "" && login != f.Login:
		w.Header().Set("WWW-Authenticate", `Basic realm="members"`)
		http.Error(c, "members only", http.StatusUnauthorized)
		return
	case f.Redirect != "":
		http.Redirect(c, r, f.Redirect, http.StatusFound)
		return
	case f.Status != 0:
		if f.RetryAfter != "" {
			w.Header().Set("Retry-After", f.RetryAfter)
		}
		http.Error(c, http.StatusText(f.Status), f.Status)
		return
	}
	full := filepath.Join(s.Dir, filepath.FromSlash(path.Clean("/"+r.URL.Path)))
	var body io.ReadSeeker = strings.NewReader(string(f.Instead))
	var at time.Time
	if f.Instead == nil {
		file, err := os.Open(full)
		if err != nil {
			http.NotFound(c, r)
			return
		}
		defer file.Close()
		fi, err := file.Stat()
		if err != nil || fi.IsDir() {
			http.NotFound(c, r)
			return
		}
		body, at = file, fi.ModTime()
	}
	if !f.Blind {
		h := sha256.New()
		io.Copy(h, body)
		body.Seek(0, io.SeekStart)
		w.Header().Set("ETag", `"`+hex.EncodeToString(h.Sum(nil)[:8])+`"`)
	} else {
		at = time.Time{}
	}
	if name, value, ok := strings.Cut(f.Header, ": "); ok {
		w.Header().Set(name, value)
	}
	if f.Stall > 0 {
		c.gone = r.Context().Done()
	}
	http.ServeContent(c, r, full, at, body)
}

// counting counts what is sent, and breaks off where the fault says.
type counting struct {
	http.ResponseWriter
	fault Fault
	sent  int64
	gone  <-chan struct{}
}

func (c *counting) WriteHeader(code int) {
	if n, err := strconv.ParseInt(c.Header().Get("Content-Length"), 10, 64); err == nil && c.fault.Longer > 0 {
		c.Header().Set("Content-Length", strconv.FormatInt(n+c.fault.Longer, 10))
	}
	c.ResponseWriter.WriteHeader(code)
}

func (c *counting) Write(b []byte) (int, error) {
	end := c.fault.Cut + c.fault.Stall
	if end > 0 && c.sent+int64(len(b)) > end {
		b = b[:end-c.sent]
	}
	n, err := c.ResponseWriter.Write(b)
	c.sent += int64(n)
	if end > 0 && c.sent >= end {
		c.ResponseWriter.(http.Flusher).Flush()
		if c.gone != nil {
			<-c.gone
		}
		panic(http.ErrAbortHandler)
	}
	return n, err
}

// PublishElsewhere writes, beside the feed, the other ways in which makers
// publish the same releases: JSON of their own with a document for each
// version, a page with links, and one address that holds the newest.
func (h *Harbour) PublishElsewhere(releases []Release) error {
	type file struct {
		Kind string `json:"kind"`
		Href string `json:"href"`
		Size int64  `json:"bytes"`
		Sum  string `json:"sum"`
	}
	type row struct {
		Number  string `json:"number"`
		Track   string `json:"track"`
		Since   int64  `json:"since"`
		Details string `json:"details"`
	}
	var rows []row
	sums, page := "", "<!doctype html>\n<html><head><title>Mossgate</title></head><body>\n<nav><a "+
		"href=\"/\">home</a> <a href=\"mailto:gate@mossgate.example\">write to us</a></nav>\n<table class=\"gates\">\n"
	for i := len(releases) - 1; i >= 0; i-- { // newest first, as makers do
		r := releases[i]
		name := "mossgate-" + r.Version + ".zip"
		b, err := os.ReadFile(filepath.Join(h.Builds, name))
		if err != nil {
			return err
		}
		sum := sha256.Sum256(b)
		sums += fmt.Sprintf("%x  %s\n", sum, name)
		track := map[string]string{"stable": "settled", "preview": "growing"}[r.Channel]
		since, err := time.Parse(time.DateOnly, r.Date)
		if err != nil {
			return err
		}
		rows = append(rows, row{r.Version, track, since.Unix(), "builds/" + r.Version + ".json"})
		detail := map[string]any{"number": r.Version, "files": []file{
			{"client", "../../mossgate-client-" + r.Version + ".zip", 1, ""},
			{"server", "../../" + name, int64(len(b)), "sha256:" + hex.EncodeToString(sum[:])},
		}}
		if err := putJSON(filepath.Join(h.Builds, "api", "builds", r.Version+".json"), detail); err != nil {
			return err
		}
		mark := ""
		if r.Channel != "stable" {
			mark = "?" + r.Channel
		}
		page += fmt.Sprintf("<tr><td>%s</td><td><a class=\"get\" href=\"./%s%s\">server</a> <a class=\"get\" "+
			"href=\"mossgate-client-%s.zip\">client</a></td></tr>\n", r.Date, name, mark, r.Version)
	}
	newest := releases[len(releases)-1]
	jar, err := Jar(newest)
	if err != nil {
		return err
	}
	for name, body := range map[string]string{"downloads.html": page + "</table></body></html>\n", "SHA256SUMS": sums,
		"latest.jar": string(jar)} {
		if err := put(filepath.Join(h.Builds, name), body, 0o644); err != nil {
			return err
		}
	}
	return putJSON(filepath.Join(h.Builds, "api", "builds.json"),
		map[string]any{"product": "mossgate", "result": map[string]any{"items": rows}})
}

func putJSON(full string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return put(full, string(b)+"\n", 0o644)
}

// PublishIncrement writes, into a folder of archives, a full build of the first
// release and an increment over it to the second: what changed, a list of what
// goes, and what makers put beside it for people.
func (h *Harbour) PublishIncrement(dir string, full, next Release) error {
	old, err := full.files()
	if err != nil {
		return err
	}
	now, err := next.files()
	if err != nil {
		return err
	}
	zips := map[string][]file{"mossgate-" + full.Version + "-full.zip": old}
	had := map[string]string{}
	for _, f := range old {
		had[f.name] = string(f.body)
	}
	var step []file
	for _, f := range now {
		if had[f.name] != string(f.body) {
			step = append(step, f)
		}
		delete(had, f.name)
	}
	gone := ""
	for _, f := range old {
		if _, ok := had[f.name]; ok {
			gone += f.name + "\n"
		}
	}
	zips["mossgate-"+next.Version+"-step.zip"] = append(step, file{"removed.txt", []byte(gone)},
		file{"INSTALL-ME.txt", []byte("Lay this over " + full.Version + ".\n")},
		file{"harbour.pub", []byte("RWQ-not-a-key\n")})
	for name, list := range zips {
		b, err := zipped(list)
		if err != nil {
			return err
		}
		if err := put(filepath.Join(dir, name), string(b), 0o644); err != nil {
			return err
		}
	}
	return nil
}
