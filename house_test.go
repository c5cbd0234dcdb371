package freshkeel_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// imports lists what the non-test files of a folder import.
func imports(t *testing.T, dir string) (out []string, text string) {
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	require.NoError(t, err)
	for _, f := range files {
		if strings.HasSuffix(f, "_test.go") {
			continue
		}
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		text += string(b)
		a, err := parser.ParseFile(token.NewFileSet(), f, b, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range a.Imports {
			out = append(out, strings.Trim(i.Path.Value, `"`))
		}
	}
	return
}

// The core has no interface: no flags, colours, terminal, standard streams or
// exit. Arrows run one way: cmd → freshkeel → rooms → tree.
func TestCoreHasNoInterfaceCodeAndArrowsRunOneWay(t *testing.T) {
	rooms, err := filepath.Glob("internal/*")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(rooms), 9)
	ground := []string{"tree", "words", "version"} // which every room may use
	mayUse := map[string][]string{                 // which room may use which others besides: one way alone
		"acquire":   {"feed", "fetch", "host", "install", "inventory", "locker", "needs", "profile", "resolve", "tell", "unpack"},
		"adopt":     {"acquire", "feed", "fetch", "host", "install", "inventory", "launch", "locker", "needs", "plan", "profile", "resolve", "tell"},
		"ahead":     {"install", "locker", "needs", "profile"},
		"backups":   {"acquire", "fetch", "install", "inventory", "locker", "logbook", "profile", "resolve", "store", "tell", "unpack"},
		"check":     {"acquire", "ahead", "backups", "feed", "host", "install", "inventory", "launch", "locker", "needs", "plan", "profile", "resolve", "runtimes", "staging", "swap", "tell"},
		"data":      {"host", "install", "locker", "profile", "tell"},
		"feed":      {"fetch", "profile", "unpack"},
		"host":      {"launch"},
		"install":   {"host", "locker", "logbook", "profile", "swap", "tell"},
		"inventory": {"install", "locker"},
		"locker":    {"store"},
		"plan":      {"acquire", "ahead", "install", "inventory", "launch", "locker", "needs", "profile", "resolve", "runtimes", "staging", "swap", "tell"},
		"profile":   {"store"},
		"putback":   {"backups", "data", "install", "locker", "profile", "staging", "swap"},
		"resolve":   {"feed", "fetch", "host", "install", "inventory", "locker", "profile", "tell", "unpack"},
		"runtimes":  {"ahead", "fetch", "install", "launch", "needs", "profile", "resolve", "tell", "unpack"},
		"server":    {"host", "install", "tell", "watch"},
		"staging":   {"install", "locker", "swap"},
		"unpack":    {"fetch"},
		"watch":     {"profile"},
	}
	for _, dir := range append(rooms, ".") {
		list, text := imports(t, dir)
		for _, i := range list {
			for _, bad := range []string{"flag", "urfave", "lipgloss", "charm", "x/term", "mpb", "displaywidth", "html/template", "freshkeel/cmd", "freshkeel/demo"} {
				assert.False(t, i == bad || (bad != "flag" && strings.Contains(i, bad)), "%s imports %s", dir, i)
			}
			if room, ok := strings.CutPrefix(i, "freshkeel/internal/"); ok && dir != "." && !slices.Contains(ground, room) {
				assert.True(t, slices.Contains(mayUse[filepath.Base(dir)], room), "%s imports %s", dir, i)
			}
			assert.False(t, dir != "." && i == "freshkeel", "%s imports upwards", dir)
		}
		for _, bad := range []string{"os.Stdout", "os.Stderr", "os.Exit(", "fmt.Print"} {
			assert.NotContains(t, text, bad, dir)
		}
	}
	list, _ := imports(t, "cmd/freshkeel")
	for _, i := range list {
		assert.False(t, strings.HasPrefix(i, "freshkeel/internal"), "the command line talks to the root package alone, not to %s", i)
	}
}

// Differences between systems stand in files named for them, in three rooms.
func TestSystemsDifferInThreeRoomsAlone(t *testing.T) {
	require.NoError(t, filepath.WalkDir(".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") {
			return err
		}
		for _, s := range []string{"_linux", "_unix", "_windows", "_darwin", "_other"} {
			if strings.HasSuffix(strings.TrimSuffix(strings.TrimSuffix(p, ".go"), "_test"), s) {
				assert.Contains(t, []string{"internal/tree", "internal/swap", "internal/host"}, filepath.ToSlash(filepath.Dir(p)), p)
			}
		}
		return nil
	}))
}
