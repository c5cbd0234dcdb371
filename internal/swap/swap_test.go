package swap

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var errHalt = errors.New("halt")

// world is an install with one of every kind of exchange ahead of it.
func world(t *testing.T) (Run, *Plan) {
	root := t.TempDir()
	r := Run{Root: root, Dir: filepath.Join(root, ".freshkeel/refits/r0001")}
	for at, body := range map[string]string{"same.txt": "same", "jar": "old", "gone/deep/a": "a", "gone/deep/b": "b",
		"stays/c": "c", "stays/mine": "mine", "caf\xe9": "not UTF-8"} {
		put(t, filepath.Join(root, at), body)
	}
	for at, body := range map[string]string{"jar": "new", "fresh/x": "x", "fresh/er/y": "y", "stays/d": "d"} {
		put(t, r.Staged(at), body)
	}
	for _, dir := range []string{"fresh", "fresh/er"} {
		require.NoError(t, os.MkdirAll(r.StagedDir(dir), 0o755))
	}
	p := &Plan{Steps: []Step{{Add, "fresh/x"}, {Add, "fresh/er/y"}, {Add, "stays/d"}, {Replace, "jar"},
		{Remove, "gone/deep/a"}, {Remove, "gone/deep/b"}, {Remove, "stays/c"}, {Remove, "caf\xe9"},
		{DropDir, "gone"}, {DropDir, "gone/deep"}, {DropDir, "stays"}, {MakeDir, "fresh/er"}, {MakeDir, "fresh"}}}
	Sort(p.Steps)
	require.NoError(t, r.Write(p))
	return r, p
}

func put(t *testing.T, full, body string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(t, os.WriteFile(full, []byte(body), 0o644))
}

func look(t *testing.T, root string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(root, p)
		if rel == ".freshkeel" {
			return filepath.SkipDir
		}
		b, _ := os.ReadFile(p)
		out[rel] = string(b)
		return err
	}))
	return out
}

// haltAfter stops the n-th rename and all that follow.
func haltAfter(n int) func(string) error {
	return func(string) error {
		if n--; n < 0 {
			return errHalt
		}
		return nil
	}
}

func TestApplyAndReverseAreInverse(t *testing.T) {
	r, p := world(t)
	old := look(t, r.Root)
	require.NoError(t, r.Apply(p, nil))
	now := look(t, r.Root)
	assert.Equal(t, map[string]string{".": "", "same.txt": "same", "jar": "new", "fresh": "", "fresh/x": "x",
		"fresh/er": "", "fresh/er/y": "y", "stays": "", "stays/d": "d", "stays/mine": "mine"}, now)
	require.NoError(t, r.Apply(p, nil), "again changes nothing")
	assert.Equal(t, now, look(t, r.Root))
	require.NoError(t, r.Reverse(p, nil))
	assert.Equal(t, old, look(t, r.Root))
	require.NoError(t, r.Reverse(p, nil))
	assert.Equal(t, old, look(t, r.Root))
}

// P2, at the level of renames: cut off anywhere, forwards or backwards, any
// number of times, the exchange still goes wholly either way.
func TestCutOffAnywhereItStillGoesWhollyEitherWay(t *testing.T) {
	for seed := range uint64(100) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 7))
			r, p := world(t)
			old := look(t, r.Root)
			for range random.IntN(5) {
				n := random.IntN(14)
				if random.IntN(2) == 0 {
					r.Apply(p, haltAfter(n))
				} else {
					r.Reverse(p, haltAfter(n))
				}
				q, err := r.Read() // as the next process would
				require.NoError(t, err)
				p = q
			}
			if random.IntN(2) == 0 {
				require.NoError(t, r.Apply(p, nil))
				assert.Equal(t, "new", look(t, r.Root)["jar"])
			}
			require.NoError(t, r.Reverse(p, nil))
			assert.Equal(t, old, look(t, r.Root))
		})
	}
}

// What the new build did to its own files in the meantime is in nobody's way,
// and is not destroyed.
func TestReverseMovesAsideWhatStandsInItsWay(t *testing.T) {
	r, p := world(t)
	old := look(t, r.Root)
	require.NoError(t, r.Apply(p, nil))
	put(t, filepath.Join(r.Root, "gone/deep/a"), "made by the new build")
	require.NoError(t, os.Remove(filepath.Join(r.Root, "jar")))
	require.NoError(t, os.RemoveAll(filepath.Join(r.Root, "fresh")))
	require.NoError(t, r.Reverse(p, nil))
	assert.Equal(t, old, look(t, r.Root))
	b, err := os.ReadFile(filepath.Join(r.Dir, "aside/gone/deep/a"))
	require.NoError(t, err)
	assert.Equal(t, "made by the new build", string(b))
}

func TestApplyDoesNotOverwriteWhatCameSince(t *testing.T) {
	r, p := world(t)
	put(t, filepath.Join(r.Root, "stays/d"), "somebody else's")
	err := r.Apply(p, nil)
	assert.ErrorContains(t, err, "stays/d: something new stands there")
	require.NoError(t, r.Reverse(p, nil))
	assert.Equal(t, "somebody else's", look(t, r.Root)["stays/d"])
}
