package tree

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Patterns are shell patterns over whole paths, with ** for any number of
// folders. "logs/**" matches the folder logs too.
type Patterns []string

// Match tells whether any pattern matches path.
func (p Patterns) Match(path string) bool { return p.Which(path) != "" }

// Which returns the first pattern that matches path, or "".
func (p Patterns) Which(path string) string {
	for _, pat := range p {
		if ok, _ := doublestar.Match(pat, path); ok {
			return pat
		}
	}
	return ""
}

// Matcher holds many patterns, most of which are a path as it is: those are looked up, and only the others
// tried one by one.
type Matcher struct {
	paths map[string]bool
	globs Patterns
}

// NewMatcher makes a Matcher of patterns.
func NewMatcher(pats Patterns) *Matcher {
	m := &Matcher{paths: map[string]bool{}}
	for _, p := range pats {
		if IsGlob(p) {
			m.globs = append(m.globs, p)
		} else {
			m.paths[p] = true
		}
	}
	return m
}

// IsGlob tells whether a pattern may match other paths than the one that it is.
func IsGlob(pat string) bool { return strings.ContainsAny(pat, `*?[{\`) }

// All are the patterns that match a path, sorted.
func (m *Matcher) All(path string) (out []string) {
	if m.paths[path] {
		out = append(out, path)
	}
	for _, p := range m.globs {
		if (Patterns{p}).Match(path) {
			out = append(out, p)
		}
	}
	slices.Sort(out)
	return out
}

// literally is what stands in a pattern for a letter that means something else there. A
// backslash has no form of its own: any letter may stand in its place.
var literally = strings.NewReplacer("[", "[[]", "*", "[*]", "?", "[?]", "{", "[{]", `\`, "?")

// Literally is the pattern that means one path.
func Literally(path string) string { return literally.Replace(path) }

// Check names the first pattern that is not well formed, or that can never
// match because it is not a relative slash path.
func (p Patterns) Check() error {
	for _, pat := range p {
		switch {
		case pat == "":
			return fmt.Errorf("an empty pattern matches nothing")
		case strings.HasPrefix(pat, "/") || strings.Contains(pat, `\`):
			return fmt.Errorf("pattern %q: patterns are relative to the install and use forward slashes", pat)
		case !doublestar.ValidatePattern(pat):
			return fmt.Errorf("pattern %q is not well formed", pat)
		}
	}
	return nil
}

// windowsForbids are names that Windows refuses or changes ("Naming Files, Paths,
// and Namespaces").
var windowsForbids = regexp.MustCompile(`(?i)[<>:"\\|?*\x00-\x1f]|[ .]$|^(con|prn|aux|nul|com\d|lpt\d)(\.|$)`)

// WindowsForbids tells whether Windows can't have a path: on one, some names mean
// something else, a stream of another file or a device.
func WindowsForbids(path string) bool {
	return slices.ContainsFunc(strings.Split(path, "/"), windowsForbids.MatchString)
}
