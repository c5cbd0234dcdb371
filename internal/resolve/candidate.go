package resolve

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Candidate is a build that was found and not yet fetched.
type Candidate struct {
	Version string
	Channel string
	Layer   string // "": the server's build
	Source  string // feed or place it comes from
	Variant string
	Fits    string // of a layer: range of the build's versions

	Offer  *Asked // what it was chosen from; nil: a place was named
	Build  feed.Build
	Parts  []feed.Part
	List   *feed.Listing
	Src    profile.Source
	Place  map[string]string
	Folder string // a folder taken as it is
	Guess  bool   // archives may wrap everything in one folder
	Set    string // in the locker, where it is known to be that

	ByHand      bool // a layer that was taken from a file
	Stays       bool // it is what is installed
	AsInstalled bool // and nothing but the inventory tells what that is

	match *tree.Matcher // of Place, once it was asked for
}

// NameOf is the name that the install uses for a file of the build.
func (c *Candidate) NameOf(at string) string {
	if c.match == nil {
		c.match = tree.NewMatcher(slices.Sorted(maps.Keys(c.Place)))
	}
	if by := c.match.All(at); len(by) > 0 {
		at = c.Place[by[0]]
	}
	if c.Offer != nil && c.Offer.from.Into != "" {
		at = c.Offer.from.Into + "/" + at
	}
	return at
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
	// The signer is a part of a build's identity: a build that came without a signature is another
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
	for _, p := range c.Parts {
		one := part{Where: where(p.Wanted) + signed(p.Wanted), Unpack: p.Unpack}
		if p.Make != nil {
			one.Made = p.Make.Run
		}
		parts = append(parts, one)
	}
	if c.List != nil {
		parts = append(parts, part{Where: "listing " + where(c.List.Wanted) + signed(c.List.Wanted)})
	}
	b, _ := json.Marshal(struct {
		Version string
		Parts   []part
		Over    unpack.Rule
	}{c.Version, parts, feed.Over(c.Src)})
	return "build-" + tree.SumBytes(b).String()[:16]
}

// Label is what people call it.
func (c *Candidate) Label() string {
	name := c.Version
	if name == "" {
		name = "a build of unknown version from " + filepath.Base(c.Source)
	}
	if c.Layer != "" {
		name = c.Layer + " " + name
	}
	return name
}

// Newer tells whether the candidate is newer than an installed version; known
// is false where that can't be told from versions.
func (c *Candidate) Newer(than string) (newer, known bool) {
	if than == "" || c.Version == "" {
		return false, false
	}
	if c.Offer != nil {
		return c.Offer.Newer(than, c.Version), true
	}
	return version.Compare(c.Version, than) > 0, true
}

// FromPlace makes a candidate of a file, folder or URL.
func (rs *Resolver) FromPlace(w Want) (*Candidate, error) {
	c := &Candidate{Version: w.As, Source: fetch.Shown(w.From), Guess: !w.Over && !w.Lay,
		Src: profile.Source{Silence: rs.Profile.Source.Silence, Key: rs.Profile.Source.Key}, Place: rs.Profile.Place}
	if c.Version == "" {
		c.Version = cmp.Or(version.In(fetch.NameOf(w.From)), version.Number(fetch.NameOf(w.From)))
	}
	// A key in the profile holds for builds that are named by hand too.
	key, err := feed.Key(rs.Profile.Source, rs.Dir)
	if err != nil {
		return nil, err
	}
	if fetch.IsURL(w.From) {
		c.Parts = []feed.Part{{Wanted: fetch.Wanted{URL: w.From, Key: key}}}
		return c, nil
	}
	if shown := fetch.Shown(w.From); strings.Contains(w.From, "://") && !strings.HasPrefix(w.From, "file://") {
		return nil, tell.Misuse(fmt.Sprintf("%s is no address that builds are fetched from", shown),
			"http, https and file addresses are, and paths")
	}
	full, err := filepath.Abs(w.From)
	if err != nil {
		return nil, err
	}
	fi, err := os.Stat(full)
	if err != nil {
		return nil, tell.Advise(
			fmt.Errorf("take the build from %s: %w", w.From, errors.Unwrap(err)),
			"give the path of an archive, a file or a folder, or an address; paths count from the folder that you are in",
		)
	}
	c.Source = full
	if fi.IsDir() && key != "" {
		return nil, tell.Advise(fmt.Errorf("%s is a folder, which can't be signed, and [source] key asks for "+
			"a signature", w.From), "take a signed archive, or the key out of freshkeel.toml if you trust the folder")
	}
	if fi.IsDir() {
		if tree.Inside(rs.Dir, full) && full == rs.Dir {
			return nil, tell.Misuse("that is the install itself, not a build for it",
				"give the folder that the new build was unpacked into")
		}
		c.Folder = full
		return c, nil
	}
	c.Parts = []feed.Part{{Wanted: fetch.Wanted{URL: full, Key: key}}}
	return c, nil
}

// Pick takes a version of a list, or the newest of its channel that suits.
func (rs *Resolver) Pick(ctx context.Context, f *Asked, ver string, suits func(feed.Build) bool) (*Candidate, error) {
	channel := f.from.Source.Channel
	if ver == "" {
		b, ok := f.Newest(channel, suits)
		if !ok && suits != nil {
			return nil, nil
		}
		if !ok {
			return nil, tell.Advise(fmt.Errorf("the source offers no build in channel %q; its channels are: %s",
				channel, strings.Join(f.Channels(), ", ")), "freshkeel builds")
		}
		return rs.candidate(ctx, f, b)
	}
	b, ok := f.Find(ver)
	if !ok {
		var have []string
		for _, b := range f.Builds {
			have = append(have, b.Version)
		}
		return nil, tell.Advise(fmt.Errorf("the source has no build %s; it has %s", ver, words.Some(have, 12)),
			"freshkeel builds")
	}
	return rs.candidate(ctx, f, b)
}

// candidate makes a build of a list something that can be fetched.
func (rs *Resolver) candidate(ctx context.Context, f *Asked, b feed.Build) (*Candidate, error) {
	c := &Candidate{Version: b.Version, Channel: b.Channel, Layer: f.from.Name, Source: fetch.Shown(f.Where()),
		Fits: cmp.Or(b.Fits, f.from.Fits), Offer: f, Src: f.from.Source, Place: f.from.Place}
	if f.Stale {
		c.Source, c.Build = fetch.Shown(feed.Where(c.Src, rs.Dir)), b
		if c.Set = f.Memory.Sets[b.Version]; b.Version == "" {
			c.Set = f.Memory.Marks[f.Memory.Mark]
		}
		return c, nil
	}
	if err := f.Complete(ctx, &b); err != nil {
		return nil, Denied(fmt.Errorf("read the %s %s: %w", c.Src.Kind(), c.Source, err))
	}
	v, err := b.Choose(feed.Machine(c.Src))
	if err != nil {
		return nil, tell.Advise(err, "set [source] variant (and for, for another machine) in freshkeel.toml, or take "+
			"another version: freshkeel builds")
	}
	c.Build, c.Parts, c.List, c.Variant = b, v.Parts, v.Listing, v.String()
	if b.Mark != "" {
		c.Set = f.Memory.Marks[b.Mark]
	} else {
		c.Set = c.setID()
	}
	return c, nil
}

// PatternFor makes a pattern that goes on matching when the version changes.
func PatternFor(name string) string {
	if v := version.In(name); v != "" {
		return strings.Replace(name, v, "*", 1)
	}
	if n := version.Number(name); n != "" {
		i := strings.LastIndex(name, n)
		return name[:i] + "*" + name[i+len(n):]
	}
	return name
}
