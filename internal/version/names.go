package version

import (
	"path"
	"regexp"
	"strings"
)

var versionInName = regexp.MustCompile(
	`(?i)(?:^|[^0-9a-z.])v?(\d+(?:\.\d+)+(?:-(?:alpha|beta|rc|pre|preview|snapshot|build)[.\d]*)?|\d{4}-\d{2}-\d{2}|(?:build|b|r)\d{2,})`,
)

// In finds a version in a file or folder name: the last run of numbers
// with dots between, date or build number. "" when there is none.
func In(name string) string {
	all := versionInName.FindAllStringSubmatch(stem(name), -1)
	if len(all) == 0 {
		return ""
	}
	return all[len(all)-1][1]
}

var oneNumber = regexp.MustCompile(`(?i)[-_ ]v?(\d{1,9})(?:[-_ ]|$)`)

// Number is In for makers who count their builds: the last number that stands by itself in a name,
// which says no number of bits. "" when there is none, or In finds a version.
func Number(name string) string {
	if In(name) != "" {
		return ""
	}
	all := oneNumber.FindAllStringSubmatch(stem(name), -1)
	for i := len(all) - 1; i >= 0; i-- {
		if n := all[i][1]; n != "32" && n != "64" && n != "86" {
			return n
		}
	}
	return ""
}

// stem is a name without its folders, and without the endings that say how it is packed.
func stem(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
	for cut := true; cut; {
		cut = false
		for _, ext := range []string{".tar", ".gz", ".xz", ".zst", ".bz2", ".tgz", ".zip", ".jar", ".7z", ".rar",
			".exe"} {
			if rest, ok := strings.CutSuffix(name, ext); ok {
				name, cut = rest, true
			}
		}
	}
	return name
}

// InText finds the version in a short file that is there to tell it.
func InText(text string) string {
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if v := In(line); v != "" {
			return v
		}
		if _, value, ok := strings.Cut(line, "="); ok {
			line = strings.Trim(strings.TrimSpace(value), `"'`)
		}
		if Valid(line) && strings.ContainsAny(line, "0123456789") {
			return line
		}
	}
	return ""
}

// Valid tells whether a text can be a version: 1 to 200 characters without a space or
// a control character.
func Valid(v string) bool {
	return v != "" && len(v) <= 200 && !strings.ContainsFunc(v, func(r rune) bool { return r <= ' ' || r == 0x7f })
}

// OrUnknown is a version as it is told: "" is one that is not known.
func OrUnknown(v string) string {
	if v == "" {
		return "an unknown version"
	}
	return v
}
