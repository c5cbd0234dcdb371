package profile

import (
	"fmt"
	"path"
	"reflect"
	"slices"
	"strings"

	"freshkeel/internal/tree"
)

// Source is where builds come from: one of Feed, API, Page, Address, Folder,
// Archives and Command. The rest says what becomes of what comes from there.
type Source struct {
	Feed     string    `toml:"feed"` // path, relative to the install, or http(s) URL
	API      *API      `toml:"api"`
	Page     *Page     `toml:"page"`
	Address  *Address  `toml:"address"`
	Folder   *Folder   `toml:"folder"`
	Archives *Archives `toml:"archives"`
	Command  *Command  `toml:"command"`

	Listing *Listing `toml:"listing"` // beside any of them: a maker's own list of each build's files

	Channel string `toml:"channel"`
	Variant string `toml:"variant"` // the maker's word for one of several files of a version
	For     string `toml:"for"`     // "linux/amd64"; "": this machine
	Order   string `toml:"order"`   // "oldest-first", "newest-first"; "": by version
	Version string `toml:"version"` // where a version stands: "name", "header:NAME", "jar", "jar:PATH", "file:PATH"

	Key     string   `toml:"key"`     // minisign public key, or "file:PATH" of one here
	Sums    string   `toml:"sums"`    // checksum list or sidecar: an address, or an ending such as ".sha256"
	Silence Duration `toml:"silence"` // how long a silent line is waited for

	As       string            `toml:"as"`
	Strip    int               `toml:"strip"`
	Into     string            `toml:"into"`
	Rename   string            `toml:"rename"`
	Take     tree.Patterns     `toml:"take"`
	Leave    tree.Patterns     `toml:"leave"`
	Moved    map[string]string `toml:"moved"`
	Inside   tree.Patterns     `toml:"inside"`
	Removals string            `toml:"removals"`
}

// SourceKinds are the kinds of sources, of which a source is one.
var SourceKinds = []string{"feed", "api", "page", "address", "folder", "archives", "command"}

// API is a maker's own JSON. Values are JSONPath (RFC 9535) where they begin
// with "$", else text in which {version} and {$.path} are filled in.
type API struct {
	List     string            `toml:"list"`     // URL or path of the document that lists the builds
	Builds   string            `toml:"builds"`   // JSONPath of each build in it
	Detail   string            `toml:"detail"`   // address of a second document per build
	Files    string            `toml:"files"`    // JSONPath of each file of a build, where there are several
	Version  string            `toml:"version"`  // of a build
	Channel  string            `toml:"channel"`  // of a build
	Channels map[string]string `toml:"channels"` // the maker's word → the channel it is here
	Date     string            `toml:"date"`     // of a build
	Notes    string            `toml:"notes"`    // of a build
	Number   string            `toml:"number"`   // the makers' own number of it
	URL      string            `toml:"url"`      // of a file
	Size     string            `toml:"size"`     // of a file
	Digests  map[string]string `toml:"digests"`  // of a file, by the digest's name
	Variant  string            `toml:"variant"`  // of a file
	OS       string            `toml:"os"`       // of a file
	Arch     string            `toml:"arch"`     // of a file
	Fits     string            `toml:"fits"`     // of a build: for a layer
}

// Page is an HTML page with links to builds.
type Page struct {
	At      string  `toml:"at"`      // URL or path
	Links   string  `toml:"links"`   // CSS selector; "": every link
	Pattern Pattern `toml:"pattern"` // over the link's whole address; groups version, channel, variant, os, arch, date
}

// Address is one address whose content changes.
type Address struct {
	At string `toml:"at"`
}

// Folder is a folder of this machine, such as that of the game itself.
type Folder struct {
	At string `toml:"at"`
}

// Archives are archives on this machine: full builds, and increments over them.
type Archives struct {
	In        string   `toml:"in"`        // folder, relative to the install
	Full      Pattern  `toml:"full"`      // over file names; its group version is the build's
	Increment Pattern  `toml:"increment"` // likewise
	Parts     []string `toml:"parts"`     // instead: file names in their order, one build
}

