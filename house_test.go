package freshkeel_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
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
	files, err := filepath.Glob("internal/*/*.go")
	require.NoError(t, err)
	within, err := filepath.Glob("internal/*/*/*.go")
	require.NoError(t, err)
	rooms := []string{"."}
	for _, at := range append(files, within...) {
		if dir := filepath.ToSlash(filepath.Dir(at)); !slices.Contains(rooms, dir) {
			rooms = append(rooms, dir)
		}
	}
	require.GreaterOrEqual(t, len(rooms), 30)
	ground := []string{"tree", "words", "version", "logline", "secrets"} // which every room may use
	mayUse := map[string][]string{                                       // which room may use which others besides: one way alone
		"acquire": {"feed", "fetch", "host", "install", "inventory", "locker", "needs", "pages", "profile",
			"resolve", "tell", "unpack"},
		"adopt": {"acquire", "feed", "fetch", "guard", "host", "install", "inventory", "launch", "learn", "locker", "needs",
			"plan", "profile", "resolve", "tell"},
		"ahead": {"install", "locker", "needs", "profile"},
		"asked": {"host", "install", "launch", "profile"},
		"audit": {"host", "install", "inventory", "locker", "logbook", "profile", "run", "staging", "swap", "tell"},
		"backups": {"acquire", "edited", "fetch", "install", "inventory", "locker", "locker/mirror", "logbook", "profile",
			"resolve", "store", "tell", "unpack"},
		"change": {"acquire", "audit", "backups", "check", "data", "edited", "guard", "host", "install", "inventory", "locker", "logbook",
			"migrate", "needs", "plan", "profile", "putback", "resolve", "run", "server", "swap", "tell"},
		"check": {
			"acquire",
			"ahead",
			"backups",
			"data",
			"edited",
			"feed",
			"guard",
			"host",
			"install",
			"inventory",
			"launch",
			"learn",
			"locker",
			"logbook",
			"migrate",
			"needs",
			"plan",
			"profile",
			"resolve",
			"runtimes", "settings",
			"staging",
			"swap",
			"tell",
			"watch",
		},
		"compare":   {"acquire", "backups", "fetch", "inventory", "locker", "plan", "resolve", "tell", "unpack"},
		"data":      {"host", "install", "locker", "logbook", "profile", "tell"},
		"edited":    {"install", "launch", "profile", "settings"},
		"feed":      {"fetch", "pages", "profile", "unpack"},
		"guard":     {"host", "install"},
		"host":      {"launch"},
		"install":   {"host", "launch", "locker", "logbook", "profile", "swap", "tell"},
		"inventory": {"install", "locker"},
		"kept":      {"install", "inventory", "locker", "profile", "resolve", "runtimes", "tell", "written"},
		"lay": {"acquire", "adopt", "feed", "fetch", "install", "inventory", "learn", "locker", "plan", "profile",
			"resolve", "tell"},
		"learn":         {"profile", "watch"},
		"lessons":       {"host", "install", "inventory", "launch", "learn", "logbook", "profile", "tell", "watch"},
		"locker":        {"locker/cut", "locker/frame", "locker/index", "locker/set", "store"},
		"locker/index":  {"locker/frame"},
		"locker/mirror": {"locker", "locker/frame", "locker/index", "locker/set", "store"},
		"locker/set":    {"locker/frame"},
		"migrate":       {"data", "host", "install", "profile", "resolve", "tell"},
		"plan": {
			"acquire",
			"ahead", "asked",
			"install",
			"inventory",
			"launch",
			"locker",
			"logbook",
			"needs",
			"profile",
			"resolve",
			"runtimes",
			"settings", "settings/proof",
			"staging",
			"swap",
			"tell",
			"written",
		},
		"launch":   {"placed"},
		"profile":  {"placed", "store"},
		"putback":  {"backups", "data", "install", "locker", "profile", "staging", "swap"},
		"resolve":  {"feed", "fetch", "host", "install", "inventory", "locker", "profile", "tell", "unpack"},
		"run":      {"guard", "install", "logbook", "server", "swap", "tell"},
		"runtimes": {"ahead", "fetch", "install", "launch", "needs", "profile", "resolve", "tell", "unpack"},
		"server":   {"edited", "host", "install", "launch", "learn", "profile", "tell", "watch"},
		"settings": {"placed"},
		"staging":  {"install", "locker", "swap"},
		"unpack":   {"fetch"},
		"watch":    {"profile"},
		"written":  {"host", "install", "launch", "locker", "profile", "tell"},
	}
	for _, dir := range rooms {
		list, text := imports(t, dir)
		for _, i := range list {
			for _, bad := range []string{"flag", "urfave", "lipgloss", "charm", "x/term", "mpb", "displaywidth",
				"html/template", "freshkeel/cmd", "freshkeel/demo"} {
				assert.False(t, i == bad || (bad != "flag" && strings.Contains(i, bad)), "%s imports %s", dir, i)
			}
			if room, ok := strings.CutPrefix(i, "freshkeel/internal/"); ok && dir != "." &&
				!slices.Contains(ground, room) {
				assert.True(t, slices.Contains(mayUse[strings.TrimPrefix(dir, "internal/")], room), "%s imports %s",
					dir, i)
			}
			assert.False(t, dir != "." && i == "freshkeel", "%s imports upwards", dir)
		}
		for _, bad := range []string{"os.Stdout", "os.Stderr", "os.Exit(", "fmt.Print"} {
			assert.NotContains(t, text, bad, dir)
		}
	}
	list, _ := imports(t, "cmd/freshkeel")
	for _, i := range list {
		assert.False(t, strings.HasPrefix(i, "freshkeel/internal"),
			"the command line talks to the root package alone, not to %s", i)
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
				assert.Contains(t, []string{"internal/tree", "internal/swap", "internal/host"},
					filepath.ToSlash(filepath.Dir(p)), p)
			}
		}
		return nil
	}))
}

