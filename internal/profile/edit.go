package profile

import (
	"bytes"
	"encoding"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"freshkeel/internal/placed"
	"freshkeel/internal/words"

	"github.com/pelletier/go-toml/v2"
)

// Text is a profile's text that is edited in place: what is not the edited key keeps its
// comments, its order and every byte.
type Text []byte

// spot is where a key stands in a text; offsets in bytes.
type spot struct {
	line       int // offset of the line's start
	value, end int // of the value, without the comment behind it
}

// section is one table of a text.
type section struct {
	name string
	end  int // offset behind the last line that belongs to its keys
}

// scan finds the keys and tables of a text. Keys are joined by dots, as their words are
// without quotes; those in tables of which there may be several are left out.
func (t Text) scan() (keys map[string]spot, sections []section, err error) {
	keys = map[string]spot{}
	entries, err := placed.TOML(t)
	if err != nil {
		return nil, nil, err
	}
	table, several := "", false
	for _, e := range entries {
		name := strings.Join(e.Path, ".")
		if e.Table {
			table, several = name, e.Many
			sections = append(sections, section{name: name, end: e.Lines.End})
			continue
		}
		if len(sections) > 0 {
			sections[len(sections)-1].end = e.Lines.End
		}
		if table != "" {
			name = table + "." + name
		}
		if !several {
			keys[name] = spot{line: e.Lines.Start, value: e.Value.Start, end: e.Value.End}
		}
	}
	return keys, sections, nil
}

// ours are the comments that Fresh Keel writes above or behind a key: they go with the value
// that they are of.
var ours = []string{"# guessed from: ", "# not found; set it: ", "# learned from: "}

// NoComment is for Text.With: the comment of ours above a key goes.
const NoComment = "-"

func isOurs(line string) bool {
	return slices.ContainsFunc(ours, func(o string) bool { return strings.HasPrefix(line, o) })
}

// Guessed tells whether a key's value was guessed or learned, and no person wrote it.
func (t Text) Guessed(key string) bool {
	_, comment, there := t.Value(key)
	return there && (strings.HasPrefix(comment, "# guessed from: ") || strings.HasPrefix(comment, "# learned from: "))
}

// Value is a key's value as it is written, and the comment of ours above it; ok is false
// where the text has no such key.
func (t Text) Value(key string) (literal, comment string, ok bool) {
	keys, _, err := t.scan()
	at, ok := keys[key]
	if err != nil || !ok {
		return "", "", false
	}
	if above := t.lineAbove(at.line); isOurs(above) {
		comment = above
	}
	return string(t[at.value:at.end]), comment, true
}

// Keys are the keys of a text, dotted, in the order in which they stand there.
func (t Text) Keys() []string {
	keys, _, err := t.scan()
	if err != nil {
		return nil
	}
	return slices.SortedFunc(maps.Keys(keys), func(a, b string) int { return keys[a].value - keys[b].value })
}

// lineAbove is the text of the line before the one that starts at an offset.
func (t Text) lineAbove(start int) string {
	if start == 0 {
		return ""
	}
	prev := bytes.LastIndexByte(t[:start-1], '\n') + 1
	return strings.TrimSpace(string(t[prev : start-1]))
}

// With returns the text with a key set to a value, as TOML writes it, and a comment of ours
// above it; "" leaves the comment that is there. A key that is not there comes at the end
// of its section, and a section at the end of the text.
func (t Text) With(key, literal, comment string) (Text, error) {
	keys, sections, err := t.scan()
	if err != nil {
		return nil, err
	}
	if at, there := keys[key]; there {
		out := slices.Concat(t[:at.value], []byte(literal), t[at.end:])
		if comment == "" {
			return out, nil
		}
		own := isOurs(t.lineAbove(at.line))
		prev := at.line
		if own {
			prev = bytes.LastIndexByte(t[:at.line-1], '\n') + 1
		}
		switch {
		case comment == NoComment:
			return slices.Concat(out[:prev], out[at.line:]), nil
		case own:
			return slices.Concat(out[:prev], []byte(comment+"\n"), out[at.line:]), nil
		}
		return slices.Concat(out[:at.line], []byte(comment+"\n"), out[at.line:]), nil
	}
	in, name := splitKey(key)
	name = quoteKey(name)
	// A table that has none of its own stands in the one above: archives.in, in [source].
	has := func(table string) bool {
		return slices.ContainsFunc(sections, func(s section) bool { return s.name == table })
	}
	for at := in; !has(in) && strings.Contains(at, "."); {
		i := strings.LastIndexByte(at, '.')
		if at = at[:i]; has(at) {
			name, in = in[i+1:]+"."+name, at
		}
	}
	line := name + " = " + literal + "\n"
	if comment != "" && comment != NoComment {
		line = comment + "\n" + line
	}
	for _, s := range sections {
		if s.name == in {
			head := t[:s.end]
			if len(head) > 0 && head[len(head)-1] != '\n' {
				line = "\n" + line
			}
			return slices.Concat(head, []byte(line), t[s.end:]), nil
		}
	}
	out := slices.Clone(t)
	if len(out) > 0 && out[len(out)-1] != '\n' {
		out = append(out, '\n')
	}
	return append(out, ("\n[" + in + "]\n" + line)...), nil
}

