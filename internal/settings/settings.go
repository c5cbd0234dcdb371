// Package settings carries an operator's changes from one default of a settings file to
// another: pure text in, text out. A file is read as a list of values with the place of each;
// what is written is the new default's own text with some of these exchanged, so that its
// comments, its order and every byte that is no value stay.
package settings

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"freshkeel/internal/placed"
	"freshkeel/internal/secrets"

	"github.com/pelletier/go-toml/v2"
)

// Item is one value of a settings file.
type Item struct {
	Key   string // sections and names, dotted; of a repeated key or a list the same for each
	Value string // as it is written, without blanks around it
	Line  int    // counted from 1

	start, end int           // of the value in the text
	from, to   int           // of all that belongs to it: its lines, or in JSON and XML itself
	parent     string        // the key that it stands below
	list       bool          // one of a list, or of a key that may be repeated
	closed     bool          // an element of XML that has no place for a text: <a/>
	parts      []placed.Span // of a list that is one value: its elements, where their places are known
	facts      []fact        // of one of a list: what it may be known by
}

// fact is one plain value of an element.
type fact struct{ name, value string }

// section is a part of a text that has values below it: a table, an object, an element, a block.
type section struct {
	key, parent string
	from, to    int         // all of it
	first, last int         // its items: those of the Doc from first up to last
	body        placed.Span // in JSON and XML: itself, without the name before it
	many        bool        // one of several of its name, by its format
}

// Doc is a settings file that was read.
type Doc struct {
	Format string // lines, words, toml, json, yaml, xml, blocks or list
	Items  []Item

	sections []section   // in the order in which they begin; a nested one comes behind the one around it
	above    []int       // those that are open while it is read
	body     placed.Span // of JSON that is one list

	text  []byte
	plain string           // the text once more: what is cut out of it needs no memory of its own
	first map[string]int32 // key → where in Items it stands first
	next  []int32          // of an item: where its key stands next; 0: nowhere
	near  int              // where the next item is that is probably asked for: texts have their keys in one order
	rest  []Item           // lines that are neither a value nor a comment: nobody knows what they say
	mark  int              // bytes of a byte-order mark
	nl    string           // how its lines end
}

// Text is the file as it was read.
func (d *Doc) Text() []byte { return d.text }

// Wrong is a text that is in none of the formats, or does not parse as the one that it is in.
type Wrong struct {
	Line, Column int // counted from 1; 0: not known
	Why          string
}

func (w *Wrong) Error() string {
	if w.Line == 0 {
		return w.Why
	}
	return fmt.Sprintf("line %d, column %d: %s", w.Line, w.Column, w.Why)
}

// maxText bounds a settings file, in bytes: a larger one is data.
const maxText = 8 << 20

const byteOrderMark = "\xef\xbb\xbf"

// Read reads a settings file; name helps to tell its format where its content alone does not.
// The error is a *Wrong.
func Read(name string, text []byte) (*Doc, error) {
	if len(text) > maxText {
		return nil, &Wrong{Why: fmt.Sprintf("it is larger than %d MiB, which settings are not", maxText>>20)}
	}
	lower := strings.ToLower(name)
	for _, ending := range []string{".sh", ".bash", ".bat", ".cmd", ".ps1", ".py", ".lua", ".js"} {
		if bytes.HasPrefix(text, []byte("#!")) || strings.HasSuffix(lower, ending) {
			return nil, &Wrong{Why: "it is a script"}
		}
	}
	d := &Doc{text: text, nl: "\n"}
	body := text
	if bytes.HasPrefix(body, []byte(byteOrderMark)) {
		d.mark = len(byteOrderMark)
		body = body[d.mark:]
	}
	if i := bytes.IndexByte(body, 0); i >= 0 {
		return nil, d.wrong(d.mark+i, "a zero byte: it is no text, or one in UTF-16")
	}
	if bytes.Contains(body, []byte("\r\n")) {
		d.nl = "\r\n"
	}
	d.plain = string(text)
	return d, d.read(formatOf(name, d.plain[d.mark:]))
}

// ReadAs reads a text in a format: one that tells too little of its own is what its neighbours are.
func ReadAs(format string, text []byte) (*Doc, error) {
	d, err := readAs(format, text)
	if err == nil && bytes.Contains(text, []byte("\r\n")) {
		d.nl = "\r\n"
	}
	return d, err
}

// readAs reads a text whose format is known.
func readAs(format string, text []byte) (*Doc, error) {
	d := &Doc{text: text, nl: "\n"}
	if bytes.HasPrefix(text, []byte(byteOrderMark)) {
		d.mark = len(byteOrderMark)
	}
	return d, d.read(format)
}