// No function is longer than a page or two. A table may be longer.
func TestNoFunctionIsLongerThanAPageOrTwo(t *testing.T) {
	const lines = 80
	tables := map[string]bool{"cmd/freshkeel.play": true, "cmd/freshkeel.commands": true} // as long as what they list
	set := token.NewFileSet()
	require.NoError(t, filepath.WalkDir(".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") ||
			strings.Contains(p, "testdata") {
			return err
		}
		f, err := parser.ParseFile(set, p, nil, 0)
		require.NoError(t, err)
		for _, d := range f.Decls {
			fn, is := d.(*ast.FuncDecl)
			name := filepath.ToSlash(filepath.Dir(p))
			if is && !tables[name+"."+fn.Name.Name] {
				assert.LessOrEqual(t, set.Position(fn.End()).Line-set.Position(fn.Pos()).Line+1, lines, "lines of %s.%s",
					name, fn.Name.Name)
			}
		}
		return nil
	}))
}

// How far a run has got is noted by the engine of runs alone, and it alone sets the marks of a run's guard and takes it away: a
// step that did so by itself would be a second way forward, or back.
func TestRunsGoForwardAndBackInOnePlace(t *testing.T) {
	rooms, err := filepath.Glob("internal/*")
	require.NoError(t, err)
	for _, dir := range append(rooms, ".", "cmd/freshkeel") {
		_, text := imports(t, dir)
		room := strings.TrimPrefix(filepath.ToSlash(dir), "internal/")
		for call, may := range map[string][]string{".Phase = ": {"run"}, ".TakeAway()": {"run", "guard", "install", "adopt"}, ").Moving()": {"run"},
			"run.Reverse(": {"change"}, "Dir.Reverse(": {"audit"}} {
			assert.True(t, slices.Contains(may, room) || !strings.Contains(text, call), "%s says %s", room, call)
		}
	}
}

// A locker's and a copy's files are opened as regular ones, by package tree: a pipe in the place of one would
// keep a command waiting for ever.
func TestLockersFilesAreOpenedAsRegularOnes(t *testing.T) {
	for _, dir := range []string{"internal/locker", "internal/locker/mirror", "internal/locker/set", "internal/locker/index",
		"internal/locker/frame", "internal/store", "internal/backups"} {
		_, text := imports(t, dir)
		require.NotEmpty(t, text, dir)
		for _, call := range []string{"os.Open(", "os.ReadFile("} {
			assert.NotContains(t, text, call, "%s: tree.OpenRegular and tree.ReadOwn are for that", dir)
		}
	}
}

// Things of ours are replaced by package tree alone, by tree.Rename or what stands on it: Windows replaces nothing
// that somebody holds open. The scanner of an inventory, which is often written over itself, lets go of it before.
func TestThingsAreReplacedInOneWay(t *testing.T) {
	rooms, err := filepath.Glob("internal/*")
	require.NoError(t, err)
	within, err := filepath.Glob("internal/*/*")
	require.NoError(t, err)
	for _, dir := range append(append(rooms, within...), ".", "cmd/freshkeel", "demo") {
		_, text := imports(t, dir)
		for _, call := range []string{"os.Rename(", "windows.MoveFile", "syscall.Rename(", "unix.Rename("} {
			if filepath.ToSlash(dir) != "internal/tree" {
				assert.NotContains(t, text, call, "%s: tree.Rename is for that", dir)
			}
		}
	}
}

// What has to be closed is closed by whoever opened it, in the same function: a writer, which
// keeps the locker from giving space back, a push, which keeps other pushes out, and a
// transaction. One that is handed on is returned, or is somebody's field.
func TestWhatIsOpenedIsClosed(t *testing.T) {
	opens := map[string]bool{"Writer": true, "Begin": true}
	runs := map[string]bool{"begin": true, "open": true} // of package change
	seen := 0
	require.NoError(t, filepath.WalkDir(".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") || strings.HasSuffix(p, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, p, nil, 0)
		require.NoError(t, err)
		for _, d := range f.Decls {
			fn, is := d.(*ast.FuncDecl)
			if !is || fn.Body == nil {
				continue
			}
			opened, closed := map[string]token.Pos{}, map[string]bool{}
			ast.Inspect(fn.Body, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.AssignStmt:
					call, is := n.Rhs[0].(*ast.CallExpr)
					if !is {
						break
					}
					sel, is := call.Fun.(*ast.SelectorExpr)
					on, local := n.Lhs[0].(*ast.Ident)
					// A logbook's entry is begun, too: of that nothing stays open.
					of := opens
					if strings.HasPrefix(filepath.ToSlash(p), "internal/change/") {
						of = runs
					}
					if from := types.ExprString(call.Fun); is && local && of[sel.Sel.Name] && !strings.Contains(from, "Book.") {
						opened[on.Name] = n.Pos()
					}
				case *ast.DeferStmt:
					if sel, is := n.Call.Fun.(*ast.SelectorExpr); is && strings.EqualFold(sel.Sel.Name, "close") {
						closed[types.ExprString(sel.X)] = true
					}
				case *ast.ReturnStmt:
					for _, r := range n.Results {
						closed[types.ExprString(r)] = true
					}
				}
				return true
			})
			for name, at := range opened {
				seen++
				assert.True(t, closed[name], "%s: %s is opened and not closed by a defer", set.Position(at), name)
			}
		}
		return nil
	}))
	assert.Greater(t, seen, 6)
}