// Without returns the text without a key, and without the comment of ours above it.
func (t Text) Without(key string) (Text, error) {
	keys, _, err := t.scan()
	at, there := keys[key]
	if err != nil || !there {
		return t, err
	}
	from := at.line
	if above := t.lineAbove(at.line); isOurs(above) {
		from = bytes.LastIndexByte(t[:at.line-1], '\n') + 1
	}
	return slices.Concat(t[:from], t[placed.LineEnd(t, at.end):]), nil
}

// WithItem returns the text with one more item in a list; from stands behind it as a
// comment. An item that is there already changes nothing.
func (t Text) WithItem(key, item, from string) (Text, error) {
	keys, _, err := t.scan()
	if err != nil {
		return nil, err
	}
	line := "  " + words.Quote(item) + ","
	if from != "" {
		line += "   " + from
	}
	at, there := keys[key]
	if !there {
		return t.With(key, "[\n"+line+"\n]", "")
	}
	var v struct{ V []any }
	if err := toml.Unmarshal(append([]byte("V = "), t[at.value:at.end]...), &v); err != nil {
		return nil, fmt.Errorf("%s is not a list: %w", key, err)
	}
	if slices.Contains(v.V, any(item)) {
		return t, nil
	}
	old := string(t[at.value : at.end-1]) // without the closing bracket
	comma := ""
	if body := strings.TrimRight(stripComments(old), " \t\r\n"); len(v.V) > 0 && !strings.HasSuffix(body, ",") {
		comma = ","
	}
	switch {
	case len(v.V) == 0:
		return slices.Concat(t[:at.value], []byte("[\n"+line+"\n]"), t[at.end:]), nil
	case !strings.Contains(old, "\n"):
		return slices.Concat(
			t[:at.value],
			[]byte(strings.TrimRight(old, " ,")+", "+words.Quote(item)+"]"),
			t[at.end:],
		), nil
	}
	body := strings.TrimRight(old, " \t")
	if comma != "" { // behind the last item, before what may be its comment
		body = afterLastItem(body)
	}
	if !strings.HasSuffix(body, "\n") {
		body += "\n"
	}
	return slices.Concat(t[:at.value], []byte(body+line+"\n]"), t[at.end:]), nil
}

// WithoutItem returns the text without an item of a list, and without the line that it has
// for itself.
func (t Text) WithoutItem(key, item string) (Text, error) {
	keys, _, err := t.scan()
	at, there := keys[key]
	if err != nil || !there {
		return t, err
	}
	var v struct{ V []any }
	if err := toml.Unmarshal(append([]byte("V = "), t[at.value:at.end]...), &v); err != nil {
		return nil, fmt.Errorf("%s is not a list: %w", key, err)
	}
	i := slices.Index(v.V, any(item))
	if i < 0 {
		return t, nil
	}
	lines := strings.SplitAfter(string(t[at.value:at.end]), "\n")
	for n, l := range lines {
		var one struct{ V []any }
		bare := strings.TrimSpace(l)
		if n > 0 && n < len(lines)-1 && toml.Unmarshal([]byte("V = ["+bare+"\n]"), &one) == nil && len(one.V) == 1 &&
			one.V[0] == any(item) {
			return slices.Concat(t[:at.value], []byte(strings.Join(slices.Delete(lines, n, n+1), "")), t[at.end:]), nil
		}
	}
	var rest []string
	for _, one := range slices.Delete(v.V, i, i+1) {
		rest = append(rest, words.Quote(fmt.Sprint(one)))
	}
	return slices.Concat(t[:at.value], []byte("["+strings.Join(rest, ", ")+"]"), t[at.end:]), nil
}

