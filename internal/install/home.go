package install

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
)

// Apart keeps the locker out of the folder that it backs up.
func Apart(dir, home string) error {
	if home, err := filepath.Abs(home); err == nil && tree.Inside(tree.Real(dir), tree.Real(home)) {
		return tell.Misuse(fmt.Sprintf("FRESHKEEL_HOME, %s, lies in the install: every backup would hold all "+
			"backups before it", home), "set it to a folder elsewhere")
	}
	return nil
}

// DefaultHome is where locker and runtimes stand when nobody says otherwise:
// the user's state folder (XDG Base Directory Specification), or the
// platform's own place for a program's data. A user who has no home that it can write in may have been
// given a folder by root.
func DefaultHome() (string, error) {
	if s := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(s) {
		return filepath.Join(s, "freshkeel"), nil
	}
	if s := os.Getenv("LocalAppData"); s != "" {
		return filepath.Join(s, "freshkeel"), nil
	}
	home, err := os.UserHomeDir()
	if at := ownHome(home); at != "" {
		return at, nil
	}
	if err != nil {
		return "", err
	}
	return filepath.Join(home, ".local", "state", "freshkeel"), nil
}

// Find returns the nearest folder from start upwards that has a profile.
func Find(start string) (string, error) {
	start, err := filepath.Abs(start)
	if err != nil {
		return "", err
	}
	for dir := start; ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, profile.FileName)); err == nil {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			return "", fmt.Errorf("%w in %s or above it", profile.ErrNone, start)
		}
	}
}

// Servers lists the installs that were ever changed from this home, this one
// among them.
func (in *Install) Servers() []string {
	out := []string{in.Dir}
	list, _ := filepath.Glob(filepath.Join(in.Home, "servers", "*"))
	for _, at := range list {
		if b, err := os.ReadFile(at); err == nil && strings.TrimSpace(string(b)) != in.Dir {
			out = append(out, strings.TrimSpace(string(b)))
		}
	}
	return out
}

// listed is where the home notes the install.
func listed(in *Install) string {
	return filepath.Join(in.Home, "servers", tree.SumBytes([]byte(in.Dir)).String()[:16])
}

// enlisted tells whether the install was ever changed from this home.
func (in *Install) enlisted() bool {
	_, err := os.Stat(listed(in))
	return err == nil
}

// enlist remembers the install among this home's servers. It is only there to
// be asked before something that they share is removed.
func (in *Install) enlist() {
	if in.enlisted() {
		return
	}
	at := listed(in)
	if os.MkdirAll(filepath.Dir(at), 0o700) == nil {
		tree.WriteFile(at, []byte(in.Dir+"\n"), 0o600)
	}
}
