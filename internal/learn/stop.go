package learn

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/logline"
)

// Word is a line that may end a server, and what speaks for it.
type Word struct {
	Line  string
	From  string // "": it is a word of the trade
	Plain bool   // somebody was seen to end the server with it, or its own text says so
}

// Trade are the lines that end most servers, the most usual first.
var Trade = []string{"stop", "quit", "exit", "shutdown", "close"}

const anyWord = `/?(?:stop|quit|exit|shut ?down|close|end|save-?and-?(?:quit|exit|stop)|halt|terminate)`

// wordRules find the stop line in a text; the first group is the line.
var wordRules = []struct {
	what  *regexp.Regexp
	plain bool
	log   bool // it holds for a console and a log alone: in a script such a line is the script's own
}{
	// A script hands it to the console.
	{regexp.MustCompile(`(?i)\bstuff\s+["'$]*(` + anyWord + `)(?:\\[nr]|\^M|\\015|\$\(printf|["'])`), true, false},
	{regexp.MustCompile(`(?i)\bsend-keys\b.*?["']?\b(` + anyWord + `)["']?\s+(?:Enter|C-m|ENTER)`), true, false},
	{regexp.MustCompile(`(?i)\b(?:echo|printf)\s+(?:-\w+\s+)?["']?(` + anyWord + `)(?:\\n)?["']?\s*(?:>|\|)`), true, false},
	// A script that is the server reads it.
	{regexp.MustCompile(`(?i)(?:^|\bin|;;)\s*\(?["']?(` + anyWord + `)["']?(?:\s*\|[^)]*)?\)(?:\s|$)`), true, false},
	{regexp.MustCompile(`(?i)\]?\s*==?\s*["']?(` + anyWord + `)["']?\s*(?:\]|:|\))`), true, false},
	// A person typed it at the console, whose log shows that.
	{regexp.MustCompile(`(?i)(?:^|[>\]:$#] ?|console: ?|command: ?)(` + anyWord + `)\s*$`), true, true},
	// A text or a help says what it is for.
	{
		regexp.MustCompile(
			`(?i)\b(?:type|typing|enter|entering|use|send|command|with|press)\b[^\n]{0,16}?["'\x60«“‘/](` + anyWord + `)["'\x60»”’]`,
		),
		true,
		false,
	},
	{
		regexp.MustCompile(
			`(?i)^\s*[-*•]?\s*["'\x60]?(` + anyWord + `)["'\x60]?(?:\s*\[[^\]]*\]|\s*<[^>]*>)*\s*(?:[-–—:=]+|\s{2,}|\t)\s*.*\b(?:stop|shut|quit|exit|clos|end|save|terminat)`,
		),
		true,
		false,
	},
	{regexp.MustCompile(`(?i)\b(?:type|enter|use)\s+(` + anyWord + `)\s+(?:to|and|for)\b`), true, false},
}

// anyStuffed finds whatever a script puts on a console: in one that is there to stop the server
// that is its stop line.
var (
	stopScript = regexp.MustCompile(`(?i)(^|[-_./ ])(stop|shutdown|quit|close|down|halt)([-_. ]|$)`)
	anyStuffed = regexp.MustCompile(
		`(?i)\b(?:stuff\s+["'$]*([^"'\\^]+?)(?:\\[nr]|\^M|\\015|\$\(printf|["'])|send-keys\s+(?:-t\s+\S+\s+)?["']?([^"']+?)["']?\s+(?:Enter|C-m|ENTER))`,
	)
)

// WordsIn finds the lines that a text gives away, each with the line of the text; name is the
// text's.
func WordsIn(name, text string) (out []Word) {
	said := IsLog(name) || strings.Contains(name, "console")
	for i, line := range strings.Split(text, "\n") {
		if m := anyStuffed.FindStringSubmatch(line); m != nil && stopScript.MatchString(name) {
			out = append(out, Word{Line: strings.TrimSpace(m[1] + m[2]), Plain: true,
				From: fmt.Sprintf("%s:%d: %s", name, i+1, Clip(strings.TrimSpace(line)))})
			continue
		}
		for _, r := range wordRules {
			if r.log && !said {
				continue
			}
			m := r.what.FindStringSubmatch(line)
			if m == nil {
				m = r.what.FindStringSubmatch(logline.Bare(line)) // behind a time, a level
			}
			if m != nil {
				out = append(out, Word{Line: strings.TrimSpace(m[1]), Plain: r.plain,
					From: fmt.Sprintf("%s:%d: %s", name, i+1, Clip(strings.TrimSpace(line)))})
				break
			}
		}
	}
	return out
}

// Ranked puts lines in the order in which they are worth trying: those that more speaks for
// first, and then the others of the trade.
func Ranked(found []Word) (out []Word) {
	count := map[string]int{}
	for _, w := range found {
		count[w.Line]++
		if !slices.ContainsFunc(out, func(o Word) bool { return o.Line == w.Line }) {
			out = append(out, w)
		}
	}
	slices.SortStableFunc(out, func(a, b Word) int { return count[b.Line] - count[a.Line] })
	for _, t := range Trade {
		if !slices.ContainsFunc(out, func(o Word) bool { return strings.TrimPrefix(o.Line, "/") == t }) {
			out = append(out, Word{Line: t})
		}
	}
	return out[:min(len(out), len(Trade)+1)]
}
