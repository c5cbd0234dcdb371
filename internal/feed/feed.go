// Package feed knows which builds there are. Every kind of source that a
// profile can name ends in the same typed list, a Feed, newest last; nothing
// behind it knows where a build came from. docs/feed.md describes the format of
// a feed of our own, docs/sources.md the other kinds.
package feed

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/version"
)

// Format names the format of a feed.
const Format = "freshkeel-feed/1"

// maxFeed bounds a list of builds, in bytes.
const maxFeed = 32 << 20

// Feed is the list of builds that a source offers, newest last.
type Feed struct {
	Format string  `json:"format"`
	Name   string  `json:"name"`
	Steps  string  `json:"steps,omitempty"` // "each": a version is reached only from the one directly before it
	Builds []Build `json:"builds"`

	Made    string `json:"made,omitempty"`    // when the list was written, RFC 3339
	Expires string `json:"expires,omitempty"` // when it is no longer to be believed, RFC 3339 or 2006-01-02

	where  string // URL or path it was read from
	signed bool   // the list itself was signed by the profile's key
}

// Build is one version of the server software.
type Build struct {
	Version  string            `json:"version"`
	Number   string            `json:"number,omitempty"` // the makers' own number of the build, where they count them
	Channel  string            `json:"channel,omitempty"`
	Date     string            `json:"date,omitempty"` // 2006-01-02
	Notes    string            `json:"notes,omitempty"`
	Parts    []Part            `json:"parts,omitempty"`    // laid in order, later over earlier
	Listing  *Listing          `json:"listing,omitempty"`  // each file by itself, instead of parts or beside them
	Variants []Variant         `json:"variants,omitempty"` // instead: the same version as different files
	Needs    map[string]string `json:"needs,omitempty"`    // runtime → range, "java": ">=17"
	From     []string          `json:"from,omitempty"`     // ranges of the versions that may step to it; none: any
	Fits     string            `json:"fits,omitempty"`     // for a layer: range of the base's versions
	Runtimes []Archive         `json:"runtimes,omitempty"` // archives of runtimes that go with it

	// what tells this content from another, where the version doesn't
	Mark    string                              `json:"-"`
	Tree    map[string]tree.Sum                 `json:"-"` // of a folder: its content, by path in the build
	details func(context.Context, *Build) error // reads what the list alone does not tell
}

// Archive is where a runtime that goes with a build can be had.
type Archive struct {
	fetch.Wanted
	Runtime string `json:"runtime"`           // as in needs: "java"
	Version string `json:"version,omitempty"` // of the runtime
	OS      string `json:"os,omitempty"`      // as a variant's; "": any
	Arch    string `json:"arch,omitempty"`
}

// RuntimeFor picks the archive of a runtime for a system and processor.
func (b Build) RuntimeFor(runtime string, m Choice) (Archive, bool) {
	i := slices.IndexFunc(b.Runtimes, func(a Archive) bool {
		return strings.EqualFold(a.Runtime, runtime) && (a.OS == "" || a.OS == m.OS) &&
			(a.Arch == "" || a.Arch == m.Arch)
	})
	if i < 0 {
		return Archive{}, false
	}
	return b.Runtimes[i], true
}

// Variant is one of several files that are the same version.
type Variant struct {
	Name    string   `json:"name,omitempty"` // "plain", "addons": the maker's own word
	OS      string   `json:"os,omitempty"`   // as Go names it: linux, windows, darwin; "": any
	Arch    string   `json:"arch,omitempty"` // amd64, arm64, …; "": any
	Parts   []Part   `json:"parts,omitempty"`
	Listing *Listing `json:"listing,omitempty"`
}

func (v Variant) String() string {
	var s []string
	for _, p := range []string{v.Name, v.OS, v.Arch} {
		if p != "" {
			s = append(s, p)
		}
	}
	return strings.Join(s, " ")
}

// Part is one thing to fetch.
type Part struct {
	fetch.Wanted             // its URL may be relative to the feed
	Unpack       unpack.Rule `json:"unpack,omitzero"`

	Folder string `json:"-"` // instead of a URL: a folder of this machine, taken as it is
	Make   *Make  `json:"-"` // instead: a command that makes it
}

// Listing is a document that lists every file of a build with its digest.
type Listing struct {
	fetch.Wanted        // of the document; freshkeel-listing/1, which may be compressed
	Files        string `json:"files,omitempty"` // what the files' addresses are relative to; "": the document
	// "digest": a file stands at its BLAKE3, the first two digits being a folder
	Layout  string   `json:"layout,omitempty"`
	Tree    tree.Sum `json:"tree,omitzero"`     // TreeSum of all that is listed
	Changes []Change `json:"changes,omitempty"` // shorter documents, for those who have another version

	By *profile.Listing `json:"-"` // it is a maker's own, read by these rules
}

