package feed

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/version"
)

// Place is what a source needs to know of this machine.
type Place struct {
	Dir    string // the install: what relative paths start from
	Memo   string // a file to remember things about the source in
	Client *fetch.Client
	Output func(ctx context.Context, argv []string) ([]byte, error) // runs a command, returns what it prints
}

// Make is a command that makes a build, with the version filled in.
type Make struct {
	Run   []string
	Limit time.Duration // 0: none
	Pick  string        // pattern of what it makes, in its work folder
}

// List asks a source what builds it offers. Whatever the kind, the list is
// ordered, newest last, and its addresses are whole.
func List(ctx context.Context, s profile.Source, p Place) (f *Feed, err error) {
	r := &reader{Source: s, Place: p}
	if r.key, err = r.readKey(); err != nil {
		return nil, err
	}
	switch s.Kind() {
	case "feed":
		f, err = readFeed(ctx, r.at(s.Feed), r.key, p.Client)
	case "api":
		f, err = r.api(ctx)
	case "page":
		f, err = r.page(ctx)
	case "address":
		f, err = r.address(ctx)
	case "folder":
		f, err = r.folder(ctx)
	case "archives":
		f, err = r.archives()
	case "command":
		f, err = r.command(ctx)
	default:
		return nil, errors.New("the profile names no source of builds")
	}
	if err != nil {
		var off *fetch.Unreachable
		if errors.As(err, &off) {
			return nil, err
		}
		return nil, fmt.Errorf("read the %s %s: %w", s.Kind(), fetch.Shown(Where(s, p.Dir)), err)
	}
	f.Format, f.where = Format, Where(s, p.Dir)
	if s.Listing != nil {
		return f, r.listEach(f)
	}
	return f, nil
}

// Where is the address of a source, as the profile gives it, made whole.
func Where(s profile.Source, dir string) string {
	r := &reader{Source: s, Place: Place{Dir: dir}}
	switch s.Kind() {
	case "feed":
		return r.at(s.Feed)
	case "api":
		return r.at(s.API.List)
	case "page":
		return r.at(s.Page.At)
	case "address":
		return r.at(s.Address.At)
	case "folder":
		return r.at(s.Folder.At)
	case "archives":
		return r.at(s.Archives.In)
	case "command":
		return strings.Join(s.Command.Run, " ")
	}
	return ""
}

// reader reads one source.
type reader struct {
	profile.Source
	Place
	key string
}

// at makes a path or URL of the profile whole.
func (r *reader) at(where string) string {
	if fetch.IsURL(where) || strings.HasPrefix(where, "file://") || filepath.IsAbs(where) {
		return where
	}
	return filepath.Join(r.Dir, filepath.FromSlash(where))
}

func (r *reader) readKey() (string, error) {
	key := r.Key
	if file, ok := strings.CutPrefix(key, "file:"); ok {
		b, err := os.ReadFile(r.at(file))
		if err != nil {
			return "", fmt.Errorf("[source] key: %w", err)
		}
		key = string(b)
	}
	if key != "" {
		if _, err := fetch.ParseKey(key); err != nil {
			return "", fmt.Errorf("[source] key: %w", err)
		}
	}
	return key, nil
}

// Key is the minisign public key that a profile asks a source's builds to be
// signed by, "" for none.
func Key(s profile.Source, dir string) (string, error) {
	return (&reader{Source: s, Place: Place{Dir: dir}}).readKey()
}

// rule is the profile's word on files that come from the source.
func (r *reader) rule() unpack.Rule {
	return unpack.Rule{As: r.As, Strip: r.Strip, Into: r.Into, Name: r.Rename, Take: r.Take, Leave: r.Leave,
		Moved: r.Moved, Inside: r.Inside, Removals: r.Removals}
}

// Over is the rule that a profile lays over what a feed says of its own parts.
func Over(s profile.Source) unpack.Rule {
	if s.Kind() != "feed" {
		return unpack.Rule{}
	}
	return (&reader{Source: s}).rule()
}

