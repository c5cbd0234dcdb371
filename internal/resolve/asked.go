package resolve

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/host"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Origin is one thing that builds come from: the source of the server's build,
// or that of a layer.
type Origin struct {
	profile.Layer // Name "": the server's build
}

// Base is where the server's builds come from.
func (rs *Resolver) Base() Origin {
	return Origin{profile.Layer{Source: rs.Profile.Source, Place: rs.Profile.Place}}
}

// Layer is where the builds of a layer come from, by its name in the profile.
func (rs *Resolver) Layer(name string) (Origin, error) {
	var have []string
	for _, l := range rs.Profile.Layers {
		if l.Name == name {
			return Origin{l}, nil
		}
		have = append(have, l.Name)
	}
	if slices.Contains(rs.laid, name) {
		return Origin{profile.Layer{Name: name}}, nil
	}
	return Origin{}, tell.Misuse(fmt.Sprintf("there is no layer %q; the profile has %s", name,
		cmp.Or(strings.Join(have, ", "), "none")), "freshkeel builds; or make it of a file: --layer "+name+" --from "+
		"PATH")
}

var layerName = regexp.MustCompile(`^[\w][\w.-]*$`)

// allLayers are those of the profile, in its order, then those that were laid from files.
func (rs *Resolver) allLayers() []profile.Layer {
	out := slices.Clone(rs.Profile.Layers)
	for _, name := range rs.laid {
		if !slices.ContainsFunc(out, func(l profile.Layer) bool { return l.Name == name }) {
			out = append(out, profile.Layer{Name: name})
		}
	}
	return out
}

// Origins are the source of the build and those of its layers, in order.
func (rs *Resolver) Origins() []Origin {
	out := []Origin{rs.Base()}
	for _, l := range rs.Profile.Layers {
		out = append(out, Origin{l})
	}
	return out
}

// Asked is what a source offers, asked now or remembered.
type Asked struct {
	*feed.Feed
	from   Origin
	Memory *memory
	Stale  bool // the source could not be asked: this is what it offered at memory.At
}

// cant tells why a build of a list can't be installed here, as far as the list alone
// tells; fits is a layer's range of the build's versions.
func (f *Asked) cant(b feed.Build, fits, installed, build string) string {
	if f.from.Name != "" {
		if fits != "" && build != "" && !version.Fits(fits, build) {
			return fmt.Sprintf("it fits %s, and %s is installed", fits, build)
		}
		return ""
	}
	if len(b.Variants) > 0 {
		if _, err := b.Choose(feed.Machine(f.from.Source)); err != nil {
			return "none of its files is for this machine"
		}
	}
	if b.Version == "" || installed == "" || f.MayStep(installed, b) {
		return ""
	}
	if way, err := f.Route(installed, b); err != nil || len(way) == 0 {
		return "no chain of builds leads there from " + installed
	}
	return ""
}

// List asks a source what it offers. When it can't be reached, what it offered
// last is the answer, and that is told.
func (rs *Resolver) List(ctx context.Context, o Origin) (*Asked, error) {
	if o.Source.Kind() == "" {
		return nil, tell.Advise(errors.New("the profile names no source of builds: [source] is empty"),
			"set it in freshkeel.toml (docs/sources.md), or take a build from a path or URL with --from")
	}
	m := rs.memory(o)
	if f, ok := rs.asked[m.Path]; ok { // one command sees one list, however often it looks
		return f, nil
	}
	f, err := feed.List(ctx, o.Source, feed.Place{Dir: rs.Dir, Memo: strings.TrimSuffix(m.Path, ".json") + ".seen",
		Client: rs.Client(o.Source), Output: rs.output})
	var off *fetch.Unreachable
	if errors.As(err, &off) && m.Feed != nil {
		rs.Warn("offline: %s can't be reached (%v); this is what it offered %s ago", fetch.Shown(off.URL), off.Err,
			words.Age(time.Since(m.At)))
		rs.asked[m.Path] = &Asked{m.Feed, o, m, true}
		return rs.asked[m.Path], nil
	}
	if errors.As(err, &off) {
		return nil, tell.Advise(fmt.Errorf("read the %s %w", o.Source.Kind(), off),
			"try again when it can be reached; a build that is on this machine is taken with --from PATH")
	}
	if err != nil {
		return nil, Denied(err)
	}
	if err := rs.heldAgainst(m, f); err != nil {
		return nil, err
	}
	m.remember(f)
	rs.asked[m.Path] = &Asked{f, o, m, false}
	return rs.asked[m.Path], nil
}

