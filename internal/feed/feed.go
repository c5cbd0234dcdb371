// Package feed knows where builds come from: it reads the list of builds that
// a source offers, downloads their parts, and opens archives. docs/feed.md is
// the format's description.
package feed

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Format names the format of a feed.
const Format = "freshkeel-feed/1"

// maxFeed bounds a feed document, in bytes.
const maxFeed = 32 << 20

// Feed is the list of builds that a source offers, newest last.
type Feed struct {
	Format string  `json:"format"`
	Name   string  `json:"name"`
	Builds []Build `json:"builds"`

	where string // URL or path it was read from
}

// Build is one version of the server software.
type Build struct {
	Version string            `json:"version"`
	Channel string            `json:"channel"`
	Date    string            `json:"date"` // 2006-01-02
	Notes   string            `json:"notes"`
	Parts   []Part            `json:"parts"` // laid in order, later over earlier
	Needs   map[string]string `json:"needs"` // runtime → range, "java": ">=17"
	From    []string          `json:"from"`  // versions that may step to it; none: any
}

// Part is one file to fetch.
type Part struct {
	URL     string            `json:"url"`     // may be relative to the feed
	Size    int64             `json:"size"`    // bytes; 0: not told
	Digests map[string]string `json:"digests"` // sha256, sha512, blake3 → hex
	Unpack  Unpack            `json:"unpack"`
}

// Unpack says what becomes of a fetched file.
type Unpack struct {
	As    string `json:"as"`    // file, zip, tar.gz, tar; "": by content, a jar being a file
	Strip int    `json:"strip"` // leading path elements to drop
	Into  string `json:"into"`  // folder of the build to lay it into
	Name  string `json:"name"`  // for a file: its name in the build; "": that of the URL
}

// Where is the feed's own address.
func (f *Feed) Where() string { return f.where }

// Find returns the build with a version.
func (f *Feed) Find(version string) (Build, bool) {
	for _, b := range f.Builds {
		if b.Version == version {
			return b, true
		}
	}
	return Build{}, false
}

// Rank is a version's place in the feed, -1 when it isn't listed.
func (f *Feed) Rank(version string) int {
	for i, b := range f.Builds {
		if b.Version == version {
			return i
		}
	}
	return -1
}

// Newest returns the newest build of a channel; "" means any channel.
func (f *Feed) Newest(channel string) (Build, bool) {
	for i := len(f.Builds) - 1; i >= 0; i-- {
		if channel == "" || f.Builds[i].Channel == channel {
			return f.Builds[i], true
		}
	}
	return Build{}, false
}

// Read reads and checks the feed at where: an http(s) or file URL, or a path.
func Read(ctx context.Context, where string) (*Feed, error) {
	b, err := slurp(ctx, where)
	if err != nil {
		return nil, fmt.Errorf("read the feed %s: %w", Shown(where), err)
	}
	f, err := Parse(b)
	if err != nil {
		return nil, fmt.Errorf("read the feed %s: %w", Shown(where), err)
	}
	f.where = where
	return f, nil
}

func slurp(ctx context.Context, where string) ([]byte, error) {
	if !IsURL(where) {
		return os.ReadFile(localPath(where))
	}
	resp, err := get(ctx, where, nil)
	if err != nil {
		return nil, hidden(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the server answered %s", resp.Status)
	}
	b, err := io.ReadAll(io.LimitReader(resp.Body, maxFeed+1))
	if len(b) > maxFeed {
		return nil, fmt.Errorf("it is larger than %d MiB", maxFeed>>20)
	}
	return b, err
}

// Parse reads a feed's text and checks what later steps rely on.
func Parse(b []byte) (*Feed, error) {
	if looksHTML(b) {
		return nil, errors.New("an HTML page stands there, not a feed")
	}
	f := &Feed{}
	if err := json.Unmarshal(b, f); err != nil {
		var syn *json.SyntaxError
		if errors.As(err, &syn) {
			return nil, fmt.Errorf("line %d: %v", 1+bytes.Count(b[:min(int(syn.Offset), len(b))], []byte("\n")), err)
		}
		return nil, err
	}
	if f.Format != Format {
		return nil, fmt.Errorf("its format is %q, expected %q", f.Format, Format)
	}
	seen := map[string]bool{}
	for i, b := range f.Builds {
		at := fmt.Sprintf("build %d (%s)", i+1, b.Version)
		switch {
		case b.Version == "" || strings.ContainsFunc(b.Version, func(r rune) bool { return r <= ' ' || r == 0x7f }):
			return nil, fmt.Errorf("build %d: its version is empty or holds spaces", i+1)
		case seen[b.Version]:
			return nil, fmt.Errorf("%s is listed twice", at)
		case len(b.Parts) == 0:
			return nil, fmt.Errorf("%s has no parts", at)
		}
		seen[b.Version] = true
		if _, err := time.Parse(time.DateOnly, b.Date); b.Date != "" && err != nil {
			return nil, fmt.Errorf("%s: date %q is not written 2006-01-02", at, b.Date)
		}
		for _, p := range b.Parts {
			if err := p.check(); err != nil {
				return nil, fmt.Errorf("%s: %w", at, err)
			}
		}
	}
	return f, nil
}

func (p Part) check() error {
	if p.URL == "" {
		return errors.New("a part has no url")
	}
	if p.Size < 0 || p.Unpack.Strip < 0 {
		return fmt.Errorf("part %s: a size or strip below zero", p.URL)
	}
	for name, want := range p.Digests {
		h, ok := digests[name]
		if !ok {
			return fmt.Errorf("part %s: digest %q is not known; sha256, sha512 and blake3 are", p.URL, name)
		}
		if raw, err := hex.DecodeString(want); err != nil || len(raw) != h().Size() {
			return fmt.Errorf("part %s: %q is not a %s digest of %d hex digits", p.URL, want, name, 2*h().Size())
		}
	}
	return p.Unpack.check()
}

func (u Unpack) check() error {
	switch u.As {
	case "", "file", "zip", "tar", "tar.gz":
	default:
		return fmt.Errorf("unpack as %q is not known: file, zip, tar or tar.gz", u.As)
	}
	for _, s := range []string{u.Into, u.Name} {
		if s != "" && !cleanName(s) {
			return fmt.Errorf("unpack: %q is not a path inside the build", s)
		}
	}
	return nil
}

// Resolve makes a part's address whole: relative ones stand beside the feed.
func (f *Feed) Resolve(part string) (string, error) {
	if IsURL(part) || filepath.IsAbs(part) {
		return part, nil
	}
	if !IsURL(f.where) {
		return filepath.Join(filepath.Dir(localPath(f.where)), filepath.FromSlash(part)), nil
	}
	base, err := url.Parse(f.where)
	if err != nil {
		return "", err
	}
	ref, err := url.Parse(part)
	if err != nil {
		return "", err
	}
	return base.ResolveReference(ref).String(), nil
}

// IsURL tells whether where is to be fetched over http or https.
func IsURL(where string) bool {
	return strings.HasPrefix(where, "http://") || strings.HasPrefix(where, "https://")
}

// Shown is an address as it may be shown and stored: a name, password or token
// in it is nobody's business (P9).
func Shown(where string) string {
	u, err := url.Parse(where)
	if !IsURL(where) || err != nil {
		return where
	}
	u.User, u.Fragment = nil, ""
	if u.RawQuery != "" {
		u.RawQuery = "…"
	}
	return u.String()
}

func localPath(where string) string { return strings.TrimPrefix(where, "file://") }