func (d *Doc) read(format string) (err error) {
	d.Format = format
	if d.plain == "" {
		d.plain = string(d.text)
	}
	d.Items = make([]Item, 0, bytes.Count(d.text, []byte("\n"))/2+8) // most have a comment
	switch format {
	case "json":
		err = readJSON(d)
	case "xml":
		err = readXML(d)
	case "yaml":
		err = readYAML(d)
	case "toml":
		err = readTOML(d)
	case "blocks":
		err = readBlocks(d)
	case "words":
		err = readWords(d)
	case "list":
		err = readList(d)
	case "lines":
		err = readLines(d)
	default:
		err = &Wrong{Why: "it is in no format of settings that is known here"}
	}
	d.repeat()
	for i := range d.Items {
		secrets.KnowIn(d.Items[i].Key, d.Items[i].Value)
	}
	return err
}

// wrong is an error at a place of the text.
func (d *Doc) wrong(at int, why string) error {
	before := d.text[:min(max(at, 0), len(d.text))]
	return &Wrong{Line: 1 + bytes.Count(before, []byte("\n")), Column: at - bytes.LastIndexByte(before, '\n'), Why: why}
}

// add takes a value in; from and to are what belongs to it.
func (d *Doc) add(parent, name string, start, end, from, to int) *Item {
	d.Items = append(
		d.Items,
		Item{Key: joined(parent, name), Value: d.plain[start:end], start: start, end: end, from: from, to: to,
			parent: parent},
	)
	return &d.Items[len(d.Items)-1]
}

// joined is the key of a name below another key.
func joined(parent, name string) string {
	if parent == "" {
		return name
	}
	return parent + "." + name
}

// open begins a section, in the one that is open.
func (d *Doc) open(key string, from int) *section {
	s := section{key: key, from: from, first: len(d.Items)}
	if n := len(d.above); n > 0 {
		s.parent = d.sections[d.above[n-1]].key
	}
	d.above = append(d.above, len(d.sections))
	d.sections = append(d.sections, s)
	return &d.sections[len(d.sections)-1]
}

// shut ends the section that was opened last.
func (d *Doc) shut(to int) {
	n := len(d.above) - 1
	s := &d.sections[d.above[n]]
	s.to, s.last = max(to, s.from), len(d.Items)
	d.above = d.above[:n]
}

// unknown notes a line that is neither a value nor a comment.
func (d *Doc) unknown(a, b int) {
	d.rest = append(d.rest, Item{Value: string(d.text[a:b]), Line: 1 + bytes.Count(d.text[:a], []byte("\n"))})
}

// all calls each with the items of a key, in the order of the text. A nil Doc has none.
func (d *Doc) all(key string, each func(it *Item)) {
	if d == nil {
		return
	}
	if n, is := d.first[key]; is {
		for ; ; n = d.next[n] {
			each(&d.Items[n])
			if d.next[n] == 0 {
				return
			}
		}
	}
}

// item is the first item of a key; nil for none.
func (d *Doc) item(key string) *Item {
	if d == nil {
		return nil
	}
	if n := d.near; n < len(d.Items) && !d.Items[n].list && d.Items[n].Key == key {
		d.near++
		return &d.Items[n]
	}
	if n, is := d.first[key]; is {
		d.near = int(n) + 1
		return &d.Items[n]
	}
	return nil
}

// repeat marks keys that stand there more than once as lists, and counts lines.
func (d *Doc) repeat() {
	d.first, d.next = make(map[string]int32, len(d.Items)), make([]int32, len(d.Items))
	for i := len(d.Items) - 1; i >= 0; i-- {
		it := &d.Items[i]
		if n, is := d.first[it.Key]; is {
			d.next[i] = n
			it.list, d.Items[n].list = true, true
		}
		d.first[it.Key] = int32(i)
	}
	line, at := 1, 0
	for i := range d.Items {
		it := &d.Items[i]
		if it.start >= at { // items stand in the order of the text
			line += strings.Count(d.plain[at:it.start], "\n")
			at = it.start
		}
		it.Line = line
	}
}

