package tree

import (
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
)

// mountsBelow lists the mount points below a folder, relative to it
// (proc_pid_mountinfo(5)).
func mountsBelow(root string) (out []string) {
	real, err := filepath.EvalSymlinks(root)
	if err != nil {
		return nil
	}
	if real, err = filepath.Abs(real); err != nil {
		return nil
	}
	b, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		if len(f) < 5 {
			continue
		}
		at := octal.ReplaceAllStringFunc(f[4], func(s string) string {
			n, _ := strconv.ParseUint(s[1:], 8, 8)
			return string([]byte{byte(n)})
		})
		if rel, err := filepath.Rel(real, at); err == nil && rel != "." && Local(rel) {
			out = append(out, rel)
		}
	}
	return out
}

// octal is how the list writes blanks and the like.
var octal = regexp.MustCompile(`\\[0-7]{3}`)
