package learn

import (
	"regexp"
	"strings"
)

// What may be otherwise in the same line next time, and how a pattern says so. The order
// counts: the first that fits at a place is taken.
var loose = []struct {
	what *regexp.Regexp
	by   string
}{
	{
		regexp.MustCompile(`[A-Za-z]+://[^\s"'<>]+`),
		`\S+`,
	}, // an address
	{
		regexp.MustCompile(`(?i)\b[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}\b`),
		`\S+`,
	}, // an identity
	{
		regexp.MustCompile(`\b\d{4}[-/.]\d\d[-/.]\d\d([T ]\d\d:\d\d(:\d\d)?([.,]\d+)?(Z|[+-]\d\d:?\d\d)?)?`),
		`.+`,
	}, // a date
	{regexp.MustCompile(`\b\d{1,2}[-/.]\d{1,2}[-/.]\d{4}\b`), `.+`},
	{regexp.MustCompile(`(?i)\b(mon|tues?|wed(nes)?|thu(rs)?|fri|sat(ur)?|sun)(day)?\b,?`), `\S+`},
	{
		regexp.MustCompile(
			`(?i)\b(jan(uary)?|feb(ruary)?|mar(ch)?|apr(il)?|may|june?|july?|aug(ust)?|sept?(ember)?|oct(ober)?|nov(ember)?|dec(ember)?)\.? \d{1,2}(st|nd|rd|th)?\b(,? \d{4}\b)?`,
		),
		`.+`,
	},
	{regexp.MustCompile(`(?i)\b\d{1,2}(st|nd|rd|th)\b`), `\S+`},                      // of a date, or of a row
	{regexp.MustCompile(`\b\d{1,2}:\d\d(:\d\d)?([.,]\d+)?( ?[AaPp][Mm])?\b`), `\S+`}, // a time
	{regexp.MustCompile(`\[[0-9a-fA-F:]*:[0-9a-fA-F:]*\](:\d+)?`), `\S+`},            // addresses of the network
	{regexp.MustCompile(`(^|\s)[0-9a-fA-F]{0,4}(:[0-9a-fA-F]{0,4}){2,7}\b`), `\s*\S+`},
	{regexp.MustCompile(`\b\d{1,3}(\.\d{1,3}){3}(:\d+)?\b`), `\S+`},
	{regexp.MustCompile(`\b0x[0-9a-fA-F]+\b`), `\S+`},
	{regexp.MustCompile(`\b[0-9a-f]{12,}\b`), `\S+`}, // a digest
	{regexp.MustCompile(`(?:[A-Za-z]:)?[\\/](?:[\w.@+-]+[\\/])+[\w.@+-]*`), `\S+`},
	{regexp.MustCompile(`\d+(?:[.,]\d+)*`), `[\d.,]+`},
}

// PatternOf makes a pattern of a line: what may be other next time is loose in it. literal is
// left as it stands, "" for nothing.
func PatternOf(line string) string {
	var b strings.Builder
	for line != "" {
		at, end, by := len(line), len(line), ""
		for _, l := range loose {
			if m := l.what.FindStringIndex(line); m != nil && m[0] < at && m[1] > m[0] {
				at, end, by = m[0], m[1], l.by
			}
		}
		b.WriteString(regexp.QuoteMeta(line[:at]))
		b.WriteString(by)
		line = line[end:]
	}
	return b.String()
}

// number is what a version's group holds: digits and words that signs join, without the full
// stop or bracket of a sentence behind it.
const number = `(\d+(?:[.+_-]\w+)*)`

// VersionPattern makes a pattern of a line that says a version, less its front; at is where in that
// it stands.
func VersionPattern(bare, version string, at int) string {
	group := `(\S+)`
	if end := at + len(version); end < len(bare) && bare[end] != ' ' && bare[end] != '\t' &&
		regexp.MustCompile(`^`+number+`$`).MatchString(version) { // a full stop or a bracket is no part of it
		group = number
	}
	lead := bare[:at]
	v := ""
	if n := len(lead); n > 0 && (lead[n-1] == 'v' || lead[n-1] == 'V') && (n == 1 || !isLetter(lead[n-2])) {
		lead, v = lead[:n-1], lead[n-1:]+"?"
	}
	return `^` + PatternOf(lead) + v + group
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }
