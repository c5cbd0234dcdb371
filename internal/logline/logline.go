// Package logline reads a line of a server's console or log: what stands in front of its own words
// (a time, a level, a thread, a class), and whether somebody speaks in it. It is the one place that
// knows either, for all who hold rules against lines or make rules of them.
//
// A server's lines are its players' words, too. A line with a speaker decides nothing and teaches
// nothing: whoever reads lines asks for Spoken first.
package logline

import (
	"regexp"
	"strings"
	"sync"

	"freshkeel/internal/words"
)

// Line is a line as it was read.
type Line struct {
	Whole   string // harmless for a terminal, without colours
	Bare    string // without its front; Whole where nothing stands before it
	Speaker string // whose words it holds; "": the server's own, as far as is known
}

// Spoken tells whether somebody speaks in the line, who is not the server.
func (l Line) Spoken() bool { return l.Speaker != "" }

// Find holds a pattern against the line, less its front and as a whole, and gives its groups; nil where
// neither matches.
func (l Line) Find(p interface {
	FindStringSubmatch(string) []string
}) []string {
	if m := p.FindStringSubmatch(l.Bare); m != nil {
		return m
	}
	return p.FindStringSubmatch(l.Whole)
}

// Answer is Find for the answer to a line that was sent: it begins where the line's own words do, or
// behind words that no chat could be.
func (l Line) Answer(p *regexp.Regexp) []string {
	if l.Spoken() {
		return nil
	}
	for _, text := range []string{l.Bare, l.Whole} {
		at := p.FindStringSubmatchIndex(text)
		if at == nil || strings.ContainsAny(text[:at[0]], "<>:»\"'|") {
			continue
		}
		return p.FindStringSubmatch(text)
	}
	return nil
}

// lazily is a pattern that is made once it is asked for: most commands read no line.
func lazily(expr string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr) })
}

// level are words by which lines say how much they matter.
const level = `(?:trace|debug|info|notice|warn(?:ing)?|error|fatal|severe|fine|verbose|log)`

// clock is a time of day, and day a date.
const (
	clock = `\d{1,2}:\d\d(?::\d\d)?(?:[.,]\d+)?(?: ?[AaPp][Mm])?`
	day   = `\d{4}[-/.]\d\d[-/.]\d\d(?:[T ]\d\d:\d\d(?::\d\d)?(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?)?`
)

// front is what may stand before a line's own words, none, one or several: a date, a time, a
// level, a thread, a class, a number of a process.
var front = lazily(`^(?:` + strings.Join([]string{
	// behind a time also words without brackets, up to the level
	`(?:` + day + `|` + clock + `)[,:]?\s+(?:[\w./$-]+\s+){0,2}(?i:` + level + `)\b[\]:]?:?\s*(?:[-|]\s+)?`,
	`\[[^\]]*\]:?\s*`, `\([^)]*\d[^)]*\):?\s+`,
	day + `[,:]?\s+`,
	`\d{1,2}[./]\d{1,2}[./]\d{2,4},?\s+`,
	clock + `[,:]?\s+`,
	`(?i:(?:mon|tues?|wed(?:nes)?|thu(?:rs)?|fri|sat(?:ur)?|sun)(?:day)?),?\s+`,
	`(?i:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)\w*\.? +\d{1,2}(?i:st|nd|rd|th)?,?\s+(?:\d{4},?\s+)?`,
	`\d{1,2}(?i:st|nd|rd|th)? (?i:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)\w*\.?(?: \d{4})?,?\s+`,
	`(?:\d{4}\s+)(?:-\s+)`,
	`(?:TRACE|DEBUG|INFO|NOTICE|WARN(?:ING)?|ERROR|Info|Notice|info|notice|LOG)\b[\]:]?:?\s*`,
	`[A-Za-z_][\w.-]*\[\d+\]:\s*`, `[|>-]+\s+`,
}, "|") + `)+`)

// stamp is a time in a form of a server's own: one word of digits, and of signs between them, that has a time of day
// or begins with a date.
var stamp = lazily(`^(?:(?:19|20)\d\d[./_-]?(?:0\d|1[0-2])[./_-]?[0-3]\d(?:[.:_T-]\d[\d:.,]*)?|` +
	`\d\d[./_-]?(?:0\d|1[0-2])[./_-]?[0-3]\d[:_T-]\d\d:?\d\d[\d:.,]*)[,:]?\s+`)

