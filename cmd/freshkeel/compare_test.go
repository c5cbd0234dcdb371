//go:build unix

package main

import (
	"archive/zip"
	"encoding/json"
	"fmt"
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

// comparison is what «compare --json» says: the kind of each path.
func (p place) comparison(first, second string, more ...string) map[string]string {
	p.T.Helper()
	out := p.Run(append([]string{"--json", "compare", first, second}, more...)...)
	var r struct {
		Differences []struct{ Kind, Path, From string }
	}
	require.NoError(p.T, json.Unmarshal([]byte(out.Out), &r), out.Out+out.Err)
	found := map[string]string{}
	for _, d := range r.Differences {
		found[d.Path] = d.Kind
		if d.From != "" {
			found[d.Path] += " from " + d.From
		}
	}
	want := exitDiffers
	if len(found) == 0 {
		want = exitDone
	}
	require.Equal(p.T, want, out.Code)
	return found
}

// zipOf packs files, in the order of their names, as of a time.
func zipOf(t *testing.T, at string, when time.Time, stored bool, files ...string) {
	t.Helper()
	f, err := os.Create(at)
	require.NoError(t, err)
	defer f.Close()
	z := zip.NewWriter(f)
	for i := 0; i < len(files); i += 2 {
		h := &zip.FileHeader{Name: files[i], Method: zip.Deflate, Modified: when}
		if stored {
			h.Method = zip.Store
		}
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		_, err = w.Write([]byte(files[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
}

// A client's folder beside the server's: content decides and no date, in archives too; what
// both have is listed as patterns for [source] take.
func TestAClientFolderBesideTheServersWithDatesThatLie(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0])
	p.OK("adopt", p.Install, "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"))
	client := filepath.Join(p.Dir, "client")
	put := func(at, text string) {
		full := filepath.Join(client, filepath.FromSlash(at))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
	}
	old := time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)
	night := p.Read("assets/night.pak")
	put("assets/night.pak", night)
	put("bin/game", "the client's own program")
	put("tracks/fern-mile.track", strings.ToUpper(p.Read("tracks/fern-mile.track"))) // of the same size
	put("tracks/renamed [1].track", p.Read("tracks/dew-loop.track"))
	put("mossgate.conf", "# mossgate settings\nname = mine\n")
	put("ev\x1b[31mil\nname", "x")
	same := filepath.Join(p.Install, "tracks", "fern-mile.track")
	fi, err := os.Stat(same)
	require.NoError(t, err)
	require.NoError(t, os.Chtimes(filepath.Join(client, "tracks", "fern-mile.track"), fi.ModTime(), fi.ModTime()),
		"the same date, and other content")
	require.NoError(
		t,
		os.Chtimes(filepath.Join(client, "assets", "night.pak"), old, old),
		"another date, and the same content",
	)

	assert.Equal(t, map[string]string{
		"tracks/fern-mile.track": "changed", "mossgate.conf": "changed", "bin/game": "added", "ev\x1b[31mil\nname": "added",
		"assets/snails.pak": "gone", "mossgate.jar": "gone", "tracks/old-mill.track": "gone",
		"tracks/renamed [1].track": "moved from tracks/dew-loop.track",
	}, p.comparison("now", client, "--leave", "gardens/**", "--leave", "*.txt", "--leave", "*.sh", "--leave", "*.toml"))
	told := p.Exits(exitDiffers, "compare", "now", client).Out
	assert.NotContains(t, told, "\x1b[31m")
	assert.Contains(t, told, "+name = mine")
	assert.Regexp(t, `moved +tracks/dew-loop.track → tracks/renamed \[1\].track`, told)
	list := p.OK("compare", "now", client, "--list", "both", "--list", "moved").Out
	assert.Equal(t, "assets/night.pak\nmossgate.conf\ntracks/fern-mile.track\ntracks/renamed [[]1].track\n", list)
	p.OK(
		append(
			[]string{"profile", "set", "source.take"},
			strings.Fields("assets/night.pak tracks/fern-mile.track")...)...)
}

// Builds, backups, refits, archives and paths are meant by the names that people give them.
func TestSidesAreNamedAsPeopleNameThem(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1])
	p.OK("adopt", p.Install, "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"))
	p.OK("backup", "take", "--label", "Before the Feast")
	p.OK("refit", "3.5.0")
	p.Put("members.txt", "wren\n")
	builds := map[string]string{
		"assets/snails.pak":        "changed",
		"mossgate.jar":             "changed",
		"mossgate.conf":            "changed",
		"tracks/dew-loop.track":    "changed",
		"lib/lanterns.txt":         "added",
		"tracks/lantern-row.track": "added",
		"README.txt":               "changed",
		"tracks/old-mill.track":    "gone",
	}
	assert.Equal(t, builds, p.comparison("3.4.1", "3.5.0"))
	require.NoError(t, os.RemoveAll(p.Harbour.Builds))
	assert.Equal(t, builds, p.comparison("3.4.1", "3.5.0"), "kept builds need no source")
	now := map[string]string{"members.txt": "changed"}
	for at, kind := range builds {
		now[at] = kind
	}
	assert.Equal(t, now, p.comparison("before the feast", "now", "--leave", "gardens/**"), "a label, in any case")
	assert.Equal(t, now, p.comparison("b0001", "now", "--leave", "gardens/**"))
	assert.Equal(t, now, p.comparison("r0001", "now", "--leave", "gardens/**"), "the state before a refit")
	assert.Empty(t, p.comparison("now", p.Install))

	p.OK("backup", "take", "--label", "3.5.0")
	told := p.Exits(exitUsage, "compare", "3.5.0", "now")
	assert.Contains(t, told.Err, "3.5.0 may mean several things")
	assert.Empty(t, p.comparison("backup:3.5.0", "now"))
	assert.Contains(t, p.Exits(exitUsage, "compare", "nowhere", "now").Err, "sides are: now, a path")
	assert.Contains(t, p.Exits(exitUsage, "compare", "now").Err, "which two")

	// A label is a name everywhere.
	assert.Contains(t, p.OK("backup", "show", "before the feast").Out, "b0001")
	p.OK("backup", "check", "Before the Feast")
	p.OK("backup", "export", "before the feast", filepath.Join(p.Dir, "feast.tar"))
	assert.Contains(t, p.OK("backup", "restore", "before the feast", "--dry-run").Out, "13 exchanges")
	assert.Contains(
		t,
		p.Exits(exitFailed, "backup", "show", "before the fest").Err,
		"did you mean the label 'Before the Feast'",
	)
	p.OK("backup", "take", "--label", "Before the Feast")
	assert.Contains(t, p.Exits(exitUsage, "backup", "show", "before the feast").Err, "2 backups have the label")
	assert.Empty(t, p.comparison("b0001", filepath.Join(p.Dir, "feast.tar"), "--leave", "freshkeel.toml"))
}

