package version

import (
	"regexp"
	"strings"
)

// Likeness is how two spellings of a version compare.
type Likeness int

const (
	Other    Likeness = iota // two versions
	Doubtful                 // one says less than the other: "2.4" and "2.4.1"
	Same                     // one version, spelled in two ways: "2.4+g20260101" and "v2.4.20260101"
)

var (
	piece  = regexp.MustCompile(`\d+|[a-z]+`)
	commit = regexp.MustCompile(`(^|[^a-z0-9])g([0-9a-f]{6,})`)
)

// Alike compares how two versions are spelled: a leading name or v, what stands between the
// numbers, zeros before and behind them make no difference.
func Alike(a, b string) Likeness {
	x, y := pieces(a), pieces(b)
	n := 0
	for n < len(x) && n < len(y) && x[n] == y[n] {
		n++
	}
	switch {
	case n == len(x) && n == len(y), allZero(x[n:]) && allZero(y[n:]) && n > 0:
		return Same
	case len(x) > 0 && digits(a) == digits(b) && strings.Contains(a+b, digits(a)): // "20260101" and "2026.01.01"
		return Same
	case n > 0 && (n == len(x) || n == len(y)):
		return Doubtful
	}
	return Other
}

// pieces are a version's numbers and words in small letters, from the first number on.
func pieces(v string) []string {
	v = commit.ReplaceAllString(strings.ToLower(v), "$1$2")
	all := piece.FindAllString(v, -1)
	for i, p := range all {
		if p[0] <= '9' {
			if all[i] = strings.TrimLeft(p, "0"); all[i] == "" {
				all[i] = "0"
			}
		}
	}
	for i, p := range all {
		if p[0] <= '9' {
			return all[i:]
		}
	}
	return all
}

// digits are a version's own, without what stands between them.
func digits(v string) string {
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, v)
}

func allZero(list []string) bool {
	for _, p := range list {
		if p != "0" {
			return false
		}
	}
	return true
}
