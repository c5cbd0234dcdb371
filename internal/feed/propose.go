package feed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/fetch"
	"freshkeel/internal/profile"
	"freshkeel/internal/version"

	"github.com/PuerkitoBio/goquery"
)

// Proposal is a source that a place seems to be, and what led to that.
type Proposal struct {
	Source profile.Source
	From   string
}

// Propose looks at a place, a path or URL, and says which kind of source it
// seems to be.
func Propose(ctx context.Context, where string, p Place) (*Proposal, error) {
	r := &reader{Place: p}
	full := r.at(where)
	if !fetch.IsURL(full) {
		fi, err := os.Stat(fetch.LocalPath(full))
		if err != nil {
			return nil, err
		}
		if fi.IsDir() {
			return proposeFolder(where, full)
		}
	}
	address := &Proposal{profile.Source{Address: &profile.Address{At: where}},
		"it is one file, whose content may change"}
	seen, err := p.Client.Look(ctx, full)
	if err != nil {
		return nil, err
	}
	if seen.Size > maxFeed || isArchiveName(seen.Name) {
		return address, nil
	}
	b, err := p.Client.Document(ctx, full, maxFeed)
	if err != nil {
		return nil, err
	}
	trimmed := bytes.TrimLeft(b, "\xef\xbb\xbf \t\r\n")
	switch {
	case fetch.LooksHTML(b):
		return proposePage(b, where)
	case !bytes.HasPrefix(trimmed, []byte("{")) && !bytes.HasPrefix(trimmed, []byte("[")):
		return address, nil
	}
	if _, err := Parse(b); err == nil || bytes.Contains(b, []byte(`"freshkeel-feed/`)) {
		return &Proposal{profile.Source{Feed: where}, "it is a feed"}, err
	}
	return proposeAPI(b, where)
}

func isArchiveName(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".zip", ".jar", ".tar", ".tgz", ".gz", ".xz", ".zst", ".bz2", ".7z", ".rar":
		return true
	}
	return false
}

// pattern makes a pattern of a file name, with its version as a group.
func pattern(name string) string {
	v := version.In(name)
	if n := version.Number(name); n != "" { // its makers count their builds
		i := strings.LastIndex(name, n)
		return regexp.QuoteMeta(name[:i]) + `(?P<version>\d+)` + regexp.QuoteMeta(name[i+len(n):]) + "$"
	}
	if v == "" {
		return ""
	}
	before, after, _ := strings.Cut(name, v)
	return regexp.QuoteMeta(before) + `(?P<version>\d[\w.+-]*?)` + regexp.QuoteMeta(after) + "$"
}

// most is the pattern that most names follow.
func most(names []string) (best string, count int) {
	n := map[string]int{}
	for _, name := range names {
		if p := pattern(name); p != "" {
			n[p]++
		}
	}
	for _, p := range slices.Sorted(maps.Keys(n)) {
		if n[p] > count {
			best, count = p, n[p]
		}
	}
	return
}

var incrementName = regexp.MustCompile(
	`(?i)(patch|update|increment|upgrade|hotfix|delta|[-_ ]to[-_ ]|[-_](inc|step)[-_.])`,
)

func proposeFolder(where, full string) (*Proposal, error) {
	list, err := os.ReadDir(full)
	if err != nil {
		return nil, err
	}
	var fulls, steps []string
	others := 0
	for _, d := range list {
		switch {
		case d.IsDir() || !isArchiveName(d.Name()) || strings.HasSuffix(d.Name(), ".jar"):
			others++
		case incrementName.MatchString(d.Name()):
			steps = append(steps, d.Name())
		default:
			fulls = append(fulls, d.Name())
		}
	}
	p, n := most(fulls)
	if n == 0 || others > 3*(len(fulls)+len(steps)) {
		return &Proposal{profile.Source{Folder: &profile.Folder{At: where}}, "it is a folder of files"}, nil
	}
	a := &profile.Archives{In: where}
	if err := a.Full.UnmarshalText([]byte("^" + p)); err != nil {
		return nil, err
	}
	from := fmt.Sprintf("archives stand there, %d of them named alike", n)
	if q, n := most(steps); n > 0 {
		if err := a.Increment.UnmarshalText([]byte("^" + q)); err != nil {
			return nil, err
		}
		from += fmt.Sprintf(", %d are increments by their names", n)
	}
	return &Proposal{profile.Source{Archives: a}, from}, nil
}

func proposePage(page []byte, where string) (*Proposal, error) {
	d, err := goquery.NewDocumentFromReader(bytes.NewReader(page))
	if err != nil {
		return nil, err
	}
	var names []string
	for _, n := range d.Find("a[href]").EachIter() {
		if name := path.Base(n.AttrOr("href", "")); isArchiveName(name) {
			names = append(names, name)
		}
	}
	p, n := most(names)
	if n == 0 {
		return nil, errors.New("it is an HTML page, and no link of it is an archive with a version in its name")
	}
	s := profile.Source{Page: &profile.Page{At: where}}
	if err := s.Page.Pattern.UnmarshalText([]byte("/" + p)); err != nil {
		return nil, err
	}
	return &Proposal{s, fmt.Sprintf("it is a page with %d links to archives that are named alike", n)}, nil
}