// Bare is a line without what stands before its own words.
func Bare(line string) string {
	bare := strings.TrimLeft(line, " \t")
	for {
		less := stamp().ReplaceAllString(front().ReplaceAllString(bare, ""), "")
		if less == bare {
			break
		}
		bare = less
	}
	if bare == "" {
		return line
	}
	return bare
}

// Reader reads the lines of one console or log in their order, and remembers who was seen to join. Its
// zero value has seen nobody.
type Reader struct {
	names []string        // that joined, the last ones
	known map[string]bool // the same
	lead  map[string]bool // what stood before the name where one of them spoke
}

// mostNames bounds how many names are remembered, and mostName how long one is, in bytes.
const (
	mostNames = 1000
	mostName  = 40
)

// Read reads the next line.
func (r *Reader) Read(text string) Line {
	l := Line{Whole: words.Printable(text)}
	l.Bare = Bare(l.Whole)
	if l.Speaker = r.speaker(l); l.Speaker == "" {
		if name := joins(l.Bare); name != "" {
			r.meet(name)
		}
	}
	return l
}

// Own are lines as they are, but for those in which somebody speaks, which are empty: so each keeps
// its number. Names that join anywhere in them count everywhere: a log may begin in the middle.
func Own(lines []string) []string {
	var r Reader
	for _, l := range lines {
		r.Read(l)
	}
	out := make([]string, len(lines))
	for i, l := range lines {
		if !r.Read(l).Spoken() {
			out[i] = l
		}
	}
	return out
}

func (r *Reader) meet(name string) {
	if r.known == nil {
		r.known, r.lead = map[string]bool{}, map[string]bool{}
	}
	if r.known[name] {
		return
	}
	if len(r.names) >= mostNames {
		delete(r.known, r.names[0])
		r.names = r.names[1:]
	}
	r.names, r.known[name] = append(r.names, name), true
}

const (
	nameLike = `([^\s<>:"'()\[\]|](?:[^<>:"()\[\]|]{0,38}[^\s<>:"'()\[\]|])?)`
	behind   = `(?:\s?[(\[][^\])]*[\])])*` // an address or a number behind a name
	came     = `(?:has |have |just |is )?(?:joined|connected|entered|logged (?:in|on)|signed (?:in|on)|logs in|came (?:in|on|online)|arrived|online)`
)

// joining are the lines by which servers say that somebody came; the first group is the name.
var joining = []func() *regexp.Regexp{
	lazily(`(?i)^(?:new )?(?:player|client|user|member|snail|racer|guest|login|join(?:ed)?|connect(?:ed|ion)?)\b:?(?: from| of| by)?:? ["']?` + nameLike + `["']?` + behind + `\s+` + came + `\b`),
	lazily(`(?i)^(?:player (?:joined|connected|login)|joined|login|logged in|join|welcome),?:? ["']?` + nameLike + `["']?` + behind + `[.!]?$`),
	lazily(`(?i)^(?:uuid|id) of (?:player|user) ["']?` + nameLike + `["']? is\b`),
	lazily(`(?i)^["']?` + nameLike + `["']?` + behind + `\s+` + came + `\b`),
}

// reserved are words that stand where a name might, and are none: levels, threads, components.
var reserved = lazily(`(?i)^(?:` + level + `|server|console|system|main|game|world|host|admin|database|db|network|net|` +
	`client|clients|player|players|master|thread|worker|daemon|service|module|plugin|mod|map|level|exception|panic|info|stdout|stderr|` +
	`user|session|connection|socket|listener|http|rcon|query|web|auth|version|address|port|it|he|she|they|who|nobody|everybody|somebody)$`)

// joins is the name of whoever came in a line; "" for nobody.
func joins(bare string) string {
	if !hasAny(strings.ToLower(bare), "join", "connect", "enter", "log", "sign", "came", "arriv", "online", " of player", " of user", "welcome") {
		return ""
	}
	for _, j := range joining {
		if m := j().FindStringSubmatch(bare); m != nil && isName(m[1]) {
			return m[1]
		}
	}
	return ""
}

// isName tells whether a word may be a name: a level, a thread, a class, a component is none.
func isName(s string) bool {
	return len(s) <= mostName && !reserved().MatchString(s) && !class().MatchString(s) && strings.Count(s, " ") < 3
}

// class is a name of a program's part: with dots between its words.
var class = lazily(`^[A-Za-z_$][\w$]*(?:\.[A-Za-z_$][\w$]*)+$`)