// Change is a listing of the files that differ from another version.
type Change struct {
	fetch.Wanted
	Over string `json:"over"` // that version
}

// Where is the feed's own address.
func (f *Feed) Where() string { return f.where }

// Find returns the build with a version.
func (f *Feed) Find(version string) (Build, bool) {
	if i := f.Rank(version); i >= 0 {
		return f.Builds[i], true
	}
	return Build{}, false
}

// Rank is a version's place in the list, -1 when it isn't there.
func (f *Feed) Rank(version string) int {
	return slices.IndexFunc(f.Builds, func(b Build) bool { return b.Version == version })
}

// Newer tells whether a version is newer than another: by the maker's order
// where it lists both, else by comparing them.
func (f *Feed) Newer(than, is string) bool {
	if a, b := f.Rank(than), f.Rank(is); a >= 0 && b >= 0 {
		return b > a
	}
	return version.Compare(is, than) > 0
}

// In tells whether a build is of a channel: "" is any, and a build that its
// maker puts into none is of every one.
func (b Build) In(channel string) bool {
	return channel == "" || b.Channel == "" || b.Channel == channel
}

// Newest returns the newest build of a channel that suits; suits nil means any.
func (f *Feed) Newest(channel string, suits func(Build) bool) (Build, bool) {
	for _, b := range slices.Backward(f.Builds) {
		if b.In(channel) && (suits == nil || suits(b)) {
			return b, true
		}
	}
	return Build{}, false
}

// Channels lists the channels that the builds are in.
func (f *Feed) Channels() (out []string) {
	for _, b := range f.Builds {
		if b.Channel != "" && !slices.Contains(out, b.Channel) {
			out = append(out, b.Channel)
		}
	}
	return out
}

// MayStep tells whether the maker lets one version step to a build directly.
func (f *Feed) MayStep(from string, b Build) bool {
	if len(b.From) > 0 {
		return slices.ContainsFunc(b.From, func(r string) bool { return r == from || version.Fits(r, from) })
	}
	if f.Steps != "each" {
		return true
	}
	if f.Rank(from) < 0 {
		return false // nobody knows what comes after it
	}
	before := "" // the one before it in its own channel, or the last one of any
	for _, o := range f.Builds[:max(f.Rank(b.Version), 0)] {
		if o.Channel == b.Channel || o.Version == from {
			before = o.Version
		}
	}
	return before == "" || before == from
}

// Route finds the fewest builds to step through from one version to a build,
// that build last. nil: there is no way. A list that makes finding it endless work,
// or a way of more than mostSteps, is an error.
func (f *Feed) Route(from string, to Build) ([]Build, error) {
	type reached struct {
		at int // index in the list; -1: the start
		by int // index in found
	}
	found := []reached{{-1, -1}}
	end := f.Rank(to.Version)
	seen := map[int]bool{}
	mine := func(b Build) bool { // preview builds are no way to a stable one
		i := f.Rank(from)
		return b.Channel == to.Channel || (i >= 0 && b.Channel == f.Builds[i].Channel)
	}
	work, each := 0, 1
	if f.Steps == "each" { // which looks through the list each time
		each = len(f.Builds)
	}
	for n := 0; n < len(found); n++ {
		version, start := from, f.Rank(from)
		if at := found[n].at; at >= 0 {
			version, start = f.Builds[at].Version, at
		}
		for i := end; i > start; i-- { // the longest step first
			if work += each; work > mostWork {
				return nil, fmt.Errorf(
					"the list has %d builds, and so many rules for stepping between them that no way "+
						"from %s to %s is found in reasonable time",
					len(f.Builds),
					from,
					to.Version,
				)
			}
			if seen[i] || !f.MayStep(version, f.Builds[i]) || (i != end && !mine(f.Builds[i])) {
				continue
			}
			seen[i] = true
			found = append(found, reached{i, n})
			if i != end {
				continue
			}
			var out []Build
			for r := found[len(found)-1]; r.at >= 0; r = found[r.by] {
				out = append(out, f.Builds[r.at])
			}
			if len(out) > mostSteps {
				return nil, fmt.Errorf("the way from %s to %s has %d steps by the list's rules; more than %d "+
					"are not gone", from, to.Version, len(out), mostSteps)
			}
			slices.Reverse(out)
			return out, nil
		}
	}
	return nil, nil
}

