package feed

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"freshkeel/internal/fetch"
	"freshkeel/internal/profile"
	"freshkeel/internal/unpack"
)

// listEach gives each build the maker's own list of its files, by which it is fetched file by
// file.
func (r *reader) listEach(f *Feed) error {
	for i := range f.Builds {
		b := &f.Builds[i]
		at, err := fetch.Resolve(Where(r.Source, r.Dir), strings.ReplaceAll(r.Listing.At, "{version}", b.Version))
		if err != nil {
			return fmt.Errorf("listing.at: %w", err)
		}
		b.Listing = &Listing{Wanted: fetch.Wanted{URL: at}, By: r.Listing}
	}
	return nil
}

// kindOf is the kind of a maker's list, by the profile or by the name of the document.
func kindOf(by *profile.Listing, where string) string {
	if by.Kind != "" {
		return by.Kind
	}
	switch strings.ToLower(path.Ext(strings.TrimSuffix(fetch.NameOf(where), ".gz"))) {
	case ".json":
		return "json"
	case ".csv", ".tsv":
		return "csv"
	}
	return "sums"
}

// parseOwn reads a maker's own list of a build's files. Every name in it is checked, and each
// file has to have a digest.
func parseOwn(b []byte, l *Listing) (*Files, error) {
	var err error
	d := &Files{Format: ListingFormat}
	switch kindOf(l.By, l.URL) {
	case "json":
		d.Files, err = ownJSON(b, l.By)
	case "csv":
		d.Files, err = ownCSV(b, l.By)
	default:
		d.Files, err = ownSums(b, fetch.NameOf(l.URL))
	}
	if err != nil {
		return nil, err
	}
	if len(d.Files) == 0 {
		return nil, errors.New("it lists no file")
	}
	names := unpack.Names{}
	for i := range d.Files {
		f := &d.Files[i]
		f.Path = strings.TrimPrefix(strings.ReplaceAll(f.Path, `\`, "/"), "./")
		if err := names.Add(f.Path); err != nil {
			return nil, fmt.Errorf("file %q %w", f.Path, err)
		}
		if len(f.Other) == 0 {
			return nil, fmt.Errorf("file %q has no digest", f.Path)
		}
		f.Run = l.By.Run.Match(f.Path)
		if l.By.URL != "" {
			f.URL = strings.ReplaceAll(l.By.URL, "{path}", f.Path)
		}
	}
	slices.SortFunc(d.Files, byPath)
	return d, nil
}

// digestsOf reads digests in any notation.
func digestsOf(written map[string]string) (map[string]string, error) {
	out := map[string]string{}
	for name, w := range written {
		if w == "" {
			continue
		}
		hexs, err := fetch.Digest(name, w)
		if err != nil {
			return nil, err
		}
		out[name] = hexs
	}
	return out, nil
}

func ownJSON(b []byte, by *profile.Listing) (files []ListedFile, err error) {
	doc, err := parseJSON(b)
	if err != nil {
		return nil, err
	}
	rows, err := find(doc, "listing.files", by.Files)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		get := func(key, expr string, must bool) string {
			s := ""
			if err == nil {
				s, err = value(row, "listing."+key, expr, nil, must)
			}
			return s
		}
		written := map[string]string{}
		for name, expr := range by.Digests {
			written[name] = get("digests."+name, expr, false)
		}
		f, ferr := listedFile(get("path", by.Path, true), get("size", by.Size, false), written)
		if err = errors.Join(err, ferr); err != nil {
			return nil, err
		}
		files = append(files, f)
	}
	return files, nil
}

// listedFile is one file of a maker's list; a size that is not told is one that is not held.
func listedFile(at, size string, written map[string]string) (f ListedFile, err error) {
	f = ListedFile{Path: at, Unsized: size == ""}
	if size != "" {
		if f.Size, err = strconv.ParseInt(strings.TrimSpace(size), 10, 64); err != nil || f.Size < 0 {
			return f, fmt.Errorf("listing.size: %q of %s is not a number of bytes", size, at)
		}
	}
	if f.Other, err = digestsOf(written); err != nil {
		return f, fmt.Errorf("%s: %w", at, err)
	}
	f.SHA256 = f.Other["sha256"]
	if b3 := f.Other["blake3"]; b3 != "" {
		err = f.Blake3.UnmarshalText([]byte(b3))
	}
	return f, err
}

// ownCSV reads a table whose first row names its columns.
func ownCSV(b []byte, by *profile.Listing) (files []ListedFile, err error) {
	head, _, _ := bytes.Cut(b, []byte("\n"))
	in := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))))
	in.FieldsPerRecord = -1
	for _, sign := range ",;\t" {
		if bytes.Count(head, []byte(string(sign))) > bytes.Count(head, []byte(string(in.Comma))) {
			in.Comma = sign
		}
	}
	rows, err := in.ReadAll()
	if err != nil {
		return nil, err
	}
	if len(rows) < 2 {
		return nil, errors.New("it has no row below the names of its columns")
	}
	column := map[string]int{}
	for i, name := range rows[0] {
		column[strings.TrimSpace(name)] = i
	}
	for _, name := range append([]string{by.Path, by.Size}, mapValues(by.Digests)...) {
		if _, there := column[name]; name != "" && !there {
			return nil, fmt.Errorf("it has no column %q; it has %s", name, strings.Join(rows[0], ", "))
		}
	}
	for _, row := range rows[1:] {
		get := func(name string) string {
			if i, there := column[name]; there && name != "" && i < len(row) {
				return strings.TrimSpace(row[i])
			}
			return ""
		}
		written := map[string]string{}
		for digest, name := range by.Digests {
			written[digest] = get(name)
		}
		f, err := listedFile(get(by.Path), get(by.Size), written)
		if err != nil {
			return nil, err
		}
		files = append(files, f)
	}
	return files, nil
}

func mapValues(m map[string]string) (out []string) {
	for _, v := range m {
		out = append(out, v)
	}
	return out
}

var (
	sumLine    = regexp.MustCompile(`^\\?([0-9A-Fa-f]{32,128}|[\w]+[-:][\w+/=-]+)\s+[* ]?(.+)$`)
	taggedLine = regexp.MustCompile(`^(\w[\w-]*) ?\((.+)\) ?= ?(\S+)$`)
	bySize     = map[int]string{32: "md5", 40: "sha1", 64: "sha256", 128: "sha512"}
)

// ownSums reads a checksum list whose lines name files by their paths; name is the list's own.
func ownSums(b []byte, name string) (files []ListedFile, err error) {
	for n, line := range strings.Split(string(b), "\n") {
		line = strings.TrimRight(line, "\r ")
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		kind, sum, at := "", "", ""
		if m := taggedLine.FindStringSubmatch(line); m != nil {
			kind, at, sum = strings.ToLower(strings.ReplaceAll(m[1], "-", "")), m[2], m[3]
		} else if m := sumLine.FindStringSubmatch(line); m != nil {
			sum, at = m[1], m[2]
			if i := strings.IndexAny(sum, "-:"); i > 0 {
				kind = strings.ToLower(sum[:i])
			} else if kind = bySize[len(sum)]; kind == "sha256" && strings.Contains(strings.ToLower(name), "b3") {
				kind = "blake3"
			}
		} else {
			return nil, fmt.Errorf("line %d is no digest and path: %.60q", n+1, line)
		}
		f, err := listedFile(at, "", map[string]string{kind: sum})
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n+1, err)
		}
		files = append(files, f)
	}
	return files, nil
}
