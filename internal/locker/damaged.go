package locker

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/tree"
)

// damagedFile lists pieces that did not read back, a line each: hash, pack,
// offset. What stands in it counts as not stored, so that the next backup stores
// it anew where the install still has it.
const damagedFile = "damaged"

// noteDamage adds lines to the list of the locker in dir.
func noteDamage(dir string, spoilt []string) error {
	at := filepath.Join(dir, damagedFile)
	b, err := tree.ReadOwn(at)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	slices.Sort(spoilt)
	return tree.WriteFile(at, append(b, strings.Join(spoilt, "")...), 0o600)
}

// readDamage reads the list of the locker in dir.
func readDamage(dir string) map[string]bool {
	b, _ := tree.ReadOwn(filepath.Join(dir, damagedFile))
	out := map[string]bool{}
	for line := range strings.SplitSeq(string(b), "\n") {
		if line != "" {
			out[line] = true
		}
	}
	return out
}

// forgetDamage drops the lines of damage whose packs are gone.
func forgetDamage(dir string) error {
	at := filepath.Join(dir, damagedFile)
	b, err := tree.ReadOwn(at)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var left []string
	for _, line := range strings.SplitAfter(string(b), "\n") {
		if f := strings.Fields(line); len(f) == 3 {
			if _, err := os.Stat(filepath.Join(dir, "packs", f[1]+".zst")); err == nil {
				left = append(left, line)
			}
		}
	}
	if len(left) == 0 {
		return os.Remove(at)
	}
	return tree.WriteFile(at, []byte(strings.Join(left, "")), 0o600)
}