// Bounds of a list from outside: more is refused.
const (
	maxBuilds = 10_000     // builds in a list
	mostSteps = 100        // steps of a chain: each is a whole refit
	mostWork  = 20_000_000 // comparisons while a chain is looked for
)

// Signed tells whether the list itself was signed by the profile's key.
func (f *Feed) Signed() bool { return f.signed }

// MadeAt is when the list was written; zero where it does not say.
func (f *Feed) MadeAt() time.Time {
	t, _ := time.Parse(time.RFC3339, f.Made)
	return t
}

// Expired tells whether the list's own time is over.
func (f *Feed) Expired(now time.Time) bool {
	t, err := time.Parse(time.RFC3339, f.Expires)
	if err != nil {
		if t, err = time.Parse(time.DateOnly, f.Expires); err != nil {
			return false
		}
		t = t.Add(24 * time.Hour) // the day itself counts
	}
	return now.After(t)
}

// Complete reads what the list alone does not tell of a build.
func (f *Feed) Complete(ctx context.Context, b *Build) error {
	if b.details == nil {
		return nil
	}
	if err := b.details(ctx, b); err != nil {
		return fmt.Errorf("%s: %w", b.Version, err)
	}
	b.details = nil
	return nil
}

// Choice is which of a build's variants is wanted.
type Choice struct{ Name, OS, Arch string }

// Choose picks the variant of a build that suits. Several that suit, or none,
// are an error that lists what there is.
func (b Build) Choose(c Choice) (Variant, error) {
	if len(b.Variants) == 0 {
		return Variant{Parts: b.Parts, Listing: b.Listing}, nil
	}
	var fit []Variant
	var all, names []string
	for _, v := range b.Variants {
		all = append(all, v.String())
		if (v.OS == "" || v.OS == c.OS) && (v.Arch == "" || v.Arch == c.Arch) && (c.Name == "" || v.Name == c.Name) {
			fit = append(fit, v)
			names = append(names, fmt.Sprintf("%q", v.Name))
		}
	}
	switch {
	case len(fit) == 1:
		return fit[0], nil
	case len(fit) == 0 && c.Name != "":
		return Variant{}, fmt.Errorf("%s does not come as %q for %s/%s; it comes as: %s", b.Version, c.Name, c.OS,
			c.Arch, strings.Join(all, ", "))
	case len(fit) == 0:
		return Variant{}, fmt.Errorf("%s does not come for this machine, %s/%s; it comes for: %s", b.Version, c.OS,
			c.Arch, strings.Join(all, ", "))
	}
	return Variant{}, fmt.Errorf("%s comes as %s: say which in [source] variant", b.Version,
		strings.Join(names, " and "))
}

// readFeed reads and checks a feed of our own format.
func readFeed(ctx context.Context, where, key string, c *fetch.Client) (*Feed, error) {
	// A signed list vouches for what it gives good digests of; where it is not
	// signed, each part must be.
	b, err := c.Document(ctx, where, maxFeed)
	signed := false
	if err == nil && key != "" {
		if err = c.CheckSigned(ctx, key, b, where); err == nil {
			signed = true
		} else if fetch.Unsigned(err) {
			err = nil
		}
	}
	if err != nil {
		return nil, err
	}
	f, err := Parse(b)
	if err != nil {
		return nil, err
	}
	f.where, f.signed = where, signed
	for i := range f.Builds {
		bld := &f.Builds[i]
		for _, l := range append([]*Listing{bld.Listing}, listings(bld.Variants)...) {
			if l == nil {
				continue
			}
			if err := f.locate(&l.Wanted, key); err != nil {
				return nil, err
			}
			for j := range l.Changes {
				if err := f.locate(&l.Changes[j].Wanted, key); err != nil {
					return nil, err
				}
			}
		}
		for j := range bld.Runtimes {
			if err := f.locate(&bld.Runtimes[j].Wanted, key); err != nil {
				return nil, err
			}
		}
		for _, ps := range append([][]Part{bld.Parts}, variantParts(bld.Variants)...) {
			for j := range ps {
				if err := f.locate(&ps[j].Wanted, key); err != nil {
					return nil, err
				}
			}
		}
	}
	return f, nil
}

func listings(vs []Variant) (out []*Listing) {
	for _, v := range vs {
		out = append(out, v.Listing)
	}
	return
}

func variantParts(vs []Variant) (out [][]Part) {
	for _, v := range vs {
		out = append(out, v.Parts)
	}
	return
}

