package learn

import (
	"fmt"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/logline"
	"freshkeel/internal/profile"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Confidence is how sure a conclusion is.
type Confidence string

const (
	Sure   Confidence = "sure"   // it was seen to hold
	Likely Confidence = "likely" // what speaks for it is plain
	Maybe  Confidence = "maybe"  // it is the best that there is
)

// Rule is a pattern that was made of a line.
type Rule struct {
	Pattern string
	From    string // the line
	Line    int    // which of the lines it was, from 0
	Version string // of a version's pattern: what it says
	Sure    Confidence
	Resting bool // nothing in its words says so: it is the last that the server said before it came to rest
}

// readyWords say that players can come in, and how much they weigh.
var readyWords = []struct {
	word  *regexp.Regexp
	worth int
}{
	{regexp.MustCompile(`(?i)\bready\b`), 6},
	{
		regexp.MustCompile(
			`(?i)\b(accepting|awaiting|waiting for) (players?|connections?|clients?|snails?|\w+ to (join|connect))`,
		),
		6,
	},
	{regexp.MustCompile(`(?i)\b(now )?(online|open for|is open|are open|now open|open after)\b`), 5},
	{
		regexp.MustCompile(
			`(?i)\b(startup|start-up|loading|initiali[sz]ation|boot|setup) (is )?(complete|completed|done|finished)\b`,
		),
		6,
	},
	{regexp.MustCompile(`(?i)\bdone\b`), 4},
	{regexp.MustCompile(`(?i)\b(listening|listens|serving)\b`), 4},
	{
		regexp.MustCompile(
			`(?i)\b(server|game|world|host|service)\b.*\b(started|running|up|opened|initiali[sz]ed|loaded)\b`,
		),
		4,
	},
	{regexp.MustCompile(`(?i)\b(started|opened|opens|running|up and running)\b`), 3},
	{regexp.MustCompile(`(?i)\b(bound|bind(s|ing)?)\b.{0,12}\b(socket|port|to|on)\b`), 3},
	{regexp.MustCompile(`(?i)\b(initiali[sz]ed|loaded|completed?|finished)\b`), 2},
}

// unready speak against a line.
var unready = regexp.MustCompile(
	`(?i)\b(errors?|fail(ed|ure|s)?|warn(ing)?s?|not|no|cannot|can't|unable|loading|starting|` +
		`initiali[sz]ing|connecting|preparing|disabled|deprecated|missing|stopped|stopping|closing|plugins?|mods?|add-?ons?|` +
		`module|config(uration)?|settings|library|thread|rcon|passwords?|tokens?|secrets?|admin|metrics|query|web|http|` +
		`saved?|saving|dump(ed|ing)?|shut(ting)?|exit(ed|ing)?|end(ed|ing)?|terminat\w+|signal|unused|deviates?)\b`,
)

// minReady is how much a line must weigh to be taken for the one that says that it is ready.
const minReady = 5

// Start is what a server said at one start.
type Start struct {
	Lines  []string
	Ports  []profile.Port // that it held then
	AtRest bool           // Lines are all until it came to rest: the last of them speaks for itself, whatever it says
	Not    []string       // patterns that were found to come too early: the line is none of them, nor one before
	Before []string       // what it said at the start before, where that is known: a rule has to hold there too
}

// held tells whether a pattern holds at the start before, as far as that is known.
func (s Start) held(pattern string) bool {
	return len(s.Before) == 0 || lastOf(s.Before, []string{pattern}) >= 0
}

// Ready finds the line by which a server says that it is ready.
func Ready(s Start) *Rule {
	lines := logline.Own(s.Lines)
	after := lastOf(lines, s.Not)
	var best *Rule
	most, last := 0, -1
	for i, raw := range lines {
		r, score := readyRule(lines, i, words.Printable(raw), s.Ports)
		if r == nil || i <= after || !s.held(r.Pattern) {
			continue
		}
		if score.fit {
			last = i
		}
		worth := score.worth
		if worth > 0 {
			worth += 3 * (i + 1) / len(lines)
		}
		if score.worth > 0 && worth >= most && worth >= minReady {
			most, best = worth, r
		}
	}
	if best == nil && s.AtRest && last >= 0 {
		best, _ = readyRule(lines, last, words.Printable(lines[last]), s.Ports)
		best.Resting = true
	}
	if best != nil {
		if best.Sure = Likely; most < 8 {
			best.Sure = Maybe
		}
	}
	return best
}

// lastOf is the last of some lines that one of the patterns matches; -1 for none.
func lastOf(lines []string, patterns []string) int {
	for i := len(lines) - 1; i >= 0; i-- {
		for _, p := range patterns {
			if re, err := regexp.Compile(p); err == nil && new(logline.Reader).Read(lines[i]).Find(re) != nil {
				return i
			}
		}
	}
	return -1
}

// readiness is how much speaks for a line.
type readiness struct {
	worth int  // its words; 0: none of them
	fit   bool // it could be told from others, and nothing in it speaks against it
}

// readyRule makes a rule of one line; nil for one that can't be told from another.
func readyRule(lines []string, i int, line string, ports []profile.Port) (*Rule, readiness) {
	bare := logline.Bare(line)
	if len(bare) > 200 || !hasWord(bare) {
		return nil, readiness{}
	}
	pattern := `^` + PatternOf(bare)
	if said := saidBefore(pattern, lines[:i]); said != "" { // its numbers may tell it from that line
		if closer := `^` + withPorts(bare, ports); closer != pattern {
			pattern = closer
		}
	}
	re, err := regexp.Compile(pattern)
	if err != nil || !re.MatchString(bare) || loosely(pattern) {
		return nil, readiness{}
	}
	var r readiness
	for _, w := range readyWords {
		if w.word.MatchString(bare) {
			r.worth = max(r.worth, w.worth)
		}
	}
	r.fit = !unready.MatchString(bare)
	if r.worth > 0 {
		if !r.fit {
			r.worth -= 4
		}
		if len(portsOf(bare, ports)) > 0 {
			r.worth += 2
		}
		if saidBefore(pattern, lines[:i]) != "" { // it would be taken for an earlier line
			r.worth -= 3
		}
	}
	r.fit = r.fit && saidBefore(pattern, lines[:i]) == ""
	return &Rule{Pattern: pattern, From: line, Line: i}, r
}

// saidBefore is an earlier line that a pattern matches; "" for none.
func saidBefore(pattern string, before []string) string {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return ""
	}
	for _, other := range before {
		if re.MatchString(logline.Bare(words.Printable(other))) {
			return other
		}
	}
	return ""
}

