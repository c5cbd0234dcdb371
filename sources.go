package freshkeel

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/host"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Want says which build.
type Want struct {
	Version string            // "": the newest of the profile's channel
	From    string            // a path or URL to take a build from, instead of the source
	As      string            // the version of a build taken From somewhere, where its name doesn't tell
	Back    bool              // an older version is meant
	Start   bool              // leave the server running even if it wasn't
	Accept  []string          // checks to go past although they say stop
	Layers  map[string]string // layers to change too, and to which version ("": the newest that fits)
	Without []string          // layers to go without
	Mend    bool              // put changed build files back as the build has them
	Consent []string          // files in which the makers ask for a consent that is given
	Hold    []string          // add-ons to leave out this time, by path or name
}

// onlyLayers tells whether the build itself is to stay.
func (w Want) onlyLayers() bool { return w.Version == "" && w.From == "" && len(w.Layers) > 0 }

// origin is one thing that builds come from: the source of the server's build,
// or that of a layer.
type origin struct {
	profile.Layer // Name "": the server's build
}

func (k *Keel) base() origin {
	return origin{profile.Layer{Source: k.in.Profile.Source, Place: k.in.Profile.Place}}
}

func (k *Keel) layer(name string) (origin, error) {
	var have []string
	for _, l := range k.in.Profile.Layers {
		if l.Name == name {
			return origin{l}, nil
		}
		have = append(have, l.Name)
	}
	return origin{}, tell.Misuse(fmt.Sprintf("there is no layer %q; the profile has %s", name, cmp.Or(strings.Join(have, ", "), "none")), "freshkeel builds")
}

// memory is what is remembered of a source: what it offered when it was last
// asked, and what was fetched of it. Losing it loses nothing but time.
type memory struct {
	At    time.Time         `json:"at"` // when it was last asked
	Feed  *feed.Feed        `json:"feed"`
	Sets  map[string]string `json:"sets"`           // version → set in the locker
	Marks map[string]string `json:"marks"`          // what stood for content → set
	Mark  string            `json:"mark,omitempty"` // what stood for the newest content, where no version does

	Signed time.Time `json:"signed,omitzero"` // when its list was last seen signed
	Made   time.Time `json:"made,omitzero"`   // when the newest list that was seen had been written

	path string
}

func (k *Keel) memory(o origin) *memory {
	id, _ := json.Marshal([]any{o.Source, feed.Where(o.Source, k.in.Dir)})
	m := &memory{path: filepath.Join(k.in.Home, "sources", tree.SumBytes(id).String()[:16]+".json")}
	if b, err := os.ReadFile(m.path); err != nil || json.Unmarshal(b, m) != nil {
		*m = memory{path: m.path}
	}
	if m.Sets == nil {
		m.Sets = map[string]string{}
	}
	if m.Marks == nil {
		m.Marks = map[string]string{}
	}
	return m
}

// save writes the memory down. It is only for later: a full disk is no reason
// to stop.
func (m *memory) save() {
	if b, err := json.Marshal(m); err == nil && os.MkdirAll(filepath.Dir(m.path), 0o700) == nil {
		tree.WriteFile(m.path, b, 0o600)
	}
}

// remember keeps a list without its addresses, which may hold what opens them
// (P9): what is fetched is found again by its version.
func (m *memory) remember(f *feed.Feed) {
	kept := *f
	kept.Builds = slices.Clone(f.Builds)
	for i := range kept.Builds {
		b := &kept.Builds[i]
		m.Mark = b.Mark
		b.Parts, b.Variants, b.Listing, b.Tree = nil, nil, nil, nil
	}
	m.At, m.Feed = time.Now().Round(0), &kept
	if f.Signed() {
		m.Signed = m.At
	}
	if made := f.MadeAt(); made.After(m.Made) {
		m.Made = made
	}
	m.save()
}

func (k *Keel) client(s profile.Source) *fetch.Client {
	return fetch.New(fetch.Options{Env: k.in.Env, Silence: s.Silence.Std(), Logins: loginsOf(k.in.Profile.Logins)})
}