// wanted is a file of the source, and what is to vouch for it.
func (r *reader) wanted(where string) (fetch.Wanted, error) {
	w := fetch.Wanted{URL: where, Key: r.key, Archive: r.As != "" && r.As != "file"}
	switch {
	case r.Sums == "":
	case strings.HasPrefix(r.Sums, "."):
		w.Sums = fetch.Beside(where, r.Sums)
	default:
		at, err := fetch.Resolve(where, r.Sums)
		if err != nil {
			return w, err
		}
		w.Sums = at
	}
	return w, nil
}

// part is a file of the source with the profile's rule.
func (r *reader) part(where string) (Part, error) {
	w, err := r.wanted(where)
	p := Part{Wanted: w, Unpack: r.rule()}
	return p, errors.Join(err, p.Unpack.Check())
}

// versionOf finds a version before anything is fetched, by the ways that need
// no content.
func (r *reader) versionOf(seen *fetch.Seen) string {
	switch kind, arg, _ := strings.Cut(r.Version, ":"); kind {
	case "header":
		v := strings.TrimSpace(seen.Header.Get(arg))
		if found := version.In(v); found != "" || !version.Valid(v) {
			return found
		}
		return v
	case "", "name":
		return version.In(seen.Name)
	}
	return ""
}

// offered is one file that a source offers.
type offered struct {
	version, channel, date, notes, number, fits string
	variant, os, arch                           string
	part                                        Part
}

// systems and processors are other words for those that Go has.
var (
	systems = map[string]string{"win": "windows", "win64": "windows", "win32": "windows", "macos": "darwin",
		"mac": "darwin", "osx": "darwin", "any": "", "all": ""}
	processors = map[string]string{"x86_64": "amd64", "x64": "amd64", "x86-64": "amd64", "64": "amd64", "x86": "386",
		"i386": "386", "i686": "386", "aarch64": "arm64", "armv7": "arm", "any": "", "all": "", "noarch": ""}
)

func canonical(words map[string]string, s string) string {
	s = strings.ToLower(s)
	if to, ok := words[s]; ok {
		return to
	}
	return s
}

// builds makes a list of what is offered: files of one version become its
// variants, and versions come into order.
func (r *reader) builds(rows []offered) (*Feed, error) {
	if len(rows) > maxBuilds {
		return nil, tooMany(len(rows))
	}
	f := &Feed{}
	at := map[string]int{}
	for _, o := range rows {
		if !version.Valid(o.version) {
			return nil, fmt.Errorf("version %q is empty or holds spaces", o.version)
		}
		v := Variant{Name: o.variant, OS: canonical(systems, o.os), Arch: canonical(processors, o.arch),
			Parts: []Part{o.part}}
		i, ok := at[o.version]
		if !ok {
			at[o.version] = len(f.Builds)
			f.Builds = append(f.Builds, Build{Version: o.version, Channel: o.channel, Date: day(o.date), Notes: o.notes,
				Fits: o.fits, Variants: []Variant{v}})
			continue
		}
		b := &f.Builds[i]
		if !slices.ContainsFunc(b.Variants, func(x Variant) bool { return x.String() == v.String() }) {
			b.Variants = append(b.Variants, v)
		}
	}
	for i := range f.Builds {
		if b := &f.Builds[i]; len(b.Variants) == 1 && b.Variants[0].String() == "" {
			b.Parts, b.Variants = b.Variants[0].Parts, nil
		}
	}
	r.sort(f)
	return f, nil
}

// sort brings a list into order, newest last.
func (r *reader) sort(f *Feed) {
	switch r.Order {
	case "newest-first":
		slices.Reverse(f.Builds)
	case "":
		slices.SortStableFunc(f.Builds, func(a, b Build) int { return version.Compare(a.Version, b.Version) })
	}
}

// day writes a date as 2006-01-02; "" when s is none.
func day(s string) string {
	for _, layout := range []string{time.RFC3339, time.DateOnly, time.DateTime, time.RFC1123, time.RFC1123Z, "20060102",
		"2006-01-02T15:04:05"} {
		if t, err := time.Parse(layout, s); err == nil {
			return t.Format(time.DateOnly)
		}
	}
	if len(s) >= 10 {
		if t, err := time.Parse(time.DateOnly, s[:10]); err == nil {
			return t.Format(time.DateOnly)
		}
	}
	return ""
}

