package words

import (
	"fmt"
	"strings"
)

// Quote writes a string as TOML has it, so that what is shown can be copied into a
// profile: a literal where it can be one, since patterns are full of backslashes, else a
// basic string (TOML 1.0, "String").
func Quote(s string) string {
	control := func(r rune) bool { return r < ' ' || r == 0x7f }
	if !strings.Contains(s, "'") && strings.IndexFunc(s, control) < 0 {
		return "'" + s + "'"
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteString(`\` + string(r))
		case control(r):
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	return `"` + b.String() + `"`
}

// Shell is a word as a shell takes it: as it is, or quoted where blanks or signs are in it.
func Shell(word string) string {
	if word != "" && !strings.ContainsFunc(word, func(r rune) bool {
		return !(r == '/' || r == '.' || r == '-' || r == '_' || r == '=' || r == ':' || r == ',' || r == '+' ||
			r == '@' ||
			r == '%' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 0x7f)
	}) {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}