func loginsOf(list []profile.Login) (out []fetch.Login) {
	for _, l := range list {
		out = append(out, fetch.Login{Host: l.Host, From: l.From, User: l.User, Header: l.Header, Plain: l.Plain})
	}
	return out
}

// offer is what a source offers, asked now or remembered.
type offer struct {
	*feed.Feed
	from   origin
	memory *memory
	stale  bool // the source could not be asked: this is what it offered at memory.At
}

// list asks a source what it offers. When it can't be reached, what it offered
// last is the answer, and that is told.
func (k *Keel) list(ctx context.Context, o origin) (*offer, error) {
	if o.Source.Kind() == "" {
		return nil, tell.Advise(errors.New("the profile names no source of builds: [source] is empty"), "set it in freshkeel.toml (docs/sources.md), or take a build from a path or URL with --from")
	}
	m := k.memory(o)
	if f, ok := k.offers[m.path]; ok { // one command sees one list, however often it looks
		return f, nil
	}
	f, err := feed.List(ctx, o.Source, feed.Place{Dir: k.in.Dir, Memo: strings.TrimSuffix(m.path, ".json") + ".seen", Client: k.client(o.Source), Output: k.output})
	var off *fetch.Unreachable
	if errors.As(err, &off) && m.Feed != nil {
		k.in.Warn("offline: %s can't be reached (%v); this is what it offered %s ago", fetch.Shown(off.URL), off.Err, words.Age(time.Since(m.At)))
		k.offers[m.path] = &offer{m.Feed, o, m, true}
		return k.offers[m.path], nil
	}
	if errors.As(err, &off) {
		return nil, tell.Advise(fmt.Errorf("read the %s %w", o.Source.Kind(), off), "try again when it can be reached; a build that is on this machine is taken with --from PATH")
	}
	if err != nil {
		return nil, denied(err)
	}
	if err := k.heldAgainst(m, f); err != nil {
		return nil, err
	}
	m.remember(f)
	k.offers[m.path] = &offer{f, o, m, false}
	return k.offers[m.path], nil
}

// heldAgainst holds a list against what was seen of its source before. One that was
// signed stays signed: else whoever serves it may take the signature away, and give
// an old archive, signed by itself, for the newest build. A list that is older than
// one that was seen, or expired, is told; makers do withdraw builds.
func (k *Keel) heldAgainst(m *memory, f *feed.Feed) error {
	where := fetch.Shown(f.Where())
	if !m.Signed.IsZero() && !f.Signed() {
		return tell.Advise(fmt.Errorf("%s is not signed, and was when it was last asked, on %s: it is not believed", where, m.Signed.Local().Format(time.DateTime)),
			"ask its makers; if they have given signing up, change [source] key")
	}
	switch made := f.MadeAt(); {
	case !made.IsZero() && made.Before(m.Made):
		k.in.Warn("%s was written on %s, and a newer list of %s has been seen: an old one may be being served", where, made.Local().Format(time.DateTime), m.Made.Local().Format(time.DateTime))
	case f.Expired(time.Now()):
		k.in.Warn("%s has expired, on %s by its own word: an old list may be being served", where, f.Expires)
	case m.Feed != nil && len(m.Feed.Builds) > 0 && len(f.Builds) > 0:
		was := m.Feed.Builds[len(m.Feed.Builds)-1].Version
		if was != "" && f.Rank(was) < 0 && version.Compare(was, f.Builds[len(f.Builds)-1].Version) > 0 {
			k.in.Warn("%s offered %s on %s, and no longer does: it was withdrawn, or an old list is being served", where, was, m.At.Local().Format(time.DateTime))
		}
	}
	return nil
}

// output runs a command that only prints something.
func (k *Keel) output(ctx context.Context, argv []string) ([]byte, error) {
	var out strings.Builder
	err := host.RunTool(ctx, host.Tool{Argv: argv, Dir: k.in.Dir, Env: k.in.Env, Limit: 5 * time.Minute}, func(l string) { out.WriteString(l + "\n") })
	if err != nil {
		return nil, fmt.Errorf("%w: %s", err, strings.TrimSpace(out.String()))
	}
	return []byte(out.String()), nil
}