// Command makes a build on the spot.
type Command struct {
	Run      []string `toml:"run"`      // program and arguments; {version} is filled in
	Versions []string `toml:"versions"` // that it can make, oldest first
	List     []string `toml:"list"`     // instead: a command that prints them, one a line
	Pattern  Pattern  `toml:"pattern"`  // over its lines; its first group is a version
	Limit    Duration `toml:"limit"`    // how long it may take
	Pick     string   `toml:"pick"`     // pattern of what it makes, in its work folder
}

// Listing is a maker's own list of the files of a build, by which each is fetched by itself.
type Listing struct {
	At      string            `toml:"at"`      // its address; {version} is filled in
	Kind    string            `toml:"kind"`    // "json", "csv" or "sums"; "": by the name
	Files   string            `toml:"files"`   // of JSON: JSONPath of each file in it
	Path    string            `toml:"path"`    // of a file: JSONPath, or the name of a column
	Size    string            `toml:"size"`    // likewise, in bytes
	Digests map[string]string `toml:"digests"` // likewise, by the digest's name
	URL     string            `toml:"url"`     // of a file; {path} is filled in; "": its path, beside the list
	Run     tree.Patterns     `toml:"run"`     // which files may be run
}

// Layer is something laid over the build that is upgraded by itself.
type Layer struct {
	Name   string            `toml:"name"`
	Into   string            `toml:"into"` // folder of the install; "": its top
	Fits   string            `toml:"fits"` // range of the build's versions, where its source doesn't say
	Source Source            `toml:"source"`
	Place  map[string]string `toml:"place"`
}

// Login opens a host.
type Login struct {
	Host   string `toml:"host"`
	From   string `toml:"from"` // "env:NAME", "file:PATH" or "netrc"
	User   string `toml:"user"`
	Header string `toml:"header"`
	Plain  bool   `toml:"plain"` // also over plain http
}

// Kind names which kind of source it is: the key that says so, or "".
func (s Source) Kind() string {
	if kinds := s.kinds(); len(kinds) > 0 {
		return kinds[0]
	}
	return ""
}

func (s Source) kinds() (out []string) {
	v := reflect.ValueOf(s)
	for i := range 7 { // the kinds are its first fields
		if !v.Field(i).IsZero() {
			out = append(out, v.Type().Field(i).Tag.Get("toml"))
		}
	}
	return
}

func (p *Profile) checkSources(bad func(key, why string) error) error {
	if err := p.Source.check("source", bad); err != nil {
		return err
	}
	seen := map[string]bool{}
	for i := range p.Layers {
		l := &p.Layers[i]
		if l.Into == "." { // the install itself, as a shell would have it
			l.Into = ""
		}
		switch {
		case l.Name == "" || strings.ContainsAny(l.Name, "/ ="):
			return bad("layer.name", "each layer needs a name without spaces")
		case seen[l.Name]:
			return bad("layer.name", fmt.Sprintf("two layers are called %q", l.Name))
		case l.Into != "" && (!tree.Local(l.Into) || Reserved(l.Into)):
			return bad("layer.into", fmt.Sprintf("%q is not a path in the install", l.Into))
		case l.Source.Kind() == "":
			return bad("layer.source", fmt.Sprintf("layer %s has no source", l.Name))
		}
		seen[l.Name] = true
		if err := l.Source.check("layer.source", bad); err != nil {
			return err
		}
	}
	for _, l := range p.Logins {
		kind, at, _ := strings.Cut(l.From, ":")
		switch {
		case l.Host == "" || strings.Contains(l.Host, "/"):
			return bad("login.host", fmt.Sprintf("%q is not a host: write it as \"builds.example\" or "+
				"\"builds.example:8443\"", l.Host))
		case l.From != "netrc" && (at == "" || (kind != "env" && kind != "file")):
			// Never the secret itself: the profile is backed up and shown.
			return bad("login.from", "it says where the secret is: \"env:NAME\", \"file:PATH\" or \"netrc\"")
		}
	}
	return nil
}