// An archive in an archive counts by what is in it, whatever it is packed like; two files need
// no install.
func TestArchivesAreComparedByWhatIsInThem(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	now, then := time.Now(), time.Date(1999, 1, 1, 0, 0, 0, 0, time.UTC)
	zipOf(t, at("a.jar"), now, false, "META-INF/MANIFEST.MF", "Main: x\n", "a/One.class", "one", "a/Two.class", "two")
	zipOf(t, at("b.jar"), then, true, "META-INF/MANIFEST.MF", "Main: x\n", "a/One.class", "one", "a/Two.class", "two")
	zipOf(t, at("c.jar"), then, true, "META-INF/MANIFEST.MF", "Main: x\n", "a/One.class", "eno", "a/Three.class", "two")
	q := place{p.Place}
	assert.Empty(t, q.comparison(at("a.jar"), at("b.jar")))
	assert.Equal(t, map[string]string{"a/One.class": "changed", "a/Three.class": "moved from a/Two.class"},
		q.comparison(at("a.jar"), at("c.jar")))
	for _, name := range []string{"a", "b", "c"} {
		jar, err := os.ReadFile(at(name + ".jar"))
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(at(name+"/lib"), 0o755))
		require.NoError(t, os.WriteFile(at(name+"/lib/x.jar"), jar, 0o644))
		zipOf(
			t,
			at("wrapped-"+name+".zip"),
			now,
			false,
			"game-"+name+"/lib/x.jar",
			string(jar),
			"game-"+name+"/notes.txt",
			"notes\r\n",
		)
	}
	assert.Regexp(t, `lib/x.jar: packed anew: what is in it is the same, 3 files`, q.Exits(exitDiffers, "compare",
		at("a"), at("b")).Out)
	assert.Regexp(t, `in it 3 files differ, and 1 file is the same[\s\S]*gone +a/Two.class`,
		q.Exits(exitDiffers, "compare", at("a"), at("c")).Out)
	require.NoError(t, os.WriteFile(at("a/notes.txt"), []byte("notes\n"), 0o644))
	told := q.Exits(exitDiffers, "compare", at("a"), at("wrapped-b.zip")).Out
	assert.Contains(t, told, "wrapped-b.zip, in game-b/")
	assert.Contains(t, told, "packed anew")
	assert.Contains(t, told, "notes.txt: its line ends alone differ")
	for _, pair := range [][2]string{{"/dev/zero", at("a.jar")}, {at("a.jar"), dir + "/none"}} {
		assert.NotEqual(t, exitDone, q.Run("compare", pair[0], pair[1]).Code, fmt.Sprint(pair))
	}
}