// proposeAPI looks for a list of things with a version in a maker's JSON, and
// tells by each value what it may be.
func proposeAPI(b []byte, where string) (*Proposal, error) {
	doc, err := parseJSON(b)
	if err != nil {
		return nil, err
	}
	var found *profile.API
	var look func(v any, at string)
	look = func(v any, at string) {
		if found != nil {
			return
		}
		switch v := v.(type) {
		case []any:
			if len(v) > 0 {
				if row, ok := v[len(v)-1].(map[string]any); ok {
					a := &profile.API{List: where, Builds: at + "[*]", Digests: map[string]string{}}
					guessFields(a, row, "$")
					if a.Version != "" {
						found = a
					}
				}
			}
		case map[string]any:
			for _, k := range slices.Sorted(maps.Keys(v)) {
				look(v[k], at+member(k))
			}
		}
	}
	look(doc, "$")
	if found == nil {
		return nil, errors.New("it is JSON, and nothing in it looks like a list of builds with versions: write " +
			"[source.api] by hand (docs/sources.md)")
	}
	if found.URL == "" {
		found.URL = "https://…/{version}.zip"
	}
	return &Proposal{profile.Source{API: found}, "it is JSON with a list at " + found.Builds +
		"; each value was told by how it looks"}, nil
}

func member(k string) string {
	if regexp.MustCompile(`^[A-Za-z_]\w*$`).MatchString(k) {
		return "." + k
	}
	return fmt.Sprintf("['%s']", strings.ReplaceAll(k, "'", `\'`))
}

var (
	hexDigits = regexp.MustCompile(`^[0-9a-fA-F]+$`)
	byDigits  = map[int]string{32: "md5", 40: "sha1", 64: "sha256", 128: "sha512"}
)

func guessFields(a *profile.API, row map[string]any, at string) {
	set := func(to *string, path string) {
		if *to == "" {
			*to = path
		}
	}
	for _, k := range slices.Sorted(maps.Keys(row)) {
		p := at + member(k)
		low := strings.ToLower(k)
		switch v := row[k].(type) {
		case string:
			switch {
			case fetch.IsURL(v) || isArchiveName(v):
				set(&a.URL, p)
			case byDigits[len(v)] != "" && hexDigits.MatchString(v):
				name := byDigits[len(v)]
				if strings.Contains(low, "b3") || strings.Contains(low, "blake3") {
					name = "blake3"
				}
				a.Digests[name] = p
			case day(v) != "":
				set(&a.Date, p)
			case strings.Contains(low, "channel") || strings.Contains(low, "track") ||
				strings.Contains(low, "stability") || v == "stable" || v == "preview":
				set(&a.Channel, p)
			case version.In(v) == v && v != "" && at == "$":
				set(&a.Version, p)
			}
		case int64:
			if strings.Contains(low, "size") || strings.Contains(low, "bytes") || strings.Contains(low, "length") {
				set(&a.Size, p)
			}
		case []any:
			if len(v) > 0 {
				if sub, ok := v[0].(map[string]any); ok && a.URL == "" {
					guessFields(a, sub, p+"[0]")
				}
			}
		case map[string]any:
			guessFields(a, v, p)
		}
	}
}

// Text writes a source as the lines of a profile under [source]. quote writes
// one TOML string.
func (p *Proposal) Text(quote func(string) string) []string {
	var out []string
	add := func(key, value string) {
		if value != "" {
			out = append(out, key+" = "+quote(value))
		}
	}
	s := p.Source
	switch s.Kind() {
	case "feed":
		add("feed", s.Feed)
	case "api":
		a := s.API
		for _, f := range [][2]string{{"list", a.List}, {"builds", a.Builds}, {"version", a.Version},
			{"channel", a.Channel}, {"date", a.Date}, {"url", a.URL}, {"size", a.Size}} {
			add("api."+f[0], f[1])
		}
		for _, name := range slices.Sorted(maps.Keys(a.Digests)) {
			add("api.digests."+name, a.Digests[name])
		}
	case "page":
		add("page.at", s.Page.At)
		add("page.pattern", s.Page.Pattern.String())
	case "address":
		add("address.at", s.Address.At)
	case "folder":
		add("folder.at", s.Folder.At)
		out = append(out, "# take = ['server/**']   # only part of it belongs on a server: patterns of what does",
			"# leave = ['**/*.log']   # and of what does not",
			"# version = 'file:version.txt'   # where its version stands")
	case "archives":
		add("archives.in", s.Archives.In)
		add("archives.full", s.Archives.Full.String())
		if s.Archives.Increment.Given() {
			add("archives.increment", s.Archives.Increment.String())
			out = append(out, "# removals = 'removed.txt'   # a file in an increment that lists what it removes")
		}
		out = append(out, "# instructions, keys, checksums and archives, which don't land in the install", "leave = [")
		for _, l := range notServer {
			out = append(out, "  "+quote(l)+",")
		}
		out = append(out, "]")
	}
	if s.Strip > 0 {
		out = append(
			out,
			fmt.Sprintf("strip = %d   # all of a build lies in a folder that the install does not have", s.Strip),
		)
	}
	return out
}
