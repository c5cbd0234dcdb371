package feed

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
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
	Format  string        `json:"format"`
	Version string        `json:"version,omitempty"` // of the build that it lists; "": it does not say
	Over    string        `json:"over,omitempty"`    // of a change: the version that it is laid over
	Files   []ListedFile  `json:"files"`
	Gone    tree.Patterns `json:"gone,omitempty"` // of a change: paths that are no more

	base   string
	layout string
}

func (l *Listing) check() error {
	if l.Layout != "" && l.Layout != "digest" {
		return fmt.Errorf("layout %q is not known; \"digest\" is", l.Layout)
	}
	if len(l.Changes) > 0 && l.Tree.IsZero() {
		return errors.New("a listing with changes needs tree, which they are held against")
	}
	for _, c := range l.Changes {
		if err := checkWanted(c.Wanted); err != nil {
			return err
		}
	}
	return checkWanted(l.Wanted)
}

// TreeSum is the BLAKE3 of a build's files: for each, in the order of their
// paths, a line of its own BLAKE3 in hex, its size, "run" or "-", and its path
// in double quotes (as JSON writes it).
func TreeSum(files []ListedFile) tree.Sum {
	h := tree.NewHash()
	for _, f := range files {
		run := "-"
		if f.Run {
			run = "run"
		}
		p, _ := json.Marshal(f.Path)
		h.WriteString(fmt.Sprintf("%s %d %s %s\n", f.Blake3, f.Size, run, p))
	}
	return h.Sum()
}

func byPath(a, b ListedFile) int { return strings.Compare(a.Path, b.Path) }

// difference is the change that makes now of old, both sorted.
func difference(over string, old, now []ListedFile) Files {
	d := Files{Format: ListingFormat, Over: over, Files: []ListedFile{}}
	had := map[string]ListedFile{}
	for _, f := range old {
		had[f.Path] = f
	}
	for _, f := range now {
		if !had[f.Path].same(f) {
			d.Files = append(d.Files, f)
		}
		delete(had, f.Path)
	}
	for p := range had {
		d.Gone = append(d.Gone, p)
	}
	slices.Sort(d.Gone)
	return d
}

// Over lays a change over the files of the version that it is for, and holds
// the result against what the listing says of the whole.
func (d *Files) over(old []ListedFile, l *Listing) error {
	now := map[string]ListedFile{}
	for _, f := range old {
		now[f.Path] = f
	}
	for _, p := range d.Gone {
		delete(now, p)
	}
	for _, f := range d.Files {
		now[f.Path] = f
	}
	d.Files = slices.SortedFunc(maps.Values(now), byPath)
	if TreeSum(d.Files) != l.Tree {
		return errors.New("it does not lead to the files that the listing is of")
	}
	return nil
}

// ListedFile is one file of a listing. One of its digests is given.
type ListedFile struct {
	Path   string   `json:"path"`
	Size   int64    `json:"size"`
	Blake3 tree.Sum `json:"blake3,omitzero"`
	SHA256 string   `json:"sha256,omitempty"`
	Run    bool     `json:"run,omitempty"` // it is a program or script
	URL    string   `json:"url,omitempty"` // "": its path
	// of a large file: the BLAKE3 of the list of its pages, which lies beside it (package pages)
	Pages tree.Sum `json:"pages,omitzero"`

	Other   map[string]string `json:"-"` // of a maker's own list: its digests, in hex
	Unsized bool              `json:"-"` // of a maker's own list: it tells no size
}

// same tells whether two files of our own listings are the same in all that those say.
func (f ListedFile) same(o ListedFile) bool {
	return f.Path == o.Path && f.Size == o.Size && f.Blake3 == o.Blake3 && f.SHA256 == o.SHA256 && f.Run == o.Run &&
		f.URL == o.URL
}

// Digests are the file's, by name.
func (f ListedFile) Digests() map[string]string {
	out := maps.Clone(f.Other)
	if out == nil {
		out = map[string]string{}
	}
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
	switch sum := f.Blake3.String(); {
	case ref == "" && d.layout == "digest" && !f.Blake3.IsZero():
		ref = sum[:2] + "/" + sum[2:]
	case ref == "":
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
// compressed. old is what a change is laid over; nil: it is no change.
func ReadListing(path string, l *Listing, old []ListedFile) (*Files, error) {
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
	read := ParseListing
	if l.By != nil {
		read = func(b []byte) (*Files, error) { return parseOwn(b, l) }
	}
	d, err := read(b)
	if err != nil {
		return nil, err
	}
	if (d.Over != "") != (old != nil) {
		return nil, errors.New("it is a change of another version, or is none")
	}
	if old != nil {
		if err := d.over(old, l); err != nil {
			return nil, err
		}
	}
	d.layout = l.Layout
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
	if len(d.Files) == 0 && d.Over == "" {
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
