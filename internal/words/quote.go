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
