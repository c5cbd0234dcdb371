package feed

import (
	"path"
	"regexp"
	"strconv"
	"strings"
)

// Compare orders two versions where no feed does: numbers by parts, and a
// pre-release ("3.5.0-rc1") before its release. It returns -1, 0 or 1.
func Compare(a, b string) int {
	aMain, aPre, _ := strings.Cut(a, "-")
	bMain, bPre, _ := strings.Cut(b, "-")
	if c := compareParts(aMain, bMain); c != 0 {
		return c
	}
	switch {
	case aPre == bPre:
		return 0
	case aPre == "":
		return 1
	case bPre == "":
		return -1
	}
	return compareParts(aPre, bPre)
}

var versionPart = regexp.MustCompile(`\d+|[A-Za-z]+`)

func compareParts(a, b string) int {
	as, bs := versionPart.FindAllString(a, -1), versionPart.FindAllString(b, -1)
	for i := range max(len(as), len(bs)) {
		x, y := "0", "0"
		if i < len(as) {
			x = as[i]
		}
		if i < len(bs) {
			y = bs[i]
		}
		n, errN := strconv.Atoi(x)
		m, errM := strconv.Atoi(y)
		switch {
		case errN == nil && errM == nil && n != m:
			if n < m {
				return -1
			}
			return 1
		case errN == nil && errM != nil:
			return 1
		case errN != nil && errM == nil:
			return -1
		case errN != nil && x != y:
			return strings.Compare(x, y)
		}
	}
	return 0
}

var versionInName = regexp.MustCompile(`(?i)(?:^|[^0-9a-z.])v?(\d+(?:\.\d+)+(?:-(?:alpha|beta|rc|pre)[.\d]*)?)`)

// VersionIn finds a version in a file or folder name: the last run of numbers
// with dots between. "" when there is none.
func VersionIn(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
	for _, ext := range []string{".tar.gz", ".tgz", ".zip", ".jar", ".tar"} {
		name = strings.TrimSuffix(name, ext)
	}
	all := versionInName.FindAllStringSubmatch(name, -1)
	if len(all) == 0 {
		return ""
	}
	return all[len(all)-1][1]
}