// denied adds what to do to an answer that wants a login.
func denied(err error) error {
	var status *fetch.Status
	if errors.As(err, &status) && (status.Code == 401 || status.Code == 403) {
		return tell.Advise(err, fmt.Sprintf("add to freshkeel.toml: [[login]] host = %q, from = \"env:NAME\" (or file:PATH, or netrc); the secret itself stays outside", status.Host))
	}
	return err
}

// Candidate is a build that was found and not yet fetched.
type Candidate struct {
	Version string
	Channel string
	Layer   string // "": the server's build
	Source  string // feed or place it comes from
	Variant string
	Fits    string // of a layer: range of the build's versions

	offer  *offer // what it was chosen from; nil: a place was named
	build  feed.Build
	parts  []feed.Part
	list   *feed.Listing
	src    profile.Source
	place  map[string]string
	folder string // a folder taken as it is
	guess  bool   // archives may wrap everything in one folder
	set    string // in the locker, where it is known to be that

	stays       bool // it is what is installed
	asInstalled bool // and nothing but the inventory tells what that is
}

// candidate makes a build of a list something that can be fetched.
func (k *Keel) candidate(ctx context.Context, f *offer, b feed.Build) (*Candidate, error) {
	c := &Candidate{Version: b.Version, Channel: b.Channel, Layer: f.from.Name, Source: fetch.Shown(f.Where()), Fits: cmp.Or(b.Fits, f.from.Fits), offer: f, src: f.from.Source, place: f.from.Place}
	if f.stale {
		c.Source, c.build = fetch.Shown(feed.Where(c.src, k.in.Dir)), b
		if c.set = f.memory.Sets[b.Version]; b.Version == "" {
			c.set = f.memory.Marks[f.memory.Mark]
		}
		return c, nil
	}
	if err := f.Complete(ctx, &b); err != nil {
		return nil, denied(fmt.Errorf("read the %s %s: %w", c.src.Kind(), c.Source, err))
	}
	v, err := b.Choose(feed.Machine(c.src))
	if err != nil {
		return nil, tell.Advise(err, "set [source] variant (and for, for another machine) in freshkeel.toml, or take another version: freshkeel builds")
	}
	c.build, c.parts, c.list, c.Variant = b, v.Parts, v.Listing, v.String()
	if b.Mark != "" {
		c.set = f.memory.Marks[b.Mark]
	} else {
		c.set = c.setID()
	}
	return c, nil
}

// resolve finds the build that is wanted. Nothing is fetched but lists.
func (k *Keel) resolve(ctx context.Context, w Want) (*Candidate, error) {
	if w.From != "" {
		if w.Version != "" {
			return nil, tell.Misuse("a version and --from together: which one is meant?", "give the version of a build taken --from somewhere with --as")
		}
		return k.fromPlace(w)
	}
	f, err := k.list(ctx, k.base())
	if err != nil {
		return nil, err
	}
	return k.pick(ctx, f, w.Version, nil)
}

// pick takes a version of a list, or the newest of its channel that suits.
func (k *Keel) pick(ctx context.Context, f *offer, ver string, suits func(feed.Build) bool) (*Candidate, error) {
	channel := f.from.Source.Channel
	if ver == "" {
		b, ok := f.Newest(channel, suits)
		if !ok && suits != nil {
			return nil, nil
		}
		if !ok {
			return nil, tell.Advise(fmt.Errorf("the source offers no build in channel %q; its channels are: %s", channel, strings.Join(f.Channels(), ", ")), "freshkeel builds")
		}
		return k.candidate(ctx, f, b)
	}
	b, ok := f.Find(ver)
	if !ok {
		var have []string
		for _, b := range f.Builds {
			have = append(have, b.Version)
		}
		return nil, tell.Advise(fmt.Errorf("the source has no build %s; it has %s", ver, words.Some(have, 12)), "freshkeel builds")
	}
	return k.candidate(ctx, f, b)
}

