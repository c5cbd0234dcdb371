package feed

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"freshkeel/internal/fetch"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
)

// ListingFormat names the format of a listing.
const ListingFormat = "freshkeel-listing/1"

// maxListing bounds a listing once it is decompressed, in bytes.
const maxListing = 256 << 20

// Files is a listing: every file of a build.
type Files struct {
	Format string       `json:"format"`
	Files  []ListedFile `json:"files"`

	base string
}

// ListedFile is one file of a listing. One of its digests is given.
type ListedFile struct {
	Path   string   `json:"path"`
	Size   int64    `json:"size"`
	Blake3 tree.Sum `json:"blake3,omitzero"`
	SHA256 string   `json:"sha256,omitempty"`
	Run    bool     `json:"run,omitempty"` // it is a program or script
	URL    string   `json:"url,omitempty"` // "": its path
}

// Digests are the file's, by name.
func (f ListedFile) Digests() map[string]string {
	out := map[string]string{}
	if !f.Blake3.IsZero() {
		out["blake3"] = f.Blake3.String()
	}
	if f.SHA256 != "" {
		out["sha256"] = f.SHA256
	}
	return out
}

// Address is where a listed file is fetched from.
func (d *Files) Address(f ListedFile) string {
	ref := f.URL
	if ref == "" {
		ref = f.Path
	}
	at, err := fetch.Resolve(d.base, escaped(d.base, ref))
	if err != nil { // ReadListing has tried it
		return ref
	}
	return at
}

// escaped writes a path so that it means itself in a URL.
func escaped(base, ref string) string {
	if !fetch.IsURL(base) || fetch.IsURL(ref) {
		return ref
	}
	return strings.NewReplacer("%", "%25", "?", "%3F", "#", "%23", " ", "%20", ":", "%3A").Replace(ref)
}

// ReadListing reads and checks a listing that was fetched to path. It may be
// compressed.
func ReadListing(path string, l *Listing) (*Files, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r, done, err := unpack.Decompressed(f)
	if err != nil {
		return nil, err
	}
	defer done()
	b, err := io.ReadAll(io.LimitReader(r, maxListing+1))
	if err != nil {
		return nil, err
	}
	if len(b) > maxListing {
		return nil, fmt.Errorf("it is larger than %d MiB", maxListing>>20)
	}
	d, err := ParseListing(b)
	if err != nil {
		return nil, err
	}
	if d.base, err = fetch.Resolve(l.URL, l.Files); l.Files != "" && err != nil {
		return nil, err
	}
	if l.Files == "" {
		d.base = l.URL
	}
	return d, nil
}

// ParseListing reads a listing's text. Every name in it is checked.
func ParseListing(b []byte) (*Files, error) {
	d := &Files{}
	if err := json.Unmarshal(bytes.TrimSpace(b), d); err != nil {
		return nil, jsonError(b, err)
	}
	if d.Format != ListingFormat {
		return nil, fmt.Errorf("its format is %q, expected %q", d.Format, ListingFormat)
	}
	if len(d.Files) == 0 {
		return nil, errors.New("it lists no file")
	}
	names := unpack.Names{}
	for _, f := range d.Files {
		if err := names.Add(f.Path); err != nil {
			return nil, fmt.Errorf("file %q %w", f.Path, err)
		}
		if f.Size < 0 || (f.Blake3.IsZero() && f.SHA256 == "") {
			return nil, fmt.Errorf("file %q has no digest, or a size below zero", f.Path)
		}
		if raw, err := hex.DecodeString(f.SHA256); err != nil || (f.SHA256 != "" && len(raw) != 32) {
			return nil, fmt.Errorf("file %q: %q is not a sha256 digest", f.Path, f.SHA256)
		}
	}
	return d, nil
}
