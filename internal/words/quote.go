package words

import (
	"fmt"
	"strings"
)

// Quote puts a pattern in quotes as a profile has it, so that it can be copied back: a
// TOML literal, in which a backslash is a backslash, or where it can't be one a basic
// string.
func Quote(pattern string) string {
	if strings.ContainsAny(pattern, "'\n\r\x7f") || strings.IndexFunc(pattern, func(r rune) bool { return r < ' ' }) >= 0 {
		return fmt.Sprintf("%q", pattern)
	}
	return "'" + pattern + "'"
}
