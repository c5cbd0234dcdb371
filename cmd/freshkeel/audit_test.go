//go:build unix

package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// auditOf is what «audit --json» says: kind and way of each path.
func (p place) auditOf(more ...string) (clean bool, found map[string]string, r map[string]any) {
	p.T.Helper()
	out := p.Run(append([]string{"--json", "audit"}, more...)...)
	require.NoError(p.T, json.Unmarshal([]byte(out.Out), &r), out.Out+out.Err)
	found = map[string]string{}
	for _, f := range r["findings"].([]any) {
		one := f.(map[string]any)
		found[one["path"].(string)] = one["kind"].(string) + ", " + one["way"].(string)
	}
	clean = r["clean"].(bool)
	want := exitDone
	if !clean {
		want = exitDiffers
	}
	require.Equal(p.T, want, out.Code, "exit 0 only when clean")
	return clean, found, r
}

// An audit tells missing, changed, foreign, rights, and whose the content is that stands there;
// it asks no source. It puts back what it can while the server runs on.
func TestAnAuditTellsWhatIsNotAsItWasPutThere(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1])
	p.OK("adopt", p.Install, "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"))
	p.OK("start")
	p.OK("refit", "3.5.0")
	require.NoError(t, os.RemoveAll(p.Harbour.Builds), "no source is needed")
	clean, found, _ := p.auditOf()
	require.True(t, clean, found)
	pid := p.Status().Server.PID

	at := func(name string) string { return filepath.Join(p.Install, filepath.FromSlash(name)) }
	was := p.Tree()
	require.NoError(t, os.Remove(at("lib/lanterns.txt")))
	require.NoError(t, os.Remove(at("lib")))
	rot, err := os.ReadFile(at("tracks/fern-mile.track"))
	require.NoError(t, err)
	fi, err := os.Stat(at("tracks/fern-mile.track"))
	require.NoError(t, err)
	rot[3] ^= 1
	f, err := os.OpenFile(at("tracks/fern-mile.track"), os.O_WRONLY, 0)
	require.NoError(t, err)
	f.Write(rot)
	f.Close()
	require.NoError(t, os.Chtimes(at("tracks/fern-mile.track"), fi.ModTime(), fi.ModTime()), "a date that lies")
	// A file of the build before, with its own date, as somebody lays it over by hand.
	p.Put("tracks/dew-loop.track", "dew loop, surveyed for 3.4.1\n")
	require.NoError(t, os.Chmod(at("assets/snails.pak"), 0o600))
	p.Put("mods/a [1]/hop*.lua", "hop\n")
	p.Put("mods/b/skip.lua", "skip\n")
	p.Put("note.txt", "remember the milk\n")
	p.Put("members.txt", "wren\n") // the operator's own
	jar, err := os.ReadFile(at("mossgate.jar"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at("mossgate.jar"), append(jar, 0), 0o644)) // which the server has open

	if os.Geteuid() == 0 { // nobody else may give files away
		require.NoError(t, os.Chown(at("open-gates.sh"), 4321, 4321), "the operator's own is no finding")
		require.NoError(t, os.Chown(at("tracks/lantern-row.track"), 4321, 4321))
		_, found, _ := p.auditOf("--only", "tracks/lantern-row.track")
		assert.Equal(t, map[string]string{"tracks/lantern-row.track": "owner, now"}, found)
		p.auditOf("--only", "tracks/lantern-row.track", "--mend")
		require.NoError(t, os.Chown(at("open-gates.sh"), 0, 0))
	}
	_, found, r := p.auditOf()
	assert.Equal(t, map[string]string{
		"lib/lanterns.txt": "missing, now", "tracks/fern-mile.track": "changed, now",
		"tracks/dew-loop.track": "changed, now", "assets/snails.pak": "mode, now",
		"mossgate.jar": "changed, stopped", "mods": "foreign, by hand", "note.txt": "foreign, by hand",
	}, found)
	assert.Equal(t, []any{"mossgate.conf"}, r["yours"])
	said := p.Exits(exitDiffers, "audit", "--all").Out
	assert.Regexp(t, `its content is another, though its\s+date is\s+the old one`, said)
	assert.Regexp(t, `it is the\s+file of 3.4.1`, said)
	assert.Contains(t, said, "its mode is 0600, and was 0644")
	assert.Contains(t, said, "mods/ (2 files)")
	assert.Contains(t, said, "--add server.keep 'mods/**' 'note.txt'")

	again := p.OK("--json", "audit", "--only", "assets/night.pak").Out
	assert.Contains(t, again, `"clean": true`)
	_, _, r = p.auditOf("--mend")
	assert.Len(t, r["mended"], 4)
	_, found, _ = p.auditOf("--deep")
	assert.Equal(t, map[string]string{"mossgate.jar": "changed, stopped", "mods": "foreign, by hand",
		"note.txt": "foreign, by hand"}, found, "what the server runs stays until it is stopped")
	assert.Equal(t, pid, p.Status().Server.PID, "the server ran on")
	p.OK("stop")
	p.auditOf("--mend")
	p.OK("profile", "set", "--add", "server.keep", "mods/**", "note.txt")
	clean, found, r = p.auditOf("--deep")
	assert.True(t, clean, found)
	assert.Greater(t, r["files_listed"], 5.0)
	now := p.Tree()
	for at := range was {
		if at != "members.txt" && at != "freshkeel.toml" && !strings.HasPrefix(at, "gardens") {
			assert.Equal(t, was[at], now[at], at)
		}
	}
	p.OK("rollback") // what was mended does not stand in its way
	assert.Equal(t, "3.4.1", p.Status().Version)
	clean, found, _ = p.auditOf()
	assert.True(t, clean, found)
}

