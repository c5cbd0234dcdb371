// Package version orders the versions of builds, finds them in names and texts,
// and holds them against ranges.
//
// A version is any short text without spaces: makers number their builds as they
// like. Compare orders them where no maker's own order does. Ranges come in four
// notations, each with a function of its own: Fits reads the notation of feeds and
// profiles, FitsAddon those of makers of add-ons, FitsNode and FitsPython those of
// the package formats of these two runtimes.
package version

import (
	"regexp"
	"strconv"
	"strings"
)

// Compare orders two versions where no maker's order does: numbers by parts
// (1.9 before 1.10), dates and build numbers likewise, and a pre-release
// ("3.5.0-rc1") before its release. A missing part counts as 0. What follows a
// "+" is compared last. It returns -1, 0 or 1.
func Compare(a, b string) int {
	aMain, aBuild, _ := strings.Cut(strings.TrimPrefix(a, "v"), "+")
	bMain, bBuild, _ := strings.Cut(strings.TrimPrefix(b, "v"), "+")
	if c := compareParts(aMain, bMain); c != 0 {
		return c
	}
	return compareParts(aBuild, bBuild)
}

var versionPart = regexp.MustCompile(`\d+|[A-Za-z]+`)

// before are words for what comes before a release, in their order; after are
// words for what comes after it. A word that is in neither counts as a
// pre-release whose place among the others is not known: after the known ones.
var (
	before = map[string]int{"dev": -99, "nightly": -98, "snapshot": -97, "alpha": -90, "a": -90, "beta": -80, "b": -80,
		"milestone": -70, "m": -70,
		"pre": -60, "preview": -60, "rc": -50, "cr": -50, "candidate": -50}
	after = map[string]int{"final": 0, "release": 0, "ga": 0, "stable": 0, "build": 1, "rev": 1, "r": 1, "p": 1,
		"patch": 1, "hotfix": 1, "post": 1, "sp": 1}
)

const unknownWord = -10

// rank gives one part of a version its weight and number.
func rank(part string) (weight int, number uint64, word string) {
	if n, err := strconv.ParseUint(part, 10, 64); err == nil {
		return 10, n, ""
	}
	low := strings.ToLower(part)
	if w, ok := before[low]; ok {
		return w, 0, ""
	}
	if w, ok := after[low]; ok {
		return w, 0, ""
	}
	if part[0] >= '0' && part[0] <= '9' {
		return 11, 0, strings.Repeat("0", max(0, 64-len(part))) + part // a number too long for a machine's
	}
	return unknownWord, 0, low
}

func compareParts(a, b string) int {
	as, bs := versionPart.FindAllString(a, -1), versionPart.FindAllString(b, -1)
	for i := range max(len(as), len(bs)) {
		// A part that is missing is a 0, or the release where the other version has a word there.
		x, y := "", ""
		if i < len(as) {
			x = as[i]
		}
		if i < len(bs) {
			y = bs[i]
		}
		if c := comparePart(x, y); c != 0 {
			return c
		}
	}
	return 0
}

func comparePart(x, y string) int {
	weigh := func(p, other string) (int, uint64, string) {
		if p != "" {
			return rank(p)
		}
		if w, _, _ := rank(other); w >= 10 {
			return 10, 0, ""
		}
		return 0, 0, ""
	}
	xw, xn, xs := weigh(x, y)
	yw, yn, ys := weigh(y, x)
	switch {
	case xw != yw:
		return sign(xw < yw)
	case xn != yn:
		return sign(xn < yn)
	}
	return strings.Compare(xs, ys)
}

func sign(less bool) int {
	if less {
		return -1
	}
	return 1
}