// stripComments takes the comments out of a list's text.
func stripComments(s string) string {
	var out []string
	for _, l := range strings.Split(s, "\n") {
		out = append(out, l[:commentAt(l)])
	}
	return strings.Join(out, "\n")
}

// commentAt is the offset of the comment in a line; its length where it has none.
func commentAt(line string) int { return outsideQuotes(line, '#') }

// outsideQuotes is the offset of the first such sign that no quotes hold; the text's length
// where there is none.
func outsideQuotes(text string, sign byte) int {
	var quote byte
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == sign:
			return i
		}
	}
	return len(text)
}

// afterLastItem puts a comma behind the last item of a list's text.
func afterLastItem(body string) string {
	lines := strings.Split(body, "\n")
	for n := len(lines) - 1; n >= 0; n-- {
		at := commentAt(lines[n])
		item := strings.TrimRight(lines[n][:at], " \t\r")
		if strings.TrimSpace(item) != "" {
			lines[n] = item + "," + lines[n][len(item):]
			break
		}
	}
	return strings.Join(lines, "\n")
}

// named are the sections in which keys are names that the operator gives, and what the
// value of each is.
var named = map[string]string{"place": "the name that the install uses", "elsewhere": "the full path of a folder"}

// splitKey takes a dotted key apart: its section, and its own name. What stands behind
// "place." is one name, whatever it holds.
func splitKey(key string) (section, name string) {
	if section, name, _ = strings.Cut(key, "."); named[section] != "" && name != "" {
		return section, name
	}
	i := strings.LastIndexByte(key, '.')
	return key[:max(i, 0)], key[i+1:]
}

func quoteKey(name string) string {
	plain := name != "" && strings.IndexFunc(name, func(r rune) bool {
		return !(r == '-' || r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z')
	}) < 0
	if plain {
		return name
	}
	return words.Quote(name)
}

// Literal writes words from a command line as TOML has them, in the way that a key's type
// asks for. Errors are *Error: a key that there is not, or a value that it can't be.
func Literal(path, key string, values []string) (string, error) {
	bad := func(why, near string) error { return &Error{File: path, Key: key, Why: why, Near: near} }
	if section, name := splitKey(key); named[section] != "" && name != "" {
		if len(values) != 1 {
			return "", bad("it takes one value: "+named[section], "")
		}
		return words.Quote(values[0]), nil
	}
	t, known := typeOf(key)
	switch {
	case !known:
		return "", bad("there is no such key", nearest(key))
	case strings.HasPrefix(key, "layer.") || strings.HasPrefix(key, "carry.") || strings.HasPrefix(key, "login.") || strings.HasPrefix(key, "data."):
		return "", bad("there may be several of these: edit it in the file", "")
	}
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	list := t.Kind() == reflect.Slice && !reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]())
	if !list && len(values) != 1 {
		return "", bad(fmt.Sprintf("it takes one value, and %d were given", len(values)), "")
	}
	if list && !(t == reflect.TypeFor[Patterns]() && len(values) == 1) {
		quoted := make([]string, len(values))
		for i, v := range values {
			quoted[i] = words.Quote(v)
		}
		return "[" + strings.Join(quoted, ", ") + "]", nil
	}
	switch v := values[0]; t.Kind() {
	case reflect.Bool:
		if v != "true" && v != "false" {
			return "", bad(fmt.Sprintf("%q is neither true nor false", v), "")
		}
		return v, nil
	case reflect.Int, reflect.Int64:
		if t == reflect.TypeFor[Duration]() {
			return words.Quote(v), nil
		}
		if _, err := strconv.Atoi(v); err != nil {
			return "", bad(fmt.Sprintf("%q is not a whole number", v), "")
		}
		return v, nil
	}
	return words.Quote(values[0]), nil
}

// IsList tells whether a key holds a list.
func IsList(key string) bool {
	t, known := typeOf(key)
	return known && t.Kind() == reflect.Slice
}

// typeOf is the type of what a dotted key holds.
func typeOf(key string) (reflect.Type, bool) {
	t := reflect.TypeFor[Profile]()
	for _, name := range strings.Split(key, ".") {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Struct {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct {
			return nil, false
		}
		found := false
		for i := range t.NumField() {
			if tag := t.Field(i).Tag.Get("toml"); tag == name && tag != "" && tag != "-" {
				t, found = t.Field(i).Type, true
				break
			}
		}
		if !found {
			return nil, false
		}
	}
	return t, slices.Contains(Keys(), key)
}
