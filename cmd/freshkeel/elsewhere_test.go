//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"freshkeel/demo"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A folder that stands elsewhere is part of the install: the build's files there are exchanged,
// the world there is backed up and restored, and both go back. A disk that is not there is not
// taken for an empty one, and no second server shares the folder.
func TestFoldersElsewhereBelongToTheInstall(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1])
	p.OK("adopt", p.Install, "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"))
	tracks, gardens := filepath.Join(p.Dir, "elsewhere", "tracks"), filepath.Join(p.Dir, "elsewhere", "gardens")
	require.NoError(t, os.MkdirAll(filepath.Dir(tracks), 0o755))
	for _, at := range []string{tracks, gardens} {
		require.NoError(t, os.Rename(filepath.Join(p.Install, filepath.Base(at)), at))
		require.NoError(t, os.Symlink(at, filepath.Join(p.Install, filepath.Base(at))))
	}
	told := p.Exits(exitRefused, "preflight", "3.5.0").Out
	assert.Contains(t, told, "freshkeel profile set elsewhere.tracks "+tracks, "the refusal says the way")
	p.OK("profile", "set", "elsewhere.tracks", tracks)
	p.OK("profile", "set", "elsewhere.gardens", gardens)
	p.OK("profile", "set", "place.lib/lanterns.txt", filepath.Join(tracks, "lanterns.txt"))
	dry := p.OK("refit", "3.5.0", "--dry-run").Out
	assert.Contains(t, dry, "tracks/lantern-row.track")
	assert.Contains(t, dry, "tracks/lanterns.txt", "[place] may name it with its whole path")

	p.OK("start")
	p.OK("refit", "3.5.0")
	lanterns, err := os.ReadFile(filepath.Join(tracks, "lanterns.txt"))
	require.NoError(t, err)
	assert.Equal(t, "twelve of them\n", string(lanterns))
	assert.NoFileExists(t, filepath.Join(p.Install, "lib", "lanterns.txt"))
	p.OK("rollback")
	assert.NoFileExists(t, filepath.Join(tracks, "lantern-row.track"))
	assert.FileExists(t, filepath.Join(tracks, "fern-mile.track"))
	p.OK("stop")

	p.OK("backup", "take")
	garden := filepath.Join(gardens, "fen-east.garden")
	was, err := os.ReadFile(garden)
	require.NoError(t, err)
	require.NoError(t, os.Remove(garden))
	p.OK("backup", "restore", p.Backups()[len(p.Backups())-1])
	now, err := os.ReadFile(garden)
	require.NoError(t, err)
	assert.Equal(t, was, now)

	second := *p.Place
	second.Install = filepath.Join(p.Dir, "second")
	require.NoError(t, os.CopyFS(second.Install, os.DirFS(p.Install)))
	require.NoError(t, os.RemoveAll(filepath.Join(second.Install, ".freshkeel")))
	for _, at := range []string{"tracks", "gardens"} {
		require.NoError(t, os.RemoveAll(filepath.Join(second.Install, at)))
	}
	r := second.Exits(exitFailed, "backup", "take")
	assert.Contains(t, r.Err, "belongs to another server, that at "+p.Install)

	beside := filepath.Join(p.Dir, "beside")
	told = p.OK("lay", beside, "--like", p.Install, "--no-start").Out
	assert.Contains(t, told, "stand elsewhere")
	assert.FileExists(t, filepath.Join(beside, "tracks", "fern-mile.track"))

	require.NoError(t, os.Rename(tracks, tracks+"-away"))
	assert.Contains(t, p.Exits(exitFailed, "preflight").Err, "is not there")
	require.NoError(t, os.Mkdir(tracks, 0o755)) // as the mount point of a disk that is not mounted
	for _, command := range [][]string{{"preflight"}, {"refit"}, {"backup", "take"}} {
		assert.Contains(t, p.Exits(exitFailed, command...).Err, "has lost the mark that it belongs to this server")
	}
	require.NoError(t, os.Remove(tracks))
	require.NoError(t, os.Rename(tracks+"-away", tracks))
	p.OK("preflight")

	// What somebody else could exchange leads root nowhere (P11).
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chmod(filepath.Dir(tracks), 0o777))
		assert.Contains(t, p.Exits(exitFailed, "backup", "take").Err, "can be exchanged by everybody")
		require.NoError(t, os.Chmod(filepath.Dir(tracks), 0o755))
	}
	// What is in the way under the name is told; the server can still be stopped.
	require.NoError(t, os.Remove(filepath.Join(p.Install, "tracks")))
	p.Put("tracks/stray.track", "a stray")
	assert.Contains(t, p.Exits(exitFailed, "refit", "3.5.0").Err, "the install has a folder of that name")
	p.OK("stop")
	require.NoError(t, os.RemoveAll(filepath.Join(p.Install, "tracks")))

	// What went out of it is kept in it, and a release tells that it would be lost.
	require.NoError(t, os.Symlink(tracks, filepath.Join(p.Install, "tracks")))
	p.OK("refit", "3.5.0")
	aside := 0
	for _, folder := range []string{p.Install, tracks, gardens} {
		for _, depth := range []string{"*", "*/*"} {
			all, err := filepath.Glob(filepath.Join(folder, ".freshkeel", "refits", "*", "displaced", depth))
			require.NoError(t, err)
			for _, at := range all {
				if fi, err := os.Stat(at); err == nil && fi.Mode().IsRegular() {
					aside++
				}
			}
		}
	}
	assert.FileExists(
		t,
		filepath.Join(tracks, ".freshkeel", "refits", p.LastEntry().ID, "displaced", "tracks", "old-mill.track"),
	)
	lost := p.Exits(exitFailed, "adopt", p.Install, "--release", "--keep-backups").Err
	assert.Regexp(t, fmt.Sprintf(`this would be lost: %d files, .* that refits moved aside`, aside), lost)
	p.OK("adopt", p.Install, "--release", "--drop-backups", "--yes")
	assert.NoDirExists(t, filepath.Join(tracks, ".freshkeel"))
}
