//go:build linux

package hostile

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A copy is held against what was sent to it: a set that is gone, or another one, or no file any more,
// is named, and so is a pack; the list says what a look has shown, and when. Nothing that stands in the
// place of a file of ours keeps a command waiting.
func TestACopyThatLostSetsIsNotWhole(t *testing.T) {
	t.Parallel()
	p := newPond(t)
	copied := p.at("copy")
	require.NoError(t, os.Mkdir(copied, 0o700))
	profile := profileText + "[copy]\nto = \"" + copied + "\"\n"
	p.put("srv/freshkeel.toml", profile)
	p.ok("backup", "take")
	p.put("srv/world/new.dat", "grown\n")
	p.ok("backup", "take")
	assert.Contains(t, p.ok("backup", "check", "--copy"), "WHOLE")
	sets, err := filepath.Glob(filepath.Join(copied, "sets/*/b000*.set"))
	require.NoError(t, err)
	require.Len(t, sets, 2)
	first, second := sets[0], sets[1]
	whole, err := os.ReadFile(first)
	require.NoError(t, err)
	other, err := os.ReadFile(second)
	require.NoError(t, err)
	put := func(t *testing.T, at string, b []byte) {
		require.NoError(t, os.RemoveAll(at))
		if b != nil {
			require.NoError(t, os.WriteFile(at, b, 0o600))
		}
	}
	pack := func() string {
		packs, err := filepath.Glob(filepath.Join(copied, "packs/*.zst"))
		require.NoError(t, err)
		require.NotEmpty(t, packs)
		return packs[0]
	}
	for name, c := range map[string]struct {
		spoil func()
		says  string
	}{
		"deleted":                {func() { put(t, first, nil) }, "b0001 in " + copied + ": it was sent, and is not there any more"},
		"exchanged":              {func() { put(t, first, other) }, "b0001 in " + copied + ": another backup stands there than was sent"},
		"a pipe":                 {func() { put(t, first, nil); syscall.Mkfifo(first, 0o600) }, "b0001 in " + copied + ": it was sent, and is not there any more"},
		"a link to a device":     {func() { put(t, first, nil); os.Symlink("/dev/zero", first) }, "b0001 in " + copied + ": it was sent, and is not there any more"},
		"a pack that is deleted": {func() { os.Rename(pack(), pack()+".away") }, "a pack that it needs is not there any more"},
	} {
		c.spoil()
		r := p.run("backup", "check", "--copy")
		assert.Equal(t, 1, r.code, "%s: %s", name, r.out)
		assert.Contains(t, strings.Join(strings.Fields(r.out), " "), c.says, name)
		flat := strings.Join(strings.Fields(p.ok("backup", "list")), " ")
		assert.Contains(t, flat, "not in the other place when it was last looked at", name)
		if away, _ := filepath.Glob(filepath.Join(copied, "packs/*.away")); len(away) > 0 {
			require.NoError(t, os.Rename(away[0], strings.TrimSuffix(away[0], ".away")))
		}
		put(t, first, whole)
		assert.Contains(t, p.ok("backup", "check", "--copy"), "WHOLE", name)
		assert.Contains(t, p.ok("backup", "list"), "all were in the other place when it was last looked at", name)
	}
	// All of it gone: only what this machine knows tells.
	require.NoError(t, os.RemoveAll(filepath.Join(copied, "sets")))
	require.NoError(t, os.RemoveAll(filepath.Join(copied, "packs")))
	r := p.run("backup", "check", "--copy")
	assert.NotEqual(t, 0, r.code, r.out)
	assert.NotContains(t, r.out, "WHOLE")
	assert.Contains(t, strings.Join(strings.Fields(p.run("backup", "list").out), " "), "other place when it was last looked at")
	p.ok("backup", "push")
	assert.Contains(t, p.ok("backup", "check", "--copy"), "WHOLE", "what is here is sent anew")
}

// Pipes and devices in the place of a copy's or a locker's files keep no command waiting, a finished refit
// least of all, and an interrupt ends it.
func TestNothingInAFilesPlaceKeepsACommandWaiting(t *testing.T) {
	t.Parallel()
	p := newPond(t)
	copied := p.at("copy")
	require.NoError(t, os.Mkdir(copied, 0o700))
	p.put("srv/freshkeel.toml", profileText+"[copy]\nto = \""+copied+"\"\n")
	p.ok("backup", "take")
	first := func(dir, ending string) string { // which one it is may change: what can't be read is sent anew
		list, err := filepath.Glob(filepath.Join(dir, "packs/*"+ending))
		require.NoError(t, err)
		require.NotEmpty(t, list)
		return list[0]
	}
	index := func(dir string) string { return first(dir, ".idx") }
	pack := func(dir string) string { return first(dir, ".zst") }
	locker := filepath.Join(p.home, "locker")
	held, err := filepath.Glob(filepath.Join(p.home, "copies/*/held"))
	require.NoError(t, err)
	require.NotEmpty(t, held)
	for name, find := range map[string]func() string{
		"the copy's keeper": func() string { return filepath.Join(copied, "keeper") },
		"its index":         func() string { return index(copied) }, "its pack": func() string { return pack(copied) },
		"an index": func() string { return index(locker) }, "a pack": func() string { return pack(locker) },
		"what is known":           func() string { return held[0] },
		"whose the copy is known": func() string { return filepath.Join(filepath.Dir(held[0]), "keeper") },
	} {
		for _, kind := range []string{"pipe", "device"} {
			at := find()
			away := p.at("away")
			require.NoError(t, os.Rename(at, away))
			if kind == "pipe" {
				require.NoError(t, syscall.Mkfifo(at, 0o600))
			} else {
				require.NoError(t, os.Symlink("/dev/zero", at))
			}
			began := time.Now()
			for _, args := range [][]string{{"backup", "take"}, {"backup", "check", "--copy"}, {"backup", "list"}, {"refit", "--from", "next-2.0"}, {"rollback"}} {
				p.run(args...)
			}
			assert.Less(t, time.Since(began), 40*time.Second, "%s as a %s", name, kind)
			require.NoError(t, os.RemoveAll(at))
			require.NoError(t, os.Rename(away, at))
		}
	}
}