// heldAgainst holds a list against what was seen of its source before. One that was
// signed stays signed: else whoever serves it may take the signature away, and give
// an old archive, signed by itself, for the newest build. A list that is older than
// one that was seen, or expired, is told; makers do withdraw builds.
func (rs *Resolver) heldAgainst(m *memory, f *feed.Feed) error {
	where := fetch.Shown(f.Where())
	if !m.Signed.IsZero() && !f.Signed() {
		return tell.Advise(fmt.Errorf("%s is not signed, and was when it was last asked, on %s: it is not believed",
			where, m.Signed.Local().Format(time.DateTime)),
			"ask its makers; if they have given signing up, change [source] key")
	}
	switch made := f.MadeAt(); {
	case f.Signed() && made.IsZero() && !m.Made.IsZero():
		return tell.Advise(fmt.Errorf("%s does not say when it was written, and a list of %s that was signed did: an old one may "+
			"be being served, and it is not believed", where, m.Made.Local().Format(time.DateTime)),
			"ask its makers; if this is right, they give their list a «made» again")
	case f.Signed() && made.Before(m.Made):
		return tell.Advise(fmt.Errorf("%s was written on %s, and a newer list of %s has been seen: an old one is being served, and "+
			"it is not believed", where, made.Local().Format(time.DateTime), m.Made.Local().Format(time.DateTime)),
			"try again later, or ask its makers; a build that is on this machine is taken with --from PATH")
	case !made.IsZero() && made.Before(m.Made):
		rs.Warn("%s was written on %s, and a newer list of %s has been seen: an old one may be being served", where,
			made.Local().Format(time.DateTime), m.Made.Local().Format(time.DateTime))
	case f.Expired(time.Now()):
		rs.Warn("%s has expired, on %s by its own word: an old list may be being served", where, f.Expires)
	case m.Feed != nil && len(m.Feed.Builds) > 0 && len(f.Builds) > 0:
		was := m.Feed.Builds[len(m.Feed.Builds)-1].Version
		if was != "" && f.Rank(was) < 0 && version.Compare(was, f.Builds[len(f.Builds)-1].Version) > 0 {
			rs.Warn("%s offered %s on %s, and no longer does: it was withdrawn, or an old list is being served", where,
				was, m.At.Local().Format(time.DateTime))
		}
	}
	return nil
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

	Path string `json:"-"`
}

// Save writes the memory down. It is only for later: a full disk is no reason
// to stop.
func (m *memory) Save() {
	if b, err := json.Marshal(m); err == nil && os.MkdirAll(filepath.Dir(m.Path), 0o700) == nil {
		tree.WriteFile(m.Path, b, 0o600)
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
	m.Save()
}

func (rs *Resolver) memory(o Origin) *memory {
	id, _ := json.Marshal([]any{o.Source, feed.Where(o.Source, rs.Dir)})
	m := &memory{Path: filepath.Join(rs.Home, "sources", tree.SumBytes(id).String()[:16]+".json")}
	if b, err := tree.ReadOwn(m.Path); err != nil || json.Unmarshal(b, m) != nil {
		*m = memory{Path: m.Path}
	}
	if m.Sets == nil {
		m.Sets = map[string]string{}
	}
	if m.Marks == nil {
		m.Marks = map[string]string{}
	}
	return m
}

// Client is the line to a source, with the profile's logins.
func (rs *Resolver) Client(s profile.Source) *fetch.Client {
	return fetch.New(fetch.Options{Env: rs.Env, Silence: s.Silence.Std(), Logins: LoginsOf(rs.Profile.Logins)})
}

// LoginsOf are a profile's logins, as the line takes them.
func LoginsOf(list []profile.Login) (out []fetch.Login) {
	for _, l := range list {
		out = append(out, fetch.Login{Host: l.Host, From: l.From, User: l.User, Header: l.Header, Plain: l.Plain})
	}
	return out
}

// output runs a command that only prints something.
func (rs *Resolver) output(ctx context.Context, argv []string) ([]byte, error) {
	var out strings.Builder
	err := host.RunTool(ctx, host.Tool{Argv: argv, Dir: rs.Dir, Env: rs.Env, Limit: 5 * time.Minute},
		func(l string) { out.WriteString(l + "\n") })
	if err != nil {
		return nil, fmt.Errorf("%w: %s", err, strings.TrimSpace(out.String()))
	}
	return []byte(out.String()), nil
}

// Denied adds what to do to an answer that wants a login.
func Denied(err error) error {
	var status *fetch.Status
	if errors.As(err, &status) && (status.Code == 401 || status.Code == 403) {
		return tell.Advise(err, fmt.Sprintf("add to freshkeel.toml: [[login]] host = %q, from = \"env:NAME\" (or "+
			"file:PATH, or netrc); the secret itself stays outside", status.Host))
	}
	return err
}
