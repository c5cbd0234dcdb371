//go:build unix

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The same on a file system that really is full: once the install's own, once
// the locker's.
func TestDiskReallyFull(t *testing.T) {
	t.Parallel()
	for _, where := range []string{"install", "locker"} {
		t.Run(where, func(t *testing.T) {
			t.Parallel()
			p := mossgate(t)
			p.OK("fetch", "3.5.0")
			small := filepath.Join(p.Dir, "small")
			require.NoError(t, os.Mkdir(small, 0o755))
			if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs",
				small).CombinedOutput(); err != nil {
				t.Skipf("this machine lets nobody mount: %s", out)
			}
			t.Cleanup(func() { exec.Command("umount", "-l", small).Run() })
			moved := map[string]string{"install": p.Install, "locker": filepath.Join(p.Home, "locker")}[where]
			require.NoError(t, exec.Command("cp", "-a", moved+"/.", small).Run())
			require.NoError(t, os.RemoveAll(moved))
			require.NoError(t, os.Mkdir(moved, 0o755))
			require.NoError(t, exec.Command("mount", "--move", small, moved).Run())
			t.Cleanup(func() { p.Run("stop"); exec.Command("umount", "-l", moved).Run() })
			p.OK("start")
			before := p.Tree()
			fill, err := os.Create(filepath.Join(moved, "fill"))
			require.NoError(t, err)
			for _, err = fill.Write(make([]byte, 4096)); err == nil; _, err = fill.Write(make([]byte, 4096)) {
			}
			fill.Close()

			// The check sees it coming while the server runs.
			r := p.Exits(exitRefused, "refit", "3.5.0")
			assert.Contains(t, r.Out, "free")
			// And where it is told to go on, it still changes nothing.
			r = p.Exits(exitFailed, "refit", "3.5.0", "--accept", "disk")
			assert.Contains(t, r.Err, "no space left on device")
			require.NoError(t, os.Remove(fill.Name()))
			assert.Equal(t, before, p.Tree())
			assert.True(t, p.Status().Server.Running)
			p.OK("refit", "3.5.0", "--accept", "disk")
		})
	}
}

// A world, or a part of the build, on a disk of its own: what is exchanged there is
// staged there, a refit that fails puts the world back, and so does a restore. A
// disk that is not mounted when the way back needs it is named, and nothing is
// taken for done.
func TestTheWorldOnAnotherDisk(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OntoDisk("gardens")
	p.OntoDisk("tracks")
	p.OK("start")
	p.OK("refit", "3.5.0")
	assert.FileExists(t, filepath.Join(p.Install, "tracks/.freshkeel/refits/r0001/displaced/tracks/old-mill.track"))
	before := p.Tree()
	p.Exits(exitRolledBack, "refit", "3.6.0")
	assert.Equal(t, before, p.Tree())
	assert.True(t, p.Status().Server.Running)
	p.OK("stop")
	was := p.Tree()
	p.OK("backup", "take", "--label", "by hand")
	id := p.Backups()[len(p.Backups())-1]
	for _, at := range []string{"gardens/fen-west.garden", "tracks/new.track", "members.txt"} {
		p.Put(at, "spoilt\n")
	}
	require.NoError(t, os.Remove(filepath.Join(p.Install, "gardens/fen-east.garden")))
	p.OK("backup", "restore", id)
	assert.Equal(t, was, p.Tree())
	assert.Equal(t, "spoilt\n", func() string {
		list, _ := filepath.Glob(filepath.Join(p.Install, "tracks/.freshkeel/refits/*/*/displaced/tracks/new.track"))
		require.Len(t, list, 1, "what was moved aside is kept on its own disk")
		b, _ := os.ReadFile(list[0])
		return string(b)
	}())

	tracks := filepath.Join(p.Install, "tracks")
	aside := filepath.Join(p.Dir, "aside")
	require.NoError(t, os.Mkdir(aside, 0o755))
	require.NoError(t, exec.Command("mount", "--move", tracks, aside).Run())
	r := p.Exits(exitFailed, "rollback")
	assert.Contains(t, r.Err, "tracks was on a file system of its own when files were exchanged there, and it is not mounted now")
	require.NoError(t, exec.Command("mount", "--move", aside, tracks).Run())
	p.OK("rollback")
	assert.Equal(t, "3.4.1", p.Status().Version)
}

// Our own folder on another disk is refused, and so is a file that is mounted by
// itself: nothing could be exchanged there.
func TestWhatCanNotBeExchangedIsRefused(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("start")
	require.NoError(t, os.MkdirAll(filepath.Join(p.Install, ".freshkeel/refits"), 0o755))
	mount := func(how ...string) {
		at := filepath.Join(p.Install, how[len(how)-1])
		if out, err := exec.Command("mount", append(how[:len(how)-1:len(how)-1], at)...).CombinedOutput(); err != nil {
			t.Skipf("this machine lets nobody mount: %s", out)
		}
		t.Cleanup(func() { exec.Command("umount", "-l", at).Run() })
	}
	mount("-t", "tmpfs", "-o", "size=1m", "tmpfs", ".freshkeel/refits")
	r := p.Exits(exitRefused, "refit", "3.5.0")
	assert.Contains(t, r.Out, ".freshkeel is on another file system than the install")
	require.NoError(t, exec.Command("umount", filepath.Join(p.Install, ".freshkeel/refits")).Run())
	proving.Put(t, filepath.Join(p.Dir, "members.txt"), "Ada\n")
	mount("--bind", filepath.Join(p.Dir, "members.txt"), "members.txt")
	r = p.Exits(exitRefused, "refit", "3.5.0")
	assert.Contains(t, r.Out, "members.txt is mounted there as a single file")
	assert.True(t, p.Status().Server.Running)
}