var (
	inAngles = lazily(`^<([^<>]{1,40})>(?:\s|:|$)`)
	channel  = lazily(`(?i)^[\[(<]?(?:chat|global|local|team|all|say|public|party|whisper|pm|dm|message|msg)(?: from| message)?[\])>]?:?\s+(?:from )?(.*)$`)
	named    = lazily(`^["']?` + nameLike + `["']?` + behind + `\s*(?:[:>»]|->|says\b|said\b|whispers\b|shouts\b|tells\b)`)
	says     = lazily(`^["'\])]*` + behind + `["'\])]*\s*(?:[:>»|]|->|(?:says|said|whispers|shouts|tells|writes)\b)`)
)

// hasAny is a quick look before a pattern is tried: most lines hold none of the words.
func hasAny(text string, words ...string) bool {
	for _, w := range words {
		if strings.Contains(text, w) {
			return true
		}
	}
	return false
}

// speaker is whose words a line holds.
func (r *Reader) speaker(l Line) string {
	lower := strings.ToLower(l.Whole)
	chat := hasAny(lower, "chat", "global", "local", "team", "all", "say", "public", "party", "whisper", "pm", "dm", "message", "msg")
	if !chat && !strings.ContainsAny(l.Bare, "<:>»|") && !strings.HasPrefix(l.Whole, "<") && len(r.lead) == 0 &&
		!hasAny(lower, "->", "said", "shout", "tell", "write") {
		return ""
	}
	for _, text := range []string{l.Bare, l.Whole} {
		if m := inAngles().FindStringSubmatch(text); m != nil && (!reserved().MatchString(m[1]) || r.known[m[1]]) {
			return m[1]
		}
	}
	if !chat {
		return r.byName(l)
	}
	if m := channel().FindStringSubmatch(unfronted(l.Whole)); m != nil {
		if n := named().FindStringSubmatch(m[1]); n != nil {
			return n[1]
		}
		if n := inAngles().FindStringSubmatch(m[1]); n != nil {
			return n[1]
		}
	}
	return r.byName(l)
}

func (r *Reader) byName(l Line) string {
	if len(r.known) == 0 {
		return ""
	}
	for _, text := range []string{l.Bare, l.Whole} {
		if name := r.knownIn(text); name != "" {
			return name
		}
	}
	return ""
}

// unfronted is a line without times and bracketed threads that lead it, but with what a front might take
// for one: the name of a channel in brackets.
func unfronted(whole string) string {
	for {
		m := bracketed().FindString(whole)
		if m == "" || channel().MatchString(whole) {
			return whole
		}
		whole = whole[len(m):]
	}
}

var bracketed = lazily(`^(?:\[[^\]]*\]:?\s*|(?:` + day + `|` + clock + `)[,:]?\s+|(?i:` + level + `)\b[\]:]?:?\s*)`)

// knownIn is the name of somebody who joined, where one stands as a speaker does: at the beginning of
// the words, or behind a rank, with a sign or a word of saying behind it.
func (r *Reader) knownIn(text string) string {
	lead := ""
	for range 4 {
		for name := range candidates(text) {
			if r.known[name] && says().MatchString(text[len(quoteOf(text))+len(name):]) {
				if lead != "" {
					r.lead[lead] = true
				}
				return name
			}
		}
		m := rank().FindString(text)
		if m == "" {
			return ""
		}
		lead += m
		text = text[len(m):]
		if r.lead[lead] {
			if n := named().FindStringSubmatch(text); n != nil && !reserved().MatchString(n[1]) {
				return n[1]
			}
		}
	}
	return ""
}

// rank is what may stand before a speaker's name: one in brackets, a star, a word of the channel.
var rank = lazily(`^(?:[\[({<][^\])}>]{0,30}[\])}>]:?\s*|[*~@+%&#!-]+\s*|["']|[A-Za-z]{1,12}:?\s+)`)

func quoteOf(text string) string {
	if text != "" && (text[0] == '"' || text[0] == '\'') {
		return text[:1]
	}
	return ""
}

// candidates are the beginnings of a text that may be a name: up to each place where one could end.
func candidates(text string) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		text = text[len(quoteOf(text)):]
		for i := 1; i <= len(text) && i <= mostName; i++ {
			if i < len(text) && !strings.ContainsRune(" :>»|\"'()[]<-", rune(text[i])) && text[i] < 0x80 {
				continue
			}
			if !yield(text[:i]) {
				return
			}
		}
	}
}