// locate makes a part's addresses whole and says what must vouch for it.
func (f *Feed) locate(w *fetch.Wanted, key string) (err error) {
	for _, at := range []*string{&w.URL, &w.Sums, &w.Sig} {
		if *at != "" {
			if *at, err = fetch.Resolve(f.where, *at); err != nil {
				return fmt.Errorf("address %q: %w", *at, err)
			}
		}
	}
	w.Key = key
	if f.signed {
		if *w = w.Vouched(); !w.IsVouched() && w.Sums == "" {
			// A signature of its own says who made it, and not which version it is:
			// any other file of the same maker would do.
			return fmt.Errorf(
				"%s has no digest (sha256, sha512 or blake3) in a list that is signed: another signed file "+
					"could be given for it",
				fetch.NameOf(w.URL),
			)
		}
	}
	return nil
}

// Parse reads a feed's text and checks what later steps rely on.
func Parse(b []byte) (*Feed, error) {
	if fetch.LooksHTML(b) {
		return nil, errors.New("an HTML page stands there, not a feed")
	}
	f := &Feed{}
	if err := json.Unmarshal(b, f); err != nil {
		return nil, jsonError(b, err)
	}
	if f.Format != Format {
		return nil, fmt.Errorf("its format is %q, expected %q", f.Format, Format)
	}
	if f.Steps != "" && f.Steps != "each" {
		return nil, fmt.Errorf("steps %q is not known; \"each\" is", f.Steps)
	}
	if _, err := time.Parse(time.RFC3339, f.Made); err != nil && f.Made != "" {
		return nil, fmt.Errorf("made %q is not a time as in 2006-01-02T15:04:05Z", f.Made)
	}
	if f.Expires != "" && f.Expired(time.Time{}) == f.Expired(time.Unix(1<<40, 0)) {
		return nil, fmt.Errorf("expires %q is neither a time, 2006-01-02T15:04:05Z, nor a day, 2006-01-02", f.Expires)
	}
	if n := len(f.Builds); n > maxBuilds {
		return nil, tooMany(n)
	}
	seen := map[string]bool{}
	for i, b := range f.Builds {
		at := fmt.Sprintf("build %d (%s)", i+1, b.Version)
		switch {
		case !version.Valid(b.Version):
			return nil, fmt.Errorf("build %d: its version is empty or holds spaces", i+1)
		case seen[b.Version]:
			return nil, fmt.Errorf("%s is listed twice", at)
		case len(b.Parts) == 0 && b.Listing == nil && len(b.Variants) == 0:
			return nil, fmt.Errorf("%s has no parts", at)
		}
		seen[b.Version] = true
		if err := b.check(); err != nil {
			return nil, fmt.Errorf("%s: %w", at, err)
		}
	}
	return f, nil
}

func tooMany(n int) error {
	return fmt.Errorf("it lists %d builds; more than %d are not read", n, maxBuilds)
}

func jsonError(b []byte, err error) error {
	var syn *json.SyntaxError
	if errors.As(err, &syn) {
		return fmt.Errorf("line %d: %v", 1+bytes.Count(b[:min(int(syn.Offset), len(b))], []byte("\n")), err)
	}
	return err
}

func (b Build) check() error {
	if _, err := time.Parse(time.DateOnly, b.Date); b.Date != "" && err != nil {
		return fmt.Errorf("date %q is not written 2006-01-02", b.Date)
	}
	for _, r := range append(slices.Clone(b.From), b.Fits) {
		if err := version.CheckRange(r); err != nil {
			return err
		}
	}
	for _, a := range b.Runtimes {
		if err := checkWanted(a.Wanted); err != nil {
			return fmt.Errorf("a runtime: %w", err)
		}
		if a.Runtime == "" {
			return fmt.Errorf("runtime %s does not say which runtime it is", a.URL)
		}
	}
	for _, v := range append([]Variant{{Parts: b.Parts, Listing: b.Listing}}, b.Variants...) {
		if len(v.Parts) == 0 && v.Listing == nil && v.String() != "" {
			return fmt.Errorf("variant %s has no parts", v)
		}
		for _, p := range v.Parts {
			if err := p.check(); err != nil {
				return err
			}
		}
		if v.Listing != nil {
			if err := v.Listing.check(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (p Part) check() error {
	if err := checkWanted(p.Wanted); err != nil {
		return err
	}
	return p.Unpack.Check()
}

func checkWanted(w fetch.Wanted) error {
	if w.URL == "" {
		return errors.New("a part has no url")
	}
	if w.Size < 0 {
		return fmt.Errorf("part %s: a size below zero", w.URL)
	}
	for name, want := range w.Digests {
		hexs, err := fetch.Digest(name, want)
		if err != nil {
			return fmt.Errorf("part %s: %w", w.URL, err)
		}
		w.Digests[name] = hexs
	}
	return nil
}