// formatOf tells the format of a text by what is in it, and by its name where that leaves it open.
func formatOf(name, body string) string {
	lower := strings.ToLower(name)
	ending := lower[strings.LastIndexByte(lower, '.')+1:]
	first := firstWord(body)
	switch {
	case strings.HasPrefix(first, "<"):
		return "xml"
	case strings.HasPrefix(first, "{"), ending == "json" || ending == "json5" || ending == "jsonc":
		return "json"
	case strings.HasPrefix(first, "[") && ending != "ini" && looksLikeJSON(body):
		return "json"
	case ending == "yaml" || ending == "yml":
		return "yaml"
	case ending == "toml":
		return "toml"
	}
	if isWords(lower, body) {
		return "words"
	}
	keys, bare, blocks, statements := 0, 0, 0, 0
	on := false
	for line := range strings.Lines(body) {
		s := strings.TrimSpace(line)
		if s != "" && s[0] == '#' && !on {
			continue
		}
		was := on
		on = goesOn(s) && !isComment(s)
		switch {
		case was: // it belongs to the line before
		case s == "" || isComment(s) || head.MatchString(s):
		case strings.HasSuffix(s, "{"), s == "}", s == "};":
			blocks++
		case separator(s) > 0:
			keys++
		case strings.HasSuffix(s, ";") && strings.ContainsAny(s, " \t"):
			statements++
		default:
			bare++
		}
	}
	switch {
	case blocks > 1 && keys+statements > 0:
		return "blocks"
	case keys > 0 && bare == 0:
		return "lines"
	case bare > 0 && keys == 0 && strings.IndexByte(body, '=') > 0 && toml.Unmarshal([]byte(body), new(map[string]any)) == nil:
		return "toml" // keys in quotes
	case bare > 0 && keys == 0:
		return "list"
	case keys > bare: // with lines that are no settings, which stay as they are
		return "lines"
	}
	return ""
}

// ofWords are endings of settings in which a name, blanks and a value make a line: other texts of words are prose.
var ofWords = regexp.MustCompile(`\.(conf|cfg|config)\d*$|(^|/)[^./]*rc$`)

// wordsLine is such a line: no sign stands behind the name.
var wordsLine = regexp.MustCompile(`^[A-Za-z_][\w.-]*([ \t]+[^=:{} \t].*)?$`)

// isWords tells whether all lines of a text are a name and a value, or a name alone, of which there are fewer.
func isWords(name, body string) bool {
	if !ofWords.MatchString(name) {
		return false
	}
	pairs, alone := 0, 0
	for line := range strings.Lines(body) {
		s := strings.TrimSpace(line)
		switch {
		case s == "" || isComment(s):
		case !wordsLine.MatchString(s) || strings.HasSuffix(s, "{") || strings.HasSuffix(s, ";"):
			return false
		case strings.ContainsAny(s, " \t"):
			pairs++
		default:
			alone++
		}
	}
	return pairs > alone && pairs > 1
}

// firstWord is where the content of a text begins, comments passed over.
func firstWord(body string) string {
	for line := range strings.Lines(body) {
		s := strings.TrimSpace(line)
		if s != "" && !isComment(s) && !strings.HasPrefix(s, "/*") && !strings.HasPrefix(s, "*") {
			return s
		}
	}
	return ""
}

func looksLikeJSON(body string) bool {
	s := strings.TrimSpace(body)
	return strings.HasSuffix(s, "]") && strings.ContainsAny(s, "{\"")
}

// isComment tells whether a line, without blanks before it, says nothing.
func isComment(s string) bool {
	return strings.HasPrefix(s, "#") || strings.HasPrefix(s, ";") || strings.HasPrefix(s, "//") ||
		strings.HasPrefix(s, "! ") || strings.HasPrefix(s, "% ")
}

// isComment is isComment for a line of the text: of lines of words those of two signs are lines like others, since servers
// that have such lines do not agree whether they say something.
func (d *Doc) isComment(s string) bool {
	return isComment(s) && !(d.Format == "words" && (s[0] == '!' || s[0] == '%'))
}

// goesOn tells whether a line goes on in the next one: it ends in a backslash that no other takes its meaning from.
func goesOn(s string) bool { return (len(s)-len(strings.TrimRight(s, `\`)))%2 == 1 }

// separator is where in a line the sign stands that parts a key from its value; -1 for none.
func separator(s string) int {
	eq, colon := strings.IndexByte(s, '='), strings.IndexByte(s, ':')
	at := eq
	if eq < 0 || (colon >= 0 && colon < eq && (colon+1 == len(s) || s[colon+1] == ' ' || s[colon+1] == '\t')) {
		at = colon
	}
	if at <= 0 || strings.ContainsAny(strings.TrimSpace(s[:at]), "\"'{}()") {
		return -1
	}
	return at
}

var errDeep = errors.New("it is nested too deep")
