package unpack

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"freshkeel/internal/tree"

	"golang.org/x/text/unicode/norm"
)

// Rule says what becomes of a fetched file. Its patterns match paths as they
// are once Strip has dropped its leading elements.
type Rule struct {
	As       string            `json:"as,omitempty"`       // one of Kinds; "": by content, a jar being a file
	Strip    int               `json:"strip,omitempty"`    // leading path elements to drop
	Into     string            `json:"into,omitempty"`     // folder of the build to lay it into
	Name     string            `json:"name,omitempty"`     // for a file: its name in the build; "": its own
	Take     tree.Patterns     `json:"take,omitempty"`     // only these; none: everything
	Leave    tree.Patterns     `json:"leave,omitempty"`    // but not these
	Moved    map[string]string `json:"moved,omitempty"`    // pattern → other name, or folder where it ends in "/"
	Inside   tree.Patterns     `json:"inside,omitempty"`   // archives in it that are opened too, where they lie
	Remove   tree.Patterns     `json:"remove,omitempty"`   // of what the parts before it brought
	Removals string            `json:"removals,omitempty"` // a file in it that lists such patterns, one a line

	Used *Used `json:"-"` // notes which patterns match something; may be nil
}

// Kinds are what an archive can be opened as.
var Kinds = []string{"file", "zip", "tar", "tar.gz", "tar.xz", "tar.zst", "tar.bz2", "7z", "rar"}

// Check names what is wrong with a rule.
func (u Rule) Check() error {
	if u.As != "" && !slices.Contains(Kinds, u.As) {
		return fmt.Errorf("unpack as %q is not known: %s", u.As, strings.Join(Kinds, ", "))
	}
	if u.Strip < 0 {
		return fmt.Errorf("unpack: strip is below zero")
	}
	for _, s := range []string{u.Into, u.Name, u.Removals} {
		if s != "" && !cleanName(s) {
			return fmt.Errorf("unpack: %q is not a path inside the build", s)
		}
	}
	for _, p := range []tree.Patterns{u.Take, u.Leave, u.Inside, u.Remove} {
		if err := p.Check(); err != nil {
			return fmt.Errorf("unpack: %w", err)
		}
	}
	for from, to := range u.Moved {
		if err := (tree.Patterns{from}).Check(); err != nil {
			return fmt.Errorf("unpack: moved: %w", err)
		}
		if to != "/" && !cleanName(strings.TrimSuffix(to, "/")) {
			return fmt.Errorf("unpack: moved: %q is not a path inside the build", to)
		}
	}
	return nil
}

// Path gives a path of an archive or folder its name in the build; "" leaves
// it out. raw must be clean.
func (u Rule) Path(raw string) string {
	elems := strings.Split(raw, "/")
	if len(elems) <= u.Strip {
		return ""
	}
	at := strings.Join(elems[u.Strip:], "/")
	if (len(u.Take) > 0 && !u.Take.Match(at)) || u.Leave.Match(at) {
		return ""
	}
	return path.Join(u.Into, u.moved(at))
}

// moved applies the first pattern of Moved, by name, that matches. A target
// that ends in "/" keeps what of the path comes after the pattern's own folder.
func (u Rule) moved(at string) string {
	pats := make([]string, 0, len(u.Moved))
	for p := range u.Moved {
		pats = append(pats, p)
	}
	slices.Sort(pats)
	for _, p := range pats {
		if !(tree.Patterns{p}).Match(at) {
			continue
		}
		to := u.Moved[p]
		if !strings.HasSuffix(to, "/") {
			return to
		}
		base := p
		for strings.ContainsAny(base, "*?[{") {
			base = path.Dir(base)
		}
		if base == p {
			base = path.Dir(p)
		}
		rest := at
		if base != "." {
			rest = strings.TrimPrefix(strings.TrimPrefix(at, base), "/")
		}
		return path.Join(strings.TrimPrefix(to, "/"), rest) // "/" is the build's own top
	}
	return at
}

// narrows tells whether the rule leaves anything out by its nature.
func (u Rule) narrows() bool { return len(u.Take) > 0 || len(u.Leave) > 0 }

// MostDeep bounds how many folders a file of a build lies in: what is done for each of them takes time for
// each file.
const MostDeep = 128

// Names are the names of one archive or listing, and of the folders they lie in:
// by folded path, as written.
type Names map[string]name

type name struct {
	as  string
	dir bool
}

// Add checks the name of a file against those before it.
func (n Names) Add(p string) error { return n.add(p, false) }

func (n Names) add(p string, isDir bool) error {
	if strings.Contains(p, `\`) {
		return errors.New("has a backslash in its name")
	}
	if !cleanName(p) {
		return errors.New("leads out of the archive's folder")
	}
	if strings.Count(p, "/") > MostDeep {
		return fmt.Errorf("is more than %d folders deep", MostDeep)
	}
	fold := folded(p)
	if old, ok := n[fold]; ok && (old.as != p || !isDir || !old.dir) {
		return fmt.Errorf("has the same name as %q", old.as)
	}
	n[fold] = name{p, isDir}
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		fold := folded(dir)
		if old, ok := n[fold]; ok && (old.as != dir || !old.dir) {
			return fmt.Errorf("lies in what has the same name as %q", old.as)
		} else if ok {
			break // what it lies in is known
		}
		n[fold] = name{dir, true}
	}
	return nil
}

// folded is a name as systems compare it that ignore case, or take a letter with its accent for the same
// in whichever way it is written (Unicode Standard Annex 15). Of one that is not UTF-8 the letters that
// are none stay apart.
func folded(p string) string {
	if utf8.ValidString(p) {
		return strings.ToLower(norm.NFC.String(p))
	}
	b := []byte(p)
	for i, c := range b {
		if c >= 'A' && c <= 'Z' {
			b[i] = c + 'a' - 'A'
		}
	}
	return string(b)
}

// cleanName tells whether p is a relative slash path that stays where it is.
func cleanName(p string) bool {
	return tree.Local(p) && !(len(p) > 1 && p[1] == ':')
}
