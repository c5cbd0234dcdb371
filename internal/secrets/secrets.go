// Package secrets is the one place that hides secrets in what is shown or recorded: a terminal's text,
// JSON, events, the logbook, reports, errors. By a key's name and by a value's place first; by the value
// itself where one is known and long enough not to be a word of its own.
//
// It has nothing to do with what is written for the server, stored, sent, or read back by a run.
package secrets

import (
	"bytes"
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// Hidden is what is shown in a secret's place.
const Hidden = "(secret)"

// shortest is how long a value must be at least to be hidden wherever it stands, in bytes: a shorter
// one is hidden by its key and its place alone.
const shortest = 6

// alone are words of a key that make it a secret's, and pairs two that do so together.
var (
	alone = []string{"password", "passwd", "passphrase", "passcode", "pwd", "secret", "token", "credential", "credentials", "apikey",
		"bearer", "dsn", "authkey"}
	pairs = [][2]string{{"api", "key"}, {"private", "key"}, {"access", "key"}, {"auth", "key"}, {"license", "key"},
		{"licence", "key"}, {"server", "key"}, {"webhook", "url"}, {"auth", "word"}, {"db", "pass"}, {"rcon", "pass"},
		{"admin", "pass"}, {"connection", "string"}, {"session", "key"}}
	wordOf = regexp.MustCompile(`[A-Z]+(?:[^A-Za-z]|$)|[A-Z]?[a-z]+|[A-Z]+`)
)

// Key tells whether a name is one under which a secret stands: console-password, rconPassword,
// DB_PASS, api_key.
func Key(name string) bool {
	if !likely(name) {
		return false
	}
	if i := strings.LastIndexAny(name, "/["); i >= 0 {
		name = name[i:]
	}
	var parts []string
	for _, w := range wordOf.FindAllString(name, -1) {
		parts = append(parts, strings.ToLower(strings.Trim(w, "._-/[]0123456789 ")))
	}
	parts = slices.DeleteFunc(parts, func(w string) bool { return w == "" })
	n := len(parts)
	if n == 0 {
		return false
	}
	last := parts[n-1] // password-policy is none
	if slices.Contains(alone, last) || (n == 1 && last == "pass") {
		return true
	}
	return n > 1 && slices.Contains(pairs, [2]string{parts[n-2], last})
}

// ends are the words at which such a name ends, by their last letter.
var ends = func() (out [256][][2]string) {
	for _, w := range append(slices.Clone(alone), "pass") {
		out[w[len(w)-1]] = append(out[w[len(w)-1]], [2]string{"", w})
	}
	for _, p := range pairs {
		out[p[1][len(p[1])-1]] = append(out[p[1][len(p[1])-1]], p)
	}
	return out
}()

// likely is a quick look at how a name ends, since a settings file may have many thousand keys.
func likely(name string) bool {
	letters := func(s string) string { // up to its last letter
		n := len(s)
		for n > 0 && (s[n-1]|' ' < 'a' || s[n-1]|' ' > 'z') {
			n--
		}
		return s[:n]
	}
	name = letters(name)
	if name == "" || ends[name[len(name)-1]|' '] == nil {
		return false
	}
	last := name[len(name)-1] | ' '
	name = strings.ToLower(name[max(0, len(name)-40):])
	for _, p := range ends[last] {
		before, is := strings.CutSuffix(name, p[1])
		if is && (p[0] == "" || strings.HasSuffix(letters(before), p[0])) {
			return true
		}
	}
	return false
}

// plain are values that are no secret whatever their key says: a switch, a place where the secret is,
// a variable, nothing.
var plain = regexp.MustCompile(`(?i)^(?:|true|false|yes|no|on|off|none|null|nil|\*+|…|""|''|env:\S*|file:\S*|netrc|\$\{?\w+\}?|%\w+%|` +
	regexp.QuoteMeta(Hidden) + `)$`)

// revealed says that the person at the terminal wants to see secrets.
var revealed atomic.Bool

// Reveal has secrets shown from now on, by Of, Mask and MaskJSON. What is recorded hides them still.
func Reveal() { revealed.Store(true) }

// Of is a key's value as it may be shown.
func Of(key, value string) string {
	if revealed.Load() {
		return value
	}
	if !Key(key) || plain.MatchString(unquoted(value)) {
		return Mask(value)
	}
	Know(value)
	return Hidden
}

func unquoted(s string) string { return strings.Trim(strings.TrimSpace(s), `"'`) }

// known are the values that this process has met as secrets.
var known struct {
	sync.RWMutex
	values []string
}

// Know has a value hidden from now on, wherever it stands. Whoever reads a secret says so.
func Know(value string) {
	value = unquoted(value)
	if len(value) < shortest || plain.MatchString(value) {
		return
	}
	known.Lock()
	defer known.Unlock()
	if !slices.Contains(known.values, value) {
		known.values = append(known.values, value)
		// the longest first: one may be the beginning of another
		slices.SortStableFunc(known.values, func(a, b string) int { return len(b) - len(a) })
	}
}

// KnowIn is Know for what stands under a key: it, where the key is a secret's, and the password of an
// address in any case.
func KnowIn(key, value string) {
	if Key(key) {
		Know(value)
	}
	if !strings.Contains(value, "://") {
		return
	}
	for _, m := range address.FindAllStringSubmatch(value, -1) {
		if _, word, ok := strings.Cut(strings.TrimSuffix(m[2], "@"), ":"); ok {
			Know(word)
		}
	}
}

var (
	// address is one of any scheme: its scheme, who opens it, what it leads to, its query.
	address = regexp.MustCompile(`\b([A-Za-z][A-Za-z0-9+.-]*://)([^\s/@"'<>]*@)?([^\s?#"'<>]*)([?][^\s"'<>#]*)?`)
	// wholeLine is a line of a settings file, or of a diff of one: key = all the rest.
	wholeLine = regexp.MustCompile(`(?m)^(\s*[+-]?\s*(?:[│|]\s)?(?:export\s+|set[a-z]?\s+)?["']?([A-Za-z_][\w.$-]*)["']?\s*=\s*)(\S.*?)(\s+#.*)?$`)
	// given is a key and its value within a line.
	given = regexp.MustCompile(`(["']?([A-Za-z_][\w.$-]*)["']?\s*[:=]\s*)("(?:[^"\\]|\\.)*"|'[^']*'|[^\s"',;}&<>]+)`)
	// option is a word of a command line and the one behind it.
	option = regexp.MustCompile(`((?:^|\s)--?([A-Za-z][\w.-]*)\s+)("[^"]*"|'[^']*'|[^\s-]\S*)`)
	// spaced is a line of settings whose value stands behind a blank.
	spaced = regexp.MustCompile(`(?m)^(\s*[+-]?\s*(?:set[a-z]?\s+)?([A-Za-z_]\w*[._-][\w.-]*)\s+)([^\s=:(].*)$`)
	// element is one of XML.
	element = regexp.MustCompile(`(<([A-Za-z_][\w.:-]*)>)([^<]+)(</)`)
	bearer  = regexp.MustCompile(`(?i)\b(bearer\s+)([A-Za-z0-9._~+/=-]{6,})`)
)

// Mask is a text as it may be shown: without secrets, unless they were to be revealed.
func Mask(text string) string {
	if revealed.Load() {
		return text
	}
	return Recorded(text)
}

// Recorded is a text as it may be written down: without secrets.
func Recorded(text string) string {
	if text == "" {
		return text
	}
	known.RLock()
	for _, v := range known.values {
		if strings.Contains(text, v) {
			text = strings.ReplaceAll(text, v, Hidden)
		}
	}
	known.RUnlock()
	if strings.Contains(text, "://") {
		text = address.ReplaceAllStringFunc(text, func(at string) string {
			m := address.FindStringSubmatch(at)
			out := m[1] + m[3]
			if user, _, ok := strings.Cut(strings.TrimSuffix(m[2], "@"), ":"); m[2] != "" && ok {
				out = m[1] + user + ":" + Hidden + "@" + m[3]
			} else if m[2] != "" {
				out = m[1] + m[2] + m[3]
			}
			if len(m[4]) > 1 {
				out += "?…"
			}
			return out
		})
	}
	if !suspect.MatchString(text) {
		return text
	}
	for _, form := range []*regexp.Regexp{wholeLine, given, option, spaced, element} {
		text = hide(text, form)
	}
	return bearer.ReplaceAllString(text, "${1}"+Hidden)
}

// suspect are the beginnings of words without which no key is a secret's.
var suspect = regexp.MustCompile(`(?i)pass|pwd|secret|token|credential|key|bearer|dsn|webhook|connection`)

// hide hides the third group of a form where the second is a secret's key.
func hide(text string, form *regexp.Regexp) string {
	return form.ReplaceAllStringFunc(text, func(at string) string {
		m := form.FindStringSubmatch(at)
		if !Key(m[2]) || plain.MatchString(unquoted(m[3])) {
			return at
		}
		rest := ""
		if len(m) > 4 {
			rest = m[4]
		}
		if q := m[3][:1]; (q == `"` || q == `'`) && strings.HasSuffix(m[3], q) && len(m[3]) > 1 {
			return m[1] + q + Hidden + q + rest
		}
		return m[1] + Hidden + rest
	})
}

// values are the names of a JSON object's members that hold what stands under its "key".
var values = []string{"value", "old", "new", "was", "now", "mine", "yours", "theirs", "default", "before", "after", "is", "item",
	"from_value", "to_value", "text"}

// MaskJSON is a JSON text, one or several documents, without secrets. It is otherwise the same, byte for
// byte; what is no JSON is masked as a text.
func MaskJSON(text []byte) []byte {
	if revealed.Load() {
		return text
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	w := &jsonWalk{d: d, text: text}
	for {
		if err := w.value(""); err != nil {
			if w.at == 0 && len(bytes.TrimSpace(text)) > 0 && !w.some {
				return []byte(Mask(string(text)))
			}
			break
		}
	}
	slices.SortFunc(w.strings, func(a, b jsonString) int { return a.from - b.from })
	var out []byte
	last := 0
	for _, s := range w.strings {
		now := Mask(s.value)
		if s.hidden && !plain.MatchString(s.value) {
			now = Hidden
		}
		if now == s.value {
			continue
		}
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		if e.Encode(now) != nil {
			continue
		}
		out = append(append(out, text[last:s.from]...), bytes.TrimSpace(b.Bytes())...)
		last = s.to
	}
	return append(out, text[last:]...)
}

// jsonString is a string of a JSON text, and where it stands.
type jsonString struct {
	from, to int
	value    string
	hidden   bool
}

type jsonWalk struct {
	d       *json.Decoder
	text    []byte
	at      int
	some    bool
	strings []jsonString
}

// value goes through one value, whose member's name is given.
func (w *jsonWalk) value(name string) error {
	before := int(w.d.InputOffset())
	t, err := w.d.Token()
	if err != nil {
		return err
	}
	w.some = true
	switch t := t.(type) {
	case json.Delim:
		if t == '{' {
			return w.object()
		}
		return w.array(name)
	case string:
		to := int(w.d.InputOffset())
		from := before + bytes.IndexByte(w.text[before:to], '"')
		w.strings = append(w.strings, jsonString{from, to, t, Key(name)})
	}
	return nil
}

// array goes through an array: a word of a command line that is a secret's hides the one behind it.
func (w *jsonWalk) array(name string) error {
	option := false
	for w.d.More() {
		at := len(w.strings)
		if err := w.value(name); err != nil {
			return err
		}
		if len(w.strings) != at+1 {
			option = false
			continue
		}
		s := &w.strings[at]
		s.hidden = s.hidden || option
		option = strings.HasPrefix(s.value, "-") && !strings.ContainsAny(s.value, "= ") && Key(s.value)
	}
	_, err := w.d.Token()
	return err
}

// object goes through an object's members; those beside a "key" that is a secret's are hidden.
func (w *jsonWalk) object() error {
	key := ""
	type span struct{ from, to int } // of w.strings
	held := map[string]span{}
	for w.d.More() {
		t, err := w.d.Token()
		if err != nil {
			return err
		}
		name, _ := t.(string)
		from := len(w.strings)
		if err := w.value(name); err != nil {
			return err
		}
		held[name] = span{from, len(w.strings)}
		if name == "key" && len(w.strings) == from+1 {
			key = w.strings[from].value
		}
	}
	if Key(key) {
		for _, name := range values {
			for i := held[name].from; i < held[name].to; i++ {
				w.strings[i].hidden = true
			}
		}
	}
	_, err := w.d.Token()
	return err
}
