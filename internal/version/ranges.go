package version

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/Masterminds/semver/v3"
	pep440 "github.com/aquasecurity/go-pep440-version"
)

// A range is conditions with spaces between, all of which must hold: ">=3.4
// <4", "3.5.*", "=3.5.0" or a bare version. "||" parts alternatives. "" and "*"
// are any version.
var condition = regexp.MustCompile(`^(>=|<=|>|<|=|!=)?([^<>=!|\s]+)$`)

// CheckRange names what is wrong with a range.
func CheckRange(r string) error {
	for _, alt := range strings.Split(r, "||") {
		for _, c := range strings.Fields(alt) {
			if condition.FindStringSubmatch(c) == nil {
				return fmt.Errorf("%q is not a range of versions: write it as \">=3.4 <4\" or \"3.5.*\"", r)
			}
		}
	}
	return nil
}

// Fits tells whether a version lies in a range.
func Fits(r, version string) bool {
	if strings.TrimSpace(r) == "" {
		return true
	}
	for _, alt := range strings.Split(r, "||") {
		fits := strings.TrimSpace(alt) != ""
		for _, c := range strings.Fields(alt) {
			fits = fits && holds(c, version)
		}
		if fits {
			return true
		}
	}
	return false
}

func holds(cond, version string) bool {
	m := condition.FindStringSubmatch(cond)
	if m == nil {
		return false
	}
	op, want := m[1], m[2]
	if want == "*" {
		return true
	}
	if base, ok := strings.CutSuffix(want, ".*"); ok && (op == "" || op == "=" || op == "!=") {
		in := version == base || strings.HasPrefix(version, base+".") || strings.HasPrefix(version, base+"-")
		return in == (op != "!=")
	}
	c := Compare(version, want)
	switch op {
	case ">=":
		return c >= 0
	case "<=":
		return c <= 0
	case ">":
		return c > 0
	case "<":
		return c < 0
	case "!=":
		return c != 0
	}
	return c == 0
}

var (
	interval = regexp.MustCompile(`^([\[(])\s*([^,\s\[\]()]*)\s*(?:(,)\s*([^,\s\[\]()]*)\s*)?([\])])$`)
	bare     = regexp.MustCompile(`^v?(\d+(?:\.\d+)*)$`)
)

// IsBare tells whether a word about versions is a version alone: what makers of add-ons
// mean by that differs.
func IsBare(text string) bool { return bare.MatchString(strings.TrimSpace(text)) }

// FitsAddon holds a version against a range in any of the notations that makers of
// add-ons use: an interval "[3.4,4.0)", conditions ">=3.4 <4", "~3.4", "3.4.x",
// or a bare version, of which a shorter one stands for all that begin with it. With
// newer, a bare version means that one and all that come after it.
func FitsAddon(text, version string, newer bool) (bool, error) {
	text = strings.TrimSpace(text)
	v, err := semver.NewVersion(version)
	if err != nil {
		return false, fmt.Errorf("version %q: %w", version, err)
	}
	if text == "" || text == "*" {
		return true, nil
	}
	if m := bare.FindStringSubmatch(text); m != nil && newer {
		least, err := semver.NewVersion(m[1])
		return err == nil && !v.LessThan(least), err
	} else if m != nil {
		have := strings.TrimPrefix(version, "v")
		return have == m[1] || strings.HasPrefix(have, m[1]+".") || strings.HasPrefix(have, m[1]+"-"), nil
	}
	if m := interval.FindStringSubmatch(text); m != nil {
		low, high := m[2], m[4]
		if m[3] == "" { // "[3.5]": that one
			low, high = m[2], m[2]
		}
		for _, end := range []struct {
			at   string
			open bool
			sign int
		}{{low, m[1] == "(", 1}, {high, m[5] == ")", -1}} {
			if end.at == "" {
				continue
			}
			bound, err := semver.NewVersion(end.at)
			if err != nil {
				return false, fmt.Errorf("%q: %w", text, err)
			}
			if c := v.Compare(bound) * end.sign; c < 0 || (c == 0 && end.open) {
				return false, nil
			}
		}
		return true, nil
	}
	c, err := semver.NewConstraint(text)
	if err != nil {
		return false, fmt.Errorf("%q is no range of versions", text)
	}
	// A preview of a version is held to the range like that version: those who
	// run one want to know of what does not fit at all.
	c.IncludePrerelease = true
	return c.Check(v), nil
}

// FitsNode holds a version against a range in the notation of Node's package format
// (npm's semver): "^18.17 || >=20.5". An error says which of the two can't be read.
func FitsNode(r, version string) (bool, error) {
	want, err := semver.NewConstraint(r)
	if err != nil {
		return false, err
	}
	v, err := semver.NewVersion(version)
	return err == nil && want.Check(v), err
}

// FitsPython holds a version against a range as PEP 440 writes it: "~=3.10, !=3.12.1".
// An error says which of the two can't be read.
func FitsPython(r, version string) (bool, error) {
	want, err := pep440.NewSpecifiers(r, pep440.WithPreRelease(true))
	if err != nil {
		return false, err
	}
	v, err := pep440.Parse(version)
	return err == nil && want.Check(v), err
}
