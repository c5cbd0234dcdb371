package install

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshkeel/internal/profile"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Some parts alone are what is started and stopped; the rest runs on, what is outside is asked for
// as ever, and players are warned only where the part stops that they hear.
func TestSomePartsAloneLeaveTheRest(t *testing.T) {
	p, err := profile.Parse("p", []byte(`[server]
name = 'pond'
[stop]
tell = 'say bye'
warn = { '1m' = 'say soon' }
off = 'say not so'
[[part]]
name = 'login'
launch = { script = 'login.sh' }
[[part]]
name = 'world'
launch = { script = 'world.sh' }
[[part]]
name = 'songs'
outside = true
host = { unit = 'songs.service' }
`))
	require.NoError(t, err)
	in := New(t.TempDir(), p, Options{Parting: Parting{WhenEmpty: true, AtMost: time.Minute}})
	names := func(list []*Install) string {
		var out []string
		for _, part := range list {
			out = append(out, part.PartName())
		}
		return strings.Join(out, " ")
	}
	login := in.Only([]string{"login"})
	assert.Equal(t, "login songs", names(login.Parts()))
	assert.Equal(t, "world", names(login.Rest()))
	assert.Same(t, in, login.All())
	assert.Same(t, in, login.Parts()[0].All())
	assert.Empty(t, login.Profile.Stop.Tell+login.Profile.Stop.Off)
	assert.Empty(t, login.Profile.Stop.Warn)
	assert.False(t, login.Parting.WhenEmpty, "players are on the world, which runs on")

	world := in.Only([]string{"world"}) // the last of its own, though songs stand behind it
	assert.Equal(t, "login", names(world.Rest()))
	assert.Equal(t, "say bye", world.Profile.Stop.Tell)
	assert.Len(t, world.Profile.Stop.Warn, 1)
	assert.True(t, world.Parting.WhenEmpty)

	assert.Empty(t, in.Rest(), "of the whole server nothing runs on")
	assert.Same(t, in, in.Only([]string{"nobody"}), "names that the profile does not have any more")
	assert.Equal(t, "say bye", in.Profile.Stop.Tell, "the whole is left as it is")
}

// A folder elsewhere is no folder of the system's, none that holds those of many, and no part of another
// server.
func TestAFolderElsewhereIsThisServersAlone(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(other, "world"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(other, profile.FileName), []byte("[server]\nname = 'other'\n"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "disk/maps"), 0o755))
	home := t.TempDir()
	for at, why := range map[string]string{"/etc": "the system's own", "/usr/share": "the system's own", "/var/lib": "the system's own",
		other: "is part of another server, that at " + other, filepath.Join(other, "world"): "is part of another server",
		filepath.Join(dir, "disk/maps"): ""} {
		install := filepath.Join(dir, "srv")
		require.NoError(t, os.MkdirAll(install, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(install, profile.FileName), []byte("[server]\nname = 'p'\n[elsewhere]\nmaps = '"+
			at+"'\n"), 0o644))
		_, err := Open(install, Options{Home: home})
		if why == "" {
			assert.NoError(t, err)
			continue
		}
		if assert.Error(t, err, at) {
			assert.Contains(t, err.Error(), why)
		}
	}
}