// What the locker keeps is listed with what it takes and who needs it; a kept build is stepped
// back to, and forth, with its source gone; dropping one gives back what nobody else needs.
func TestKeptBuildsOutliveTheirSource(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1])
	p.OK("adopt", p.Install, "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"))
	p.OK("start")
	p.OK("refit", "3.5.0")
	gone := p.Harbour.Builds + "-gone"
	require.NoError(t, os.Rename(p.Harbour.Builds, gone))
	r := p.OK("refit", "3.4.1", "--back")
	assert.Contains(t, r.Err, "3.4.1 is taken out of the locker")
	assert.Equal(t, "3.4.1", p.Status().Version)
	p.OK("refit", "3.5.0")
	assert.Equal(t, "3.5.0", p.Status().Version)
	p.Exits(exitFailed, "refit", "9.9.9")

	kept := func() map[string]map[string]any {
		var r struct{ Builds []map[string]any }
		require.NoError(t, json.Unmarshal([]byte(p.OK("--json", "builds", "--kept").Out), &r))
		out := map[string]map[string]any{}
		for _, b := range r.Builds {
			out[b["version"].(string)] = b
		}
		return out
	}
	all := kept()
	require.Len(t, all, 2)
	assert.Equal(t, []any{all["3.5.0"]["id"]}, all["3.4.1"]["shares_with"])
	assert.Equal(t, true, all["3.5.0"]["needed_by"].([]any)[0].(map[string]any)["installed"])
	assert.Less(t, all["3.5.0"]["alone_bytes"], all["3.5.0"]["stored_bytes"])
	assert.Regexp(t, `3.4.1 [\s\S]*part of r0003[\s\S]*shares with 3.5.0, backups`,
		p.OK("builds", "--kept").Out)

	assert.Contains(t, p.Exits(exitFailed, "builds", "drop", "3.5.0").Err, "is what "+p.Install+" runs")
	assert.Contains(t, p.Exits(exitFailed, "builds", "drop", "3.4.1").Err, "this would be lost: 3.4.1")
	assert.Contains(t, p.OK("builds", "drop", "3.4.1", "--dry-run").Out, "WOULD DROP  3.4.1")
	// Beside a refit that is about to lay it out, from this server or from another one.
	refit := p.Command("refit", "3.4.1", "--back")
	p.Hold("begun", refit)
	other := place{proving.Bare(t)} // of the same locker
	other.Home, other.Env = p.Home, append(other.Env, "FRESHKEEL_HOME="+p.Home)
	other.Put("run.sh", "#!/bin/sh\nexec sleep 60\n")
	other.OK("adopt", other.Install, "--version", "1.0")
	for _, from := range []*proving.Place{p.Place, other.Place} {
		assert.Contains(
			t,
			from.Exits(exitFailed, "builds", "drop", "3.4.1", "--yes").Err,
			"another command is at work here",
		)
	}
	refit.Process.Kill()
	refit.Wait()
	p.OK("logbook")
	require.Len(t, kept(), 2)
	p.OK("builds", "drop", "3.4.1", "--yes")
	require.Len(t, kept(), 1)
	p.OK("backup", "check") // and what backups need is there
	p.OK("rollback")
	p.Exits(exitFailed, "preflight", "3.4.2")
	require.NoError(t, os.Rename(gone, p.Harbour.Builds))
	p.OK("refit", "3.5.0")

	// Another game's build of the same version is not this server's.
	assert.Contains(t, other.OK("builds", "--kept").Out, "3.5.0")
	assert.Contains(t, other.Exits(exitFailed, "refit", "3.5.0").Err, "names no source")
}