func (s Source) checkListing(at string, bad func(key, why string) error) error {
	l := s.Listing
	switch {
	case l == nil:
	case l.At == "":
		return bad(at+".listing.at", "it is missing: the address of the list, with {version}")
	case !slices.Contains([]string{"", "json", "csv", "sums"}, l.Kind):
		return bad(at+".listing.kind", `it is "json", "csv" or "sums"; without it the name of the list tells`)
	case (l.Files != "" || l.Kind == "json" || l.Kind == "csv") && (l.Path == "" || len(l.Digests) == 0):
		return bad(at+".listing.path", "path and digests are needed: where a file's path and its digest stand")
	}
	return nil
}

func (s Source) check(at string, bad func(key, why string) error) error {
	if kinds := s.kinds(); len(kinds) > 1 {
		return bad(at+"."+kinds[1], fmt.Sprintf("a source is one of %s: here are %s",
			"feed, api, page, address, folder, archives and command", strings.Join(kinds, " and ")))
	}
	need := func(key, value string) error {
		if value == "" {
			return bad(at+"."+key, "it is missing")
		}
		return nil
	}
	var err error
	switch {
	case s.API != nil:
		for _, f := range [][2]string{{"api.list", s.API.List}, {"api.builds", s.API.Builds},
			{"api.version", s.API.Version}, {"api.url", s.API.URL}} {
			if s.Listing != nil && f[0] == "api.url" {
				continue
			}
			if err = need(f[0], f[1]); err != nil {
				return err
			}
		}
	case s.Page != nil:
		if err = need("page.at", s.Page.At); err == nil &&
			(!s.Page.Pattern.Given() || s.Page.Pattern.SubexpIndex("version") < 0) {
			err = bad(at+".page.pattern", `it needs a group (?P<version>…)`)
		}
	case s.Address != nil:
		err = need("address.at", s.Address.At)
	case s.Folder != nil:
		err = need("folder.at", s.Folder.At)
	case s.Archives != nil:
		a := s.Archives
		if err = need("archives.in", a.In); err == nil && len(a.Parts) == 0 &&
			(!a.Full.Given() || a.Full.SubexpIndex("version") < 0) {
			err = bad(at+".archives.full",
				`name the archives in order with parts, or give a pattern with a group (?P<version>…)`)
		} else if err == nil && a.Increment.Given() && a.Increment.SubexpIndex("version") < 0 {
			err = bad(at+".archives.increment", `it needs a group (?P<version>…)`)
		}
	case s.Command != nil:
		c := s.Command
		switch {
		case len(c.Run) == 0:
			err = bad(at+".command.run", "it is missing")
		case c.Pick == "":
			err = bad(at+".command.pick", "it is missing: a pattern of what the command makes")
		case len(c.Versions) == 0 && len(c.List) == 0:
			err = bad(at+".command.versions", "say which versions it can make, or with list a command that prints them")
		}
	}
	if err != nil {
		return err
	}
	if err := s.checkListing(at, bad); err != nil {
		return err
	}
	return s.checkRest(at, bad)
}

// checkRest checks what sources of every kind have.
func (s Source) checkRest(at string, bad func(key, why string) error) error {
	if !slices.Contains([]string{"", "oldest-first", "newest-first"}, s.Order) {
		return bad(at+".order", "it is oldest-first or newest-first; without it versions are compared")
	}
	kind, arg, _ := strings.Cut(s.Version, ":")
	if !slices.Contains([]string{"", "name", "jar", "file", "header"}, kind) ||
		((kind == "file" || kind == "header") && arg == "") {
		return bad(at+".version", `it is "name", "header:NAME", "jar", "jar:PATH" or "file:PATH"`)
	}
	if _, arch, ok := strings.Cut(s.For, "/"); s.For != "" && (!ok || arch == "") {
		return bad(at+".for", `write it as "linux/amd64"`)
	}
	if strings.Contains(s.Key, "://") {
		return bad(at+".key", "a key is never fetched: write it here, or as \"file:PATH\" of one that you trust")
	}
	if s.Key != "" && (s.Folder != nil || s.Command != nil) {
		return bad(at+".key", "a "+s.Kind()+" can't be signed")
	}
	for _, p := range []tree.Patterns{s.Take, s.Leave, s.Inside} {
		if err := p.Check(); err != nil {
			return bad(at, err.Error())
		}
	}
	if s.Command != nil && path.IsAbs(s.Command.Pick) {
		return bad(at+".command.pick", "it is a pattern in the work folder")
	}
	return nil
}
