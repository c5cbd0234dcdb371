//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A club publishes its own feed from a folder of archives, and what is written
// by hand stays.
func TestAFeedIsWrittenFromAFolderOfArchives(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	require.NoError(t, os.Remove(filepath.Join(p.Harbour.Builds, "feed.json")))
	require.NoError(t, os.Rename(filepath.Join(p.Harbour.Builds, "mossgate-3.6.1.zip"),
		filepath.Join(p.Harbour.Builds, "mossgate-3.6.1-linux-x64.zip")))
	p.putBuild("mossgate-3.6.1-win64.zip", p.readBuild("mossgate-3.5.0.zip"))
	p.putBuild("brass/mossgate-5.0.zip", p.readBuild("mossgate-3.5.0.zip"))
	r := p.OK("feed", "write", p.Harbour.Builds, "--name", "Mossgate")
	assert.Contains(t, r.Out, "WRITTEN")
	o := p.offer()
	assert.Equal(t, []string{"3.4.1", "3.5.0", "3.6.1", "3.7.0-pre1", "5.0"}, versions(o))
	assert.Equal(t, []string{"stable", "preview", "brass"},
		[]string{o.Builds[2].Channel, o.Builds[3].Channel, o.Builds[4].Channel})
	assert.Len(t, o.Builds[2].Variants, 2)
	p.editFeed(func(b map[string]any) { b["notes"], b["channel"] = "by hand, "+b["version"].(string), "stable" })
	p.OK("feed", "write", p.Harbour.Builds)
	o = p.offer()
	assert.Equal(t, "by hand, 3.5.0", o.Builds[1].Notes)
	assert.Equal(t, []string{"stable", "brass"}, []string{o.Builds[3].Channel, o.Builds[4].Channel},
		"by hand, but for a folder's")
	p.editFeed(func(b map[string]any) {
		if b["version"] == "3.7.0-pre1" {
			b["channel"] = "preview"
		}
	})
	assert.Contains(t, p.OK("feed", "check", p.Harbour.Builds).Out, "GOOD")
	p.OK("refit") // the variant for this machine, of the channel that is followed
	assert.Equal(t, "3.6.1", p.Status().Version)

	p.putBuild("mossgate-3.5.0.zip", "changed afterwards")
	p.editFeed(func(b map[string]any) {
		if b["version"] == "3.4.1" {
			b["colour"] = "green"
			delete(b["parts"].([]any)[0].(map[string]any), "digests")
		}
	})
	r = p.Exits(exitFailed, "feed", "check", filepath.Join(p.Harbour.Builds, "feed.json"))
	assert.Contains(t, r.Out, "WRONG")
	assert.Contains(t, r.Out, "3.5.0: mossgate-3.5.0.zip: ")
	assert.Contains(t, r.Out, "3.4.1: mossgate-3.4.1.zip has no digest: what comes is taken on trust")
	assert.Contains(t, r.Out, `unknown field "colour": it is not read`)
	assert.Contains(t, p.Exits(exitFailed, "feed", "write", p.Home).Err, "has a version in its name")
}