// fromPlace makes a candidate of a file, folder or URL.
func (k *Keel) fromPlace(w Want) (*Candidate, error) {
	c := &Candidate{Version: w.As, Source: fetch.Shown(w.From), guess: true, src: profile.Source{Silence: k.in.Profile.Source.Silence, Key: k.in.Profile.Source.Key}, place: k.in.Profile.Place}
	if c.Version == "" {
		c.Version = version.In(fetch.NameOf(w.From))
	}
	// A key in the profile holds for what is named by hand too.
	key, err := feed.Key(k.in.Profile.Source, k.in.Dir)
	if err != nil {
		return nil, err
	}
	if fetch.IsURL(w.From) {
		c.parts = []feed.Part{{Wanted: fetch.Wanted{URL: w.From, Key: key}}}
		return c, nil
	}
	if shown := fetch.Shown(w.From); strings.Contains(w.From, "://") && !strings.HasPrefix(w.From, "file://") {
		return nil, tell.Misuse(fmt.Sprintf("%s is no address that builds are fetched from", shown), "http, https and file addresses are, and paths")
	}
	full, err := filepath.Abs(w.From)
	if err != nil {
		return nil, err
	}
	fi, err := os.Stat(full)
	if err != nil {
		return nil, tell.Advise(fmt.Errorf("take the build from %s: %w", w.From, errors.Unwrap(err)), "give the path of an archive, a file or a folder, or an address; paths count from the folder that you are in")
	}
	c.Source = full
	if fi.IsDir() && key != "" {
		return nil, tell.Advise(fmt.Errorf("%s is a folder, which can't be signed, and [source] key asks for a signature", w.From), "take a signed archive, or the key out of freshkeel.toml if you trust the folder")
	}
	if fi.IsDir() {
		if tree.Inside(k.in.Dir, full) && full == k.in.Dir {
			return nil, tell.Misuse("that is the install itself, not a build for it", "give the folder that the new build was unpacked into")
		}
		c.folder = full
		return c, nil
	}
	c.parts = []feed.Part{{Wanted: fetch.Wanted{URL: full, Key: key}}}
	return c, nil
}

// setID is the name of the fetched build in the locker. Where every part has a
// digest it follows the content alone, so that servers share builds whatever
// the address; without digests it follows the addresses, and what is known of
// files of this machine.
func (c *Candidate) setID() string {
	type part struct {
		Where  string
		Unpack unpack.Rule
		Made   []string `json:",omitempty"`
	}
	// Who vouches is a part of what it is: what came without a signature is another
	// thing than the same file with one.
	signed := func(w fetch.Wanted) string {
		if mark := fetch.KeyMark(w.Key); mark != "" {
			return " " + mark
		}
		return ""
	}
	where := func(w fetch.Wanted) string {
		if len(w.Digests) == 0 {
			if fi, err := os.Stat(fetch.LocalPath(w.URL)); err == nil && !fetch.IsURL(w.URL) {
				return fmt.Sprintf("%s %d %d", w.URL, fi.Size(), fi.ModTime().UnixNano())
			}
			return w.URL
		}
		var all []string
		for name, d := range w.Digests {
			all = append(all, name+":"+strings.ToLower(d))
		}
		sort.Strings(all)
		return strings.Join(all, " ") + " " + fetch.NameOf(w.URL)
	}
	var parts []part
	for _, p := range c.parts {
		one := part{Where: where(p.Wanted) + signed(p.Wanted), Unpack: p.Unpack}
		if p.Make != nil {
			one.Made = p.Make.Run
		}
		parts = append(parts, one)
	}
	if c.list != nil {
		parts = append(parts, part{Where: "listing " + where(c.list.Wanted) + signed(c.list.Wanted)})
	}
	b, _ := json.Marshal(struct {
		Version string
		Parts   []part
		Over    unpack.Rule
	}{c.Version, parts, feed.Over(c.src)})
	return "build-" + tree.SumBytes(b).String()[:16]
}

// label is what people call it.
func (c *Candidate) label() string {
	name := c.Version
	if name == "" {
		name = "a build of unknown version from " + filepath.Base(c.Source)
	}
	if c.Layer != "" {
		name = c.Layer + " " + name
	}
	return name
}

// newer tells whether the candidate is newer than an installed version; known
// is false where that can't be told from versions.
func (c *Candidate) newer(than string) (newer, known bool) {
	if than == "" || c.Version == "" {
		return false, false
	}
	if c.offer != nil {
		return c.offer.Newer(than, c.Version), true
	}
	return version.Compare(c.Version, than) > 0, true
}