// address is one file whose content changes.
func (r *reader) address(ctx context.Context) (*Feed, error) {
	where := r.at(r.Address.At)
	seen, err := r.Client.Look(ctx, where)
	if err != nil {
		return nil, err
	}
	part, err := r.part(where)
	if err != nil {
		return nil, err
	}
	part.Size = 0 // it may have changed again by the time it is fetched
	b := Build{Version: r.versionOf(seen), Parts: []Part{part}, Mark: seen.Mark}
	if b.Mark == "" {
		b.Mark = "?" // only its content can tell
	}
	if !seen.Date.IsZero() {
		b.Date = seen.Date.Format(time.DateOnly)
	}
	return &Feed{Builds: []Build{b}}, nil
}

// command is what a command can make.
func (r *reader) command(ctx context.Context) (*Feed, error) {
	c := r.Command
	versions := slices.Clone(c.Versions)
	if len(c.List) > 0 {
		out, err := r.Output(ctx, c.List)
		if err != nil {
			return nil, err
		}
		if versions, err = listed(string(out), c.Pattern); err != nil {
			return nil, fmt.Errorf("%s: %w", c.List[0], err)
		}
	}
	f := &Feed{}
	for _, v := range versions {
		if !version.Valid(v) || f.Rank(v) >= 0 {
			return nil, fmt.Errorf("version %q is listed twice, or is none", v)
		}
		m := &Make{Limit: c.Limit.Std(), Pick: c.Pick}
		for _, a := range c.Run {
			m.Run = append(m.Run, strings.NewReplacer("{version}", v, "{channel}", r.Channel).Replace(a))
		}
		rule := r.rule()
		if err := rule.Check(); err != nil {
			return nil, err
		}
		f.Builds = append(
			f.Builds,
			Build{Version: v, Channel: channelOf(c, r.Channel), Parts: []Part{{Unpack: rule, Make: m}}},
		)
	}
	if r.Order == "" {
		r.Order = "oldest-first"
	}
	r.sort(f)
	return f, nil
}

// channelOf is the channel of a command's builds: the profile's, where the command is told it.
func channelOf(c *profile.Command, channel string) string {
	if slices.ContainsFunc(c.Run, func(a string) bool { return strings.Contains(a, "{channel}") }) {
		return channel
	}
	return ""
}

// numbered is how a word begins that is a version among others in a line.
var numbered = regexp.MustCompile(`^v?\d`)

// listed are the versions that a command printed: by a pattern, or each line that is one word.
// What a tool says of itself, in a line of several words, is no version of the game's.
func listed(out string, by profile.Pattern) (versions []string, err error) {
	for _, line := range strings.Split(out, "\n") {
		words := strings.Fields(line)
		switch {
		case by.Given():
			if m := by.FindStringSubmatch(line); len(m) > 1 {
				versions = append(versions, m[1])
			}
		case len(words) == 1, !slices.ContainsFunc(words, func(w string) bool { return !numbered.MatchString(w) }):
			versions = append(versions, words...)
		}
	}
	if len(versions) == 0 {
		return nil, errors.New("it printed no version: one is a line of its own, or what pattern says")
	}
	return versions, nil
}

// Machine is the choice of variant that a profile makes, for this machine
// unless it says otherwise.
func Machine(s profile.Source) Choice {
	c := Choice{Name: s.Variant, OS: runtime.GOOS, Arch: runtime.GOARCH}
	if os, arch, ok := strings.Cut(s.For, "/"); ok {
		c.OS, c.Arch = canonical(systems, os), canonical(processors, arch)
	}
	return c
}

// sumOf names content by its paths and their sums.
func sumOf(list map[string]tree.Sum) string {
	h := tree.NewHash()
	paths := make([]string, 0, len(list))
	for p := range list {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	for _, p := range paths {
		h.WriteString(fmt.Sprintf("%q %s\n", p, list[p]))
	}
	return h.Sum().String()[:16]
}
