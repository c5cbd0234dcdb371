package putback

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bench is an install and its returner.
type bench struct {
	t  *testing.T
	in *install.Install
	*Returner
}

func newBench(t *testing.T) *bench {
	t.Helper()
	in := install.New(t.TempDir(), &profile.Profile{}, install.Options{Home: t.TempDir()})
	require.NoError(t, os.MkdirAll(in.State(), 0o755))
	return &bench{t, in, New(in)}
}

func (s *bench) put(files map[string]string) {
	s.t.Helper()
	for at, body := range files {
		full := s.in.Path(at)
		if strings.HasSuffix(at, "/") {
			require.NoError(s.t, os.MkdirAll(full, 0o755))
			continue
		}
		require.NoError(s.t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(s.t, os.WriteFile(full, []byte(body), 0o644))
	}
}

// putBack, at its own level: any mess becomes the backup again, and a second
// call finds nothing to do.
func TestPutBackMakesAnyMessTheBackupAgain(t *testing.T) {
	s := newBench(t)
	s.put(map[string]string{"same": "s", "rewritten": "r", "deleted/deep/f": "f", "file": "x", "folder/in": "i",
		"touched": "t", "logs/l": "l"})
	require.NoError(t, os.Symlink("same", s.in.Path("link")))
	require.NoError(t, os.Mkdir(s.in.Path("hollow"), 0o711))
	l, err := s.in.Locker()
	require.NoError(t, err)
	w := l.Writer()
	defer w.Close()
	skip := tree.Patterns{"logs/**"}
	taken, err := w.Take(context.Background(), s.in.Dir, skip, nil, nil, nil)
	require.NoError(t, err)
	set := &locker.Set{Owner: "server-x", Skipped: skip, Entries: taken.Entries}
	require.NoError(t, w.Publish(set))
	before := look(t, s.in.Dir)

	s.put(map[string]string{"rewritten": "R", "new/one": "n", "logs/l": "more"})
	require.NoError(t, os.RemoveAll(s.in.Path("deleted")))
	require.NoError(t, os.Remove(s.in.Path("file")))
	s.put(map[string]string{"file/now/a": "folder"})
	require.NoError(t, os.RemoveAll(s.in.Path("folder")))
	s.put(map[string]string{"folder": "now a file"})
	require.NoError(t, os.Chmod(s.in.Path("touched"), 0o600))
	require.NoError(t, os.Remove(s.in.Path("link")))
	require.NoError(t, os.Symlink("rewritten", s.in.Path("link")))
	require.NoError(t, os.Chmod(s.in.Path("hollow"), 0o755))

	all := func(string) bool { return true }
	quiet := func(string) error { return nil }
	run := swap.Run{Root: s.in.Dir, Dir: s.in.State("refits/r0001/back-1")}
	r, err := s.Put(run, set, Scope{Within: all, TakeAway: all}, quiet)
	require.NoError(t, err)
	assert.Equal(t, before, look(t, s.in.Dir))
	b, err := os.ReadFile(s.in.Path("logs/l"))
	require.NoError(t, err)
	assert.Equal(t, "more", string(b), "skipped")
	for at, body := range map[string]string{"new/one": "n", "rewritten": "R", "file/now/a": "folder",
		"folder": "now a file"} {
		b, err := os.ReadFile(run.Displaced(at))
		require.NoError(t, err, "moved aside, not destroyed")
		assert.Equal(t, body, string(b))
	}
	assert.NotEmpty(t, r.Told())
	run.Dir = s.in.State("refits/r0001/back-2")
	r, err = s.Put(run, set, Scope{Within: all, TakeAway: all}, quiet)
	require.NoError(t, err)
	assert.Zero(t, r.Restored+r.Aside)
	assert.NoDirExists(t, run.Displaced(""))
}

// look lists what is in a folder but for logs: kind, mode, content, target.
func look(t *testing.T, dir string) map[string]string {
	t.Helper()
	list, err := tree.Walk(dir, tree.Patterns{"logs/**"})
	require.NoError(t, err)
	out := map[string]string{}
	for _, e := range list {
		body := ""
		if e.Kind == tree.File {
			b, err := os.ReadFile(filepath.Join(dir, e.Path))
			require.NoError(t, err)
			body = string(b)
		}
		out[e.Path] = strings.Join([]string{string(e.Kind), e.Mode.String(), e.Target, body,
			time.Unix(0, e.Mtime).Format(time.RFC3339Nano)}, " ")
		if e.Kind == tree.Link {
			out[e.Path] = "link " + e.Target
		}
	}
	return out
}

// A build that did nothing but create a file is undone as well.
func TestPutBackOfNothingButNewFiles(t *testing.T) {
	s := newBench(t)
	s.put(map[string]string{"a": "a"})
	l, err := s.in.Locker()
	require.NoError(t, err)
	w := l.Writer()
	defer w.Close()
	taken, err := w.Take(context.Background(), s.in.Dir, nil, nil, nil, nil)
	require.NoError(t, err)
	set := &locker.Set{Owner: "server-x", Entries: taken.Entries}
	require.NoError(t, w.Publish(set))
	s.put(map[string]string{"new/b": "b"})
	all := func(string) bool { return true }
	run := swap.Run{Root: s.in.Dir, Dir: s.in.State("refits/r0001/back-1")}
	r, err := s.Put(run, set, Scope{Within: all, TakeAway: all}, func(string) error { return nil })
	require.NoError(t, err)
	assert.Equal(t, 1, r.Aside)
	assert.NoDirExists(t, s.in.Path("new"))
	assert.FileExists(t, run.Displaced("new/b"))
}