// With a listing only what changed crosses the wire, and what is damaged here
// is told and mended.
func TestOnlyWhatChangedIsFetched(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	big := strings.Repeat("night and moss ", 40_000)
	for i, v := range []string{"4.1.0", "4.2.0"} {
		jar, err := demo.Jar(demo.Release{Version: v, Java: 17, Behaviour: demo.Good})
		require.NoError(t, err)
		files := map[string]string{"mossgate-server-" + v + ".jar": string(jar), "assets/night.pak": "\x00" + big,
			"bin/tool": "#!/bin/sh\n", "a b/100% #1?.txt": "odd names"}
		for n := range 200 {
			files[fmt.Sprintf("tracks/t%03d.track", n)] = fmt.Sprintf("%d %s", n, big[:3000])
		}
		if i == 1 {
			files["tracks/t007.track"], files["tracks/new.track"] = "changed "+big[:3000], "new"
			delete(files, "tracks/t100.track")
		}
		writeZip(t, filepath.Join(p.Harbour.Builds, "mossgate-"+v+".zip"), files)
	}
	p.OK("feed", "write", p.Harbour.Builds, "--listing")
	site, url := p.serve()
	p.source("feed = '"+url+"/feed.json'", "channel = 'stable'")
	p.OK("refit", "4.1.0")
	assert.Equal(t, "odd names", p.Read("a b/100% #1?.txt"))
	fi, err := os.Stat(filepath.Join(p.Install, "bin/tool"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o755, fi.Mode().Perm())
	for _, q := range site.Seen() {
		assert.NotContains(t, q.Path, ".zip", "each file by itself")
	}

	// Broken by a disk that forgets: the same times, other bytes.
	night := filepath.Join(p.Install, "assets/night.pak")
	fi, err = os.Stat(night)
	require.NoError(t, err)
	b := []byte(p.Read("assets/night.pak"))
	b[1000] ^= 1
	require.NoError(t, os.WriteFile(night, b, 0o644))
	require.NoError(t, os.Chtimes(night, fi.ModTime(), fi.ModTime()))
	require.NoError(t, os.Truncate(filepath.Join(p.Install, "mossgate.jar"), 300))
	proving.Put(t, filepath.Join(p.Install, "tracks/t050.track"), "my own shortcut")
	r := p.OK("refit", "4.2.0")
	assert.Contains(t, r.Err, "note: not what was put there: assets/night.pak, tracks/t050.track")
	assert.Contains(
		t,
		r.Err,
		"2 installed files are not as the build has them, and will be restored: assets/night.pak, mossgate.jar",
	)
	assert.Equal(t, "\x00"+big, p.Read("assets/night.pak"))
	assert.Equal(t, "my own shortcut", p.Read("tracks/t050.track"), "what the operator wrote is no damage")
	assert.NoFileExists(t, filepath.Join(p.Install, "tracks/t100.track"))
	var sent, changed int64
	var paths []string
	for _, q := range site.Seen() {
		if q.Path != "/feed.json" {
			sent += q.Sent
			paths = append(paths, q.Path)
		}
	}
	assert.Contains(t, paths, "/listings/4.2.0-over-4.1.0.json.zst")
	assert.NotContains(t, paths, "/listings/4.2.0.json.zst", "of the listing, too, only what changed")
	changed = int64(
		len(
			p.Read("tracks/t007.track"),
		) + len(
			p.Read("tracks/new.track"),
		) + len(
			p.Read("mossgate.jar"),
		) + len(
			p.readBuild("listings/4.2.0-over-4.1.0.json.zst"),
		),
	)
	assert.LessOrEqual(t, sent, changed*11/10, "the files that changed and the listing, no more")

	// The same build again mends what was cut short since, and on demand what
	// somebody wrote.
	require.NoError(t, os.Truncate(night, 5000))
	r = p.OK("refit", "4.2.0")
	assert.Contains(t, r.Out, "REFITTED  4.2.0 → 4.2.0")
	assert.Equal(t, "\x00"+big, p.Read("assets/night.pak"))
	p.OK("refit", "4.2.0", "--mend")
	assert.Contains(t, p.Read("tracks/t050.track"), "50 night and moss")

	// A file that is not what the listing says is refused; nothing is cached.
	writeZip(t, filepath.Join(p.Harbour.Builds, "mossgate-4.3.0.zip"),
		map[string]string{"mossgate-server-4.3.0.jar": p.Read("mossgate.jar"), "tracks/odd.track": "odd"})
	p.OK("feed", "write", p.Harbour.Builds, "--listing")
	files, err := filepath.Glob(filepath.Join(p.Harbour.Builds, "files/*/*"))
	require.NoError(t, err)
	for _, f := range files {
		if b, _ := os.ReadFile(f); string(b) == "odd" {
			proving.Put(t, f, "eve")
		}
	}
	site.Misbehave("/listings/4.3.0-over-4.2.0.json.zst",
		demo.Fault{Instead: []byte(p.readBuild("listings/4.2.0.json.zst"))})
	r = p.Exits(exitFailed, "fetch", "4.3.0")
	assert.Contains(t, r.Err, "what changed since 4.2.0 can't be used")
	assert.Regexp(t, `fetch https://.*/files/.*: its blake3 is [0-9a-f]+, expected [0-9a-f]+`, r.Err)
	for _, f := range files {
		if b, _ := os.ReadFile(f); string(b) == "eve" {
			proving.Put(t, f, "odd")
		}
	}
	p.OK("fetch", "4.3.0")
}

// A folder's changes are told by content: what moved is a move, and dates say
// nothing.
func TestAFoldersChangesAreToldByContent(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	game := filepath.Join(p.Dir, "game")
	lay := func(v string, files map[string]string) {
		require.NoError(t, os.RemoveAll(game))
		jar, err := demo.Jar(demo.Release{Version: v, Java: 17, Behaviour: demo.Good})
		require.NoError(t, err)
		proving.Put(t, filepath.Join(game, "mossgate-server.jar"), string(jar))
		for name, body := range files {
			proving.Put(t, filepath.Join(game, name), body)
		}
	}
	lay("3.8.0", map[string]string{"maps/a.map": "first map", "maps/b.map": "second map", "maps/c.map": "third map",
		"members.txt": "nobody"})
	p.source("folder.at = '../game'")
	p.EditProfile(func(s string) string {
		return strings.ReplaceAll(s, "'mossgate-server-*.jar'", "'mossgate-server*.jar'")
	})
	p.OK("refit")
	assert.Equal(t, "3.8.0", p.Status().Version, "read from the jar")
	assert.Contains(t, p.OK("builds").Out, "CURRENT")
	lay("3.8.0", map[string]string{"maps/a.map": "first map", "maps/b.map": "second map", "maps/c.map": "third map"})
	assert.Contains(t, p.OK("builds").Out, "CURRENT", "other dates, the same content")
	lay("3.8.1", map[string]string{"maps/b.map": "second map, mended", "a.map": "first map", "maps/d.map": "fourth"})
	r := p.OK("builds")
	for _, says := range []string{"moved     maps/a.map → a.map (the same content)",
		"changed   2 files: maps/b.map, mossgate.jar", "new       1 file: maps/d.map", "gone      1 file: maps/c.map"} {
		assert.Contains(t, r.Out, says)
	}
	assert.Contains(t, p.OK("preflight").Out, "moved     maps/a.map → a.map (the same content)")
	p.OK("refit")
	assert.Equal(t, "first map", p.Read("a.map"))
	assert.NoFileExists(t, filepath.Join(p.Install, "maps/c.map"))
	assert.NotEqual(t, "nobody", p.Read("members.txt"))
	assert.Equal(t, "3.8.1", p.Status().Version)
}

// A command that fails, dawdles, makes nothing, too much or something else
// gives nothing; its last lines are shown.
func TestABuildCommandThatFailsGivesNothing(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	jar, err := demo.Jar(fixed[2])
	require.NoError(t, err)
	proving.Put(t, filepath.Join(p.Dir, "good.jar"), string(jar))
	for name, c := range map[string]struct{ script, says string }{
		"fails after making it": {"mkdir -p out; cp ../../../good.jar out/mossgate-server-3.6.1.jar; echo stirring; echo 'the kettle is cold' >&2; exit 3", "brew.sh ended with exit status 3"},
		"takes too long":        {"echo stirring; sleep 30 & wait", "it took too long and was ended"},
		"makes nothing": {"echo 'the kettle is cold'",
			"pick = 'out/*.jar' matches nothing in its work folder, which has no file"},
		"makes two": {"mkdir -p out; echo x >out/a.jar; echo y >out/b.jar",
			"pick = 'out/*.jar' matches out/a.jar and out/b.jar, and one is wanted; correct pick, and what was made is used without another run"},
		"makes another": {"mkdir -p out; cp \"$GOOD\" out/mossgate-server.jar",
			"make 3.5.0: mossgate-server.jar was made, and its manifest says that it is 3.6.1"},
		"asks for a sign-in": {"echo 'To sign in, visit https://depot.example and enter the code AB-12'; exit 3",
			"a sign-in is due: To sign in, visit https://depot.example and enter the code AB-12"},
		"is not there": {"", "run " + filepath.Join(p.Install, "tools/nothing")},
	} {
		proving.Put(t, filepath.Join(p.Dir, "brew.sh"),
			"#!/bin/sh\nprintf '\\033[2Kwarming up\\rready to stir %s\\n' \"$FRESHKEEL_VERSION\"\n"+
				strings.ReplaceAll(c.script, "../../../good.jar", "\"$GOOD\"")+"\n")
		run := filepath.Join(p.Dir, "brew.sh")
		if c.script == "" {
			run = "tools/nothing"
		}
		p.source("[source.command]", "run = ['"+run+"']", "versions = ['3.5.0', '3.6.1']", "limit = '2s'",
			"pick = 'out/*.jar'")
		before := p.Tree()
		r := p.RunWith([]string{"GOOD=" + filepath.Join(p.Dir, "good.jar")}, "fetch", "3.5.0")
		assert.Equal(t, exitFailed, r.Code, name)
		assert.Contains(t, r.Err, c.says, name)
		if c.script != "" {
			assert.Contains(t, r.Err, "│ brew.sh: ready to stir 3.5.0", "%s: shown as it comes", name)
			assert.NotContains(t, r.Err, "\x1b", name)
		}
		assert.Equal(t, before, p.Tree())
		assert.Empty(t, p.cached(), name)
	}
	assert.Empty(t, proving.ProcessesIn(filepath.Join(p.Home, "sources")), "nothing of it is left running")

	// What a tool says of itself is not taken for the game's versions.
	proving.Put(
		t,
		filepath.Join(p.Dir, "list.sh"),
		"#!/bin/sh\necho depot tool 9.1\necho 'build 3.5.0 stable'\necho 3.6.1\n",
	)
	for by, want := range map[string]string{"": "the source has no build x; it has 3.6.1", "pattern = '^build (\\S+)'": "it has 3.5.0"} {
		p.source(
			"[source.command]",
			"run = ['"+filepath.Join(p.Dir, "brew.sh")+"', '{channel}']",
			"list = ['"+filepath.Join(p.Dir, "list.sh")+"']",
			"pick = 'out/*.jar'",
			by,
		)
		assert.Contains(t, p.Exits(exitFailed, "fetch", "x").Err, want)
	}

	// A pick that named two is corrected: hours of work are not done again for it.
	proving.Put(
		t,
		filepath.Join(p.Dir, "brew.sh"),
		"#!/bin/sh\necho x >>\"$GOOD.runs\"\nmkdir -p out; cp \"$GOOD\" out/mossgate-server-3.6.1.jar; echo y >out/extra.jar\n",
	)
	made := []string{"GOOD=" + filepath.Join(p.Dir, "good.jar")}
	for _, pick := range []string{"out/*.jar", "out/mossgate-*.jar"} {
		p.source("[source.command]", "run = ['"+filepath.Join(p.Dir, "brew.sh")+"']", "versions = ['3.5.0', '3.6.1']",
			"pick = '"+pick+"'")
		r := p.RunWith(made, "fetch", "3.6.1")
		assert.Equal(t, pick == "out/*.jar", r.Code == exitFailed, r.Out+r.Err)
	}
	runs, err := os.ReadFile(filepath.Join(p.Dir, "good.jar.runs"))
	require.NoError(t, err)
	assert.Equal(t, "x\n", string(runs))
}

// adopt looks at a place and proposes the kind of source, which then works.
func TestAdoptProposesTheKindOfSource(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	require.NoError(t, p.Harbour.PublishElsewhere(fixed))
	require.NoError(t, p.Harbour.PublishIncrement(filepath.Join(p.Dir, "archives"), fixed[1], fixed[2]))
	proving.Put(t, filepath.Join(p.Dir, "game", "mossgate-server.jar"), "x\x00")
	var flat []any
	for _, r := range fixed {
		flat = append(flat, map[string]any{"release": r.Version, "track": r.Channel, "day": r.Date,
			"download": map[string]any{"link": "../mossgate-" + r.Version + ".zip",
				"bytes": len(p.readBuild("mossgate-" + r.Version + ".zip"))}})
	}
	b, err := json.Marshal(map[string]any{"all": flat})
	require.NoError(t, err)
	p.putBuild("api/flat.json", string(b))
	_, url := p.serve()
	for place, c := range map[string]struct{ kind, last string }{
		url + "/feed.json": {"feed", "3.7.0-pre1"}, url + "/downloads.html": {"page", "3.7.0-pre1"}, url +
			"/latest.jar": {"address", ""},
		url + "/api/flat.json": {"api", "3.7.0-pre1"}, "../archives": {"archives", "3.6.1"}, "../game": {"folder", ""},
	} {
		if c.kind == "page" { // beside each server build a client's is listed
			p.putBuild("downloads.html", strings.ReplaceAll(p.readBuild("downloads.html"), "mossgate-client-",
				"client-"))
		}
		r := p.OK("adopt", p.Install, "--replace", "--source", place)
		assert.Regexp(t, `source +`+c.kind+`[:\n]`, r.Out, place)
		o := p.offer()
		assert.Equal(t, c.kind, o.Kind)
		assert.Equal(t, c.last, o.Builds[len(o.Builds)-1].Version, place)
	}
	r := p.OK("adopt", p.Install, "--replace", "--source", url+"/api/builds/3.5.0.json")
	assert.Regexp(t, `source +it could not be read: it is JSON, and noth`, r.Out)
}
