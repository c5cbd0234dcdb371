package resolve

import (
	"strings"
)

// mostWrapped bounds how many folders around a build are looked through.
const mostWrapped = 4

// Wrapping finds the folders around everything of a build that the install does not
// have: without them, names are those of installed files, and with them none is. has
// tells whether the install has a file of a name. "" is for none.
func Wrapping(paths []string, has func(string) bool) string {
	prefix := ""
	for range mostWrapped {
		top := ""
		for _, at := range paths {
			rest := strings.TrimPrefix(at, prefix)
			if has(rest) {
				return strings.TrimSuffix(prefix, "/")
			}
			first, _, below := strings.Cut(rest, "/")
			if !below || (top != "" && first != top) {
				top = "/" // not all lie in one folder
			} else if top == "" {
				top = first
			}
		}
		if top == "" || top == "/" {
			return ""
		}
		prefix += top + "/"
	}
	return ""
}