// portsOf are those of some ports that a line names.
func portsOf(line string, ports []profile.Port) (out []string) {
	for _, p := range ports {
		if n := fmt.Sprint(p.Number); regexp.MustCompile(`\b`+n+`\b`).MatchString(line) && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return out
}

// withPorts is PatternOf with the ports in it as they are: they tell a line from one of the same words.
func withPorts(line string, ports []profile.Port) string {
	for _, n := range portsOf(line, ports) {
		if at := strings.Index(line, n); at >= 0 {
			return PatternOf(line[:at]) + n + PatternOf(line[at+len(n):])
		}
	}
	return PatternOf(line)
}

// loosely tells whether a pattern has too few letters of its own to tell one line from another.
func loosely(pattern string) bool {
	plain := regexp.MustCompile(`\\[a-zA-Z]|\[[^\]]*\]`).ReplaceAllString(pattern, "")
	letters := 0
	for _, r := range plain {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 127 {
			letters++
		}
	}
	return letters < 4
}

func hasWord(s string) bool { return regexp.MustCompile(`[A-Za-z]{3}`).MatchString(s) }

var (
	// versionIn finds numbers that may be a version.
	versionIn = regexp.MustCompile(
		`(?i)(^|[^\w.])(v|r|b|build[ -]?)?(\d+(?:\.\d+)+(?:[+_-][\w.]*\w|[a-z]\d*)?(?:\.\d\w*)*|20\d{6}(?:\.\d+)?)`,
	)
	// ofOthers are words before a number that say whose it is: not the server's.
	ofOthers = regexp.MustCompile(
		`(?i)\b(protocol|schema|format|librar(y|ies)|\blib\w*|openssl|zlib|sqlite|mysql|postgres\w*|` +
			`java\b|jvm|jdk|jre|runtime|openjdk|glibc|musl|compiler|compiled|gcc|clang|kernel|linux|windows|\bos\b|debian|ubuntu|` +
			`driver|database|\bdb\b|\bapi\b|\blua\w*|python|perl|node\b|boost|curl|\bsdl\b|opengl|vulkan|engine|plug-?in|\bmods?\b|` +
			`module|add-?on|client|network|net ?code|save|world|map|level|shader|script|model|unicode|tls|ssl|memory|\bcpu\b|ip\b|` +
			`address|listen\w*|bind\w*|bound|port|http\w*|file|updater|launcher|loader|downloader|tool|schema|date|time|took|in|after|` +
			`ping|seconds?|load|usage|locale|gravity|scale|ratio|rate|speed|factor|copyright|\(c\))\W{0,12}(version\W{0,3})?(is\s+)?[(\[]?$`,
	)
	// itself are words before a number that say that it is the server's own.
	itself = regexp.MustCompile(
		`(?i)\b(version|ver\.?|server|build|release|revision|dedicated|game)\W{0,12}(is\s+)?(no\.?\s+)?[(\[]?v?$`,
	)
)

// Version finds the line by which a server says its version: the one that is known, where it
// is; otherwise the first that reads like one.
func Version(lines []string, known string, names ...string) *Rule {
	var best *Rule
	most := 0
	lines = logline.Own(lines)
	for i, raw := range lines {
		line := words.Printable(raw)
		bare := logline.Bare(line)
		if len(bare) > 300 {
			continue
		}
		for _, m := range versionIn.FindAllStringSubmatchIndex(bare, -1) {
			at, end := m[6], m[7]
			v := bare[at:end]
			// Four numbers behind the server's own name are a version, though they read like an address.
			if isAddress(bare, at, end) && !(calls(bare[:at], names) && !strings.HasPrefix(bare[end:], ":")) || isDate(v) && known == "" {
				continue
			}
			score := 0
			switch lead := bare[:m[2]] + bare[m[2]:m[3]]; {
			case ofOthers.MatchString(lead):
				score = -6
			case itself.MatchString(lead + "v"), itself.MatchString(lead):
				score = 5
			case strings.TrimSpace(lead) == "", i > 10:
				score = 1
			default:
				score = 3 // a name and a number, near the start
			}
			switch {
			case known == "":
			case version.Alike(v, known) == version.Same:
				score += 8
			case version.Alike(v, known) == version.Doubtful && strings.Count(v, ".") > 0:
				score += 1
			default:
				continue
			}
			score += max(0, 2-i/5) // early lines say who the server is
			if score > 0 && (named(bare[:at], names) || calls(bare[:at], names)) {
				score += 4
			}
			pattern := VersionPattern(bare, v, at)
			re, err := regexp.Compile(pattern)
			if err != nil || score < 3 || score <= most || !firstMatchIs(re, lines, i, v) ||
				loosely(strings.ReplaceAll(strings.ReplaceAll(pattern, number, ""), `(\S+)`, "")) {
				continue
			}
			most, best = score, &Rule{Pattern: pattern, From: line, Line: i, Version: v, Sure: Maybe}
			// A number by itself may be a protocol's: it has to stand by the server's own name.
			if own := named(bare[:at], names) || calls(bare[:at], names); score >= 6 && (own || serverWord.MatchString(bare[:at])) {
				best.Sure = Likely
			}
			if known != "" && version.Alike(v, known) == version.Same {
				best.Sure = Sure
			}
		}
	}
	return best
}

// serverWord are words before a version that say that it is a server's.
var serverWord = regexp.MustCompile(`(?i)\b(server|dedicated|build|release|game)\b`)

// named tells whether a text has the server's own name in it, as its files have it.
func named(text string, names []string) bool {
	text = letters(text)
	for _, n := range names {
		n = strings.TrimSuffix(strings.TrimSuffix(letters(strings.TrimSuffix(n, path.Ext(n))), "server"), "d")
		if len(n) >= 3 && strings.Contains(text, n) {
			return true
		}
	}
	return false
}

// letters are those of a text, in lower case.
func letters(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' {
			return r
		}
		return -1
	}, strings.ToLower(s))
}

