//go:build unix

package install

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// openFolder is a folder to which everybody comes.
func openFolder(t *testing.T) string {
	t.Helper()
	top := t.TempDir()
	for d := top; d != os.TempDir(); d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	return top
}

// A place that root writes anew is root's only where nobody else can change the way to it; below one other
// user's folder the work is theirs, below several users' nobody's. A sticky folder counts for what stands in
// it alone.
func TestWhoseWorkATargetIs(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root gives folders away")
	}
	const other = 54321
	t.Setenv("FRESHKEEL_HOME", t.TempDir())
	top := openFolder(t)
	folder := func(rel string, mode os.FileMode, uid int) {
		at := filepath.Join(top, rel)
		require.NoError(t, os.MkdirAll(at, 0o755))
		require.NoError(t, os.Chown(at, uid, uid))
		require.NoError(t, os.Chmod(at, mode))
	}
	folder("roots", 0o755, 0)
	folder("theirs", 0o755, other)
	folder("theirs/of-another", 0o755, other+1)
	folder("shared", 0o777, 0)
	folder("sticky", 0o777|os.ModeSticky, 0)
	folder("sticky/theirs", 0o755, other)
	require.NoError(t, os.Symlink("../theirs", filepath.Join(top, "roots/link")))
	for at, want := range map[string]int{"roots": 0, "roots/new": 0, "roots/new/deep/down": 0, "theirs/new": other, "theirs": other,
		"roots/link/new": other, "sticky/new": 0, "sticky/theirs/new": other, "theirs/of-another/new": -1, "shared/new": -1} {
		o, h, err := EnterTarget(filepath.Join(top, at))
		switch {
		case want < 0:
			assert.ErrorContains(t, err, "could be led elsewhere by", at)
		case want == 0:
			assert.NoError(t, err, at)
			assert.Nil(t, o, at)
		default:
			require.NoError(t, err, at)
			require.NotNil(t, o, at)
			assert.Equal(t, want, o.UID, at)
		}
		if h != nil {
			h.Close()
		}
	}
	assert.NoError(t, Settled(filepath.Join(top, "roots")))
	assert.NoError(t, Settled(filepath.Join(top, "sticky")), "what root makes there nobody else exchanges")
	for _, at := range []string{"theirs", "shared", "sticky/theirs", "roots/link"} {
		assert.ErrorContains(t, Settled(filepath.Join(top, at)), "root writes nothing there", at)
	}
}

// A command begins as root, as the folder's owner, or not at all.
func TestAsWhomACommandBegins(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root gives folders away")
	}
	const other = 54321
	t.Setenv("FRESHKEEL_HOME", t.TempDir())
	top := openFolder(t)
	folder := func(rel string, uid int) {
		at := filepath.Join(top, rel)
		require.NoError(t, os.MkdirAll(at, 0o755))
		require.NoError(t, os.Chown(at, uid, uid))
	}
	folder("roots/srv", 0)
	folder("theirs", other)
	folder("theirs/srv", other)
	folder("theirs/roots", 0)
	folder("roots/theirs", other)
	folder("theirs/of-another", other+1)
	for name, to := range map[string]string{"theirs/to-roots": "../roots/srv", "theirs/to-another": "of-another", "theirs/to-own": "srv",
		"roots/to-theirs": "../theirs/srv"} {
		require.NoError(t, os.Symlink(to, filepath.Join(top, name)))
		if filepath.Dir(name) == "theirs" {
			require.NoError(t, os.Lchown(filepath.Join(top, name), other, other))
		}
	}
	for at, want := range map[string]struct {
		uid int
		why string
	}{"roots/srv": {0, ""}, "theirs/srv": {other, ""}, "roots/theirs": {other, ""}, "theirs/to-own": {other, ""},
		"roots/to-theirs": {other, ""}, "theirs/of-another": {other + 1, ""}, "none": {0, ""},
		"theirs/roots":      {0, "root must not be led elsewhere"},
		"theirs/to-roots":   {0, "root must not be led elsewhere"},
		"theirs/to-another": {0, "leads through a link in"}} {
		o, err := Enter(filepath.Join(top, at))
		switch {
		case want.why != "":
			assert.ErrorContains(t, err, want.why, at)
		case want.uid == 0:
			assert.NoError(t, err, at)
			assert.Nil(t, o, at)
		default:
			require.NoError(t, err, at)
			require.NotNil(t, o, at)
			assert.Equal(t, want.uid, o.UID, at)
		}
	}
	t.Setenv("FRESHKEEL_HOME", "")
	defer func(was string) { lockersOf = was }(lockersOf)
	lockersOf = filepath.Join(top, "roots/lockers")
	o, err := Enter(filepath.Join(top, "roots/theirs"))
	require.NoError(t, err)
	assert.Equal(t, homeOf(other), o.Place, "a user without a home gets a folder")
	fi, err := os.Stat(o.Place)
	require.NoError(t, err)
	assert.Equal(t, os.ModeDir|0o700, fi.Mode())
	require.NoError(t, os.Chmod(o.Place, 0o777))
	_, err = Enter(filepath.Join(top, "roots/theirs"))
	assert.ErrorContains(t, err, "is not a folder of that user's alone")
	lockersOf = filepath.Join(top, "theirs/lockers")
	_, err = Enter(filepath.Join(top, "roots/theirs"))
	assert.ErrorContains(t, err, "can be exchanged by others than root")
	assert.NoDirExists(t, homeOf(other))
}