// What is not kept is told as that, and hostile names are harmless.
func TestAnAuditWithoutTheBuildAndWithHostileNames(t *testing.T) {
	t.Parallel()
	p := place{proving.Bare(t)}
	p.Put("run.sh", "#!/bin/sh\nexec sleep 60\n")
	p.Put("assets/night.pak", "dark")
	p.Put("assets/snails.pak", "slow")
	p.OK("adopt", p.Install, "--version", "1.0")
	p.Put("ev\x1b[31mil\nname", "x")
	require.NoError(t, os.Symlink("/etc", filepath.Join(p.Install, "etc")))
	require.NoError(t, os.Remove(filepath.Join(p.Install, "assets", "night.pak")))
	r := p.Exits(exitDiffers, "audit")
	assert.NotContains(t, r.Out, "\x1b[31m")
	assert.Regexp(t, `missing +assets/night.pak`, r.Out)
	assert.Regexp(t, `the locker does not have\s+what was there`, r.Out)
	assert.Contains(t, r.Out, "adopt "+p.Install+" --build PATH")
	assert.Regexp(t, `foreign +etc`, r.Out)
	assert.Equal(t, exitDiffers, p.Run("audit", "--mend").Code)
	assert.NoFileExists(t, filepath.Join(p.Install, "assets", "night.pak"))
	require.NoError(t, os.Chtimes(filepath.Join(p.Install, "assets", "snails.pak"), time.Now(), time.Now()))
	_, found, _ := p.auditOf()
	assert.NotContains(t, found, "assets/snails.pak", "another date is no other content")
}

// What was edited since the running server read it is told: by status, before a refit, and by a
// rollback that would take it back.
func TestWhatWasEditedSinceTheLastGoodStart(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1])
	p.OK("profile", "set", "server.settings", "mossgate.conf", "*.sh")
	p.OK("start")
	edited := func() (out []string) {
		var st struct {
			Edited []struct{ Path, What, How string }
		}
		require.NoError(t, json.Unmarshal([]byte(p.OK("--json", "status").Out), &st))
		for _, e := range st.Edited {
			out = append(out, e.Path+", "+e.What+", "+e.How)
		}
		return out
	}
	assert.Empty(t, edited())
	now := time.Now()
	require.NoError(t, os.Chtimes(filepath.Join(p.Install, "open-gates.sh"), now, now), "another date is no edit")
	assert.Empty(t, edited())
	p.Put("mossgate.conf", p.Read("mossgate.conf")+"night = longest\n")
	p.Put("hop.sh", "#!/bin/sh\n")
	assert.Equal(t, []string{"hop.sh, settings, new", "mossgate.conf, settings, edited"}, edited())
	assert.Regexp(
		t,
		`edited +since the server last came up[\s\S]*mossgate.conf \(settings, edited at`,
		p.OK("status").Out,
	)
	assert.Contains(t, p.OK("preflight", "3.5.0").Out, "2 files were edited since the server last came up")
	p.OK("refit", "3.5.0")
	assert.Empty(t, edited(), "the new server has read it")
	p.Put("mossgate.conf", strings.Replace(p.Read("mossgate.conf"), "longest", "short", 1))
	assert.Contains(t, p.OK("rollback", "--dry-run").Out, "mossgate.conf was edited since, and goes back too")
}