// calls tells whether the last word of a text is the server's name, or the end of its program's.
func calls(text string, names []string) bool {
	all := strings.Fields(text)
	if len(all) == 0 {
		return false
	}
	last := letters(all[len(all)-1])
	return len(last) >= 3 && !generic.MatchString(last) && slices.ContainsFunc(names, func(n string) bool {
		return strings.HasSuffix(letters(strings.TrimSuffix(n, path.Ext(n))), last)
	})
}

// generic are ends of programs' names that name no server.
var generic = regexp.MustCompile(`^(server|run|start|main|app|bin|exe|launch|launcher|dedicated|host|version)$`)

// firstMatchIs tells whether the first line that a pattern matches is this one, with this version.
func firstMatchIs(re *regexp.Regexp, lines []string, i int, v string) bool {
	for j, l := range lines[:i+1] {
		if m := new(logline.Reader).Read(l).Find(re); m != nil {
			return j == i && m[1] == v
		}
	}
	return false
}

// isAddress tells whether what stands there is an address of the network.
func isAddress(line string, at, end int) bool {
	if _, err := netip.ParseAddr(line[at:end]); err == nil {
		return true
	}
	return end < len(line) && line[end] == ':' && end+1 < len(line) && line[end+1] >= '0' && line[end+1] <= '9' &&
		strings.Count(line[at:end], ".") == 3
}

var date = regexp.MustCompile(`^(19|20)\d\d[.-]?(0?[1-9]|1[0-2])[.-]?(0?[1-9]|[12]\d|3[01])$`)

func isDate(v string) bool { return date.MatchString(v) }
