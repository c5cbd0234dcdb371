//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"freshkeel"
	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// feedOf writes a feed of zips: each build's fields, and its files.
func feedOf(t *testing.T, dir string, head map[string]any, builds ...map[string]any) {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for _, b := range builds {
		if files, ok := b["files"].(map[string]string); ok {
			name := fmt.Sprintf("x-%s.zip", b["version"])
			writeZip(t, filepath.Join(dir, name), files)
			delete(b, "files")
			b["parts"] = []any{map[string]any{"url": name}}
		}
	}
	if head == nil {
		head = map[string]any{}
	}
	head["format"], head["builds"] = "freshkeel-feed/1", builds
	b, err := json.Marshal(head)
	require.NoError(t, err)
	proving.Put(t, filepath.Join(dir, "feed.json"), string(b))
}

// Layers have versions of their own, know their files, are held to the builds
// that they fit, and come back with a rollback.
func TestLayersLieOverTheBuildInOrder(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	feedOf(t, filepath.Join(p.Dir, "lanterns"), nil,
		map[string]any{"version": "1.0", "fits": ">=3.4 <3.6",
			"files": map[string]string{"lib/lamp.jar": "lamp 1.0", "tracks/dew-loop.track": "lit by 1.0"}},
		map[string]any{"version": "1.1", "fits": ">=3.5",
			"files": map[string]string{"lib/lamp.jar": "lamp 1.1", "lib/wick.jar": "wick",
				"tracks/dew-loop.track": "lit by 1.1"}})
	songs := filepath.Join(p.Dir, "songs")
	proving.Put(t, filepath.Join(songs, "index.html"), `<html><a href="songs-2.0.jar">songs</a></html>`)
	proving.Put(t, filepath.Join(songs, "songs-2.0.jar"), "la\x00la")
	p.EditProfile(func(s string) string {
		return s + "\n[[layer]]\nname = 'lanterns'\ninto = '.'\n[layer.source]\nfeed = '../lanterns/feed.json'\n" +
			"\n[[layer]]\nname = 'songs'\ninto = 'addons'\n[layer.source]\nas = 'file'\npage.at = '../songs/index.html'\npage.pattern = '/songs-(?P<version>[\\d.]+)\\.jar$'\n[layer.place]\n'songs-*.jar' = 'songs.jar'\n"
	})
	p.OK("start")
	r := p.OK("builds")
	assert.Contains(t, r.Out, "NOT LAID  layer lanterns: the next refit lays it")
	assert.Regexp(t, `1\.1 .* fits >=3\.5`, r.Out)

	p.EditProfile(func(s string) string {
		return strings.Replace(s, "[layer.source]\nas", "fits = '>9'\n[layer.source]\nas", 1)
	})
	r = p.Exits(exitRefused, "refit", "3.5.0")
	assert.Contains(t, r.Out, "layer songs is left out: none of its versions fits 3.5.0")
	assert.Contains(t, r.Out, "go without it: --without songs")
	p.EditProfile(func(s string) string { return strings.Replace(s, "fits = '>9'\n", "", 1) })
	p.OK("refit", "3.5.0")
	assert.Equal(t, "lit by 1.1", p.Read("tracks/dew-loop.track"), "the layer lies over the build")
	assert.Equal(t, "la\x00la", p.Read("addons/songs.jar"))
	assert.Equal(t, []string{"lanterns: 1.1 laid", "songs: 2.0 laid"}, p.LastEntry().Layers)

	// An audit tells whose a file is, and that what stands there is not its layer's.
	was := p.Read("tracks/dew-loop.track")
	p.Put("tracks/dew-loop.track", "dew loop, surveyed for 3.5.0\n") // as the build has it
	p.Put("addons/songs.jar", "la\x00lu")
	told := p.Exits(exitDiffers, "audit").Out
	assert.Regexp(t, `tracks/dew-loop.track\s+layer lanterns: [\s\S]*it is the file that the\s+build has`, told)
	assert.Regexp(t, `addons/songs.jar\s+layer songs: its content is another`, told)
	p.OK("audit", "--mend")
	assert.Equal(t, was, p.Read("tracks/dew-loop.track"))
	assert.Equal(t, "la\x00la", p.Read("addons/songs.jar"))
	var pre struct {
		Plan struct {
			Overlaid []freshkeel.Overlaid
			Layers   []freshkeel.Laid
		}
	}
	require.NoError(t, json.Unmarshal([]byte(lastLine(p.OK("--json", "preflight", "3.5.0").Out)), &pre))
	assert.Equal(t, []freshkeel.Overlaid{{Path: "tracks/dew-loop.track", Over: "lanterns"}}, pre.Plan.Overlaid)
	assert.Len(t, pre.Plan.Layers, 2)
	assert.Contains(t, p.Read(".freshkeel/inventory.json"), `"layer":"songs"`)

	// One layer alone: the build and the other layer stay.
	before := p.Tree()
	assert.Contains(t, p.Exits(exitRefused, "refit", "--layer", "lanterns=1.0").Out,
		"lanterns 1.0 is older than the installed 1.1")
	r = p.OK("refit", "--layer", "lanterns=1.0", "--back")
	assert.Contains(t, r.Out, "lanterns: 1.1 → 1.0")
	assert.Equal(t, "lit by 1.0", p.Read("tracks/dew-loop.track"))
	assert.NoFileExists(t, filepath.Join(p.Install, "lib/wick.jar"))
	assert.Equal(t, "by lantern light\n", p.Read("tracks/lantern-row.track"))
	assert.Equal(t, "3.5.0", p.Status().Version)

	// What does not fit is refused while the server runs, with what would fit.
	pid := p.Status().Server.PID
	r = p.Exits(exitRefused, "refit", "3.6.1")
	assert.Contains(t, r.Out, "layer lanterns 1.0 fits >=3.4 <3.6, not 3.6.1")
	assert.Contains(t, r.Out, "take lanterns 1.1, which fits: --layer lanterns=1.1; or go without it:")
	assert.Equal(t, pid, p.Status().Server.PID)
	r = p.OK("refit", "3.6.1", "--without", "lanterns")
	assert.Contains(t, r.Out, "lanterns: 1.0 taken off")
	assert.Equal(t, "dew loop, surveyed for 3.6.1\n", p.Read("tracks/dew-loop.track"), "the build's own file is back")
	assert.NoFileExists(t, filepath.Join(p.Install, "lib/lamp.jar"))
	assert.Equal(t, "la\x00la", p.Read("addons/songs.jar"))

	feedOf(t, filepath.Join(p.Dir, "lanterns"), nil,
		map[string]any{"version": "1.0", "fits": ">=3.4 <3.6",
			"files": map[string]string{"lib/lamp.jar": "lamp 1.0", "tracks/dew-loop.track": "lit by 1.0"}})
	assert.Contains(t, p.OK("preflight", "3.7.0-pre1").Out,
		"layer lanterns is left out: none of its versions fits 3.7.0-pre1", "as was said before")
	feedOf(t, filepath.Join(p.Dir, "lanterns"), nil,
		map[string]any{"version": "1.0", "fits": ">=3.4 <3.6",
			"files": map[string]string{"lib/lamp.jar": "lamp 1.0", "tracks/dew-loop.track": "lit by 1.0"}},
		map[string]any{"version": "1.1", "fits": ">=3.5",
			"files": map[string]string{"lib/lamp.jar": "lamp 1.1", "lib/wick.jar": "wick",
				"tracks/dew-loop.track": "lit by 1.1"}})

	// Going back brings the layers back, file for file.
	p.OK("rollback")
	assert.Equal(t, "lit by 1.0", p.Read("tracks/dew-loop.track"))
	p.OK("rollback")
	assert.Equal(t, before, p.Tree())
	r = p.OK("refit", "3.6.1", "--layer", "lanterns")
	assert.Equal(t, "lit by 1.1", p.Read("tracks/dew-loop.track"))
	assert.NotContains(t, r.Out, "taken off")
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	if strings.HasPrefix(lines[0], "{\"") {
		return lines[len(lines)-1]
	}
	return s
}

// Two layers of one path: the order of the profile decides. A layer over a
// build that nobody knows touches nothing but its own files.
func TestALayerOverAnUnknownBuildTouchesOnlyItsOwn(t *testing.T) {
	t.Parallel()
	p := scripted(t, "echo 'pond server 1.0'\necho ready\nwhile read l; do [ \"$l\" = quit ] && exit 0; done\n")
	p.Put("frogs/one", "1")
	p.Put("pads/lily", "lily")
	for _, name := range []string{"moss", "mist"} {
		feedOf(t, filepath.Join(p.Dir, name), nil,
			map[string]any{"version": "1", "files": map[string]string{"pads/shade": name, "pads/" + name: name}},
			map[string]any{"version": "2", "files": map[string]string{"pads/shade": name + " 2"}})
	}
	layers := func(names ...string) {
		p.EditProfile(func(s string) string {
			s, _, _ = strings.Cut(s, "\n[[layer]]")
			for _, n := range names {
				s += "\n[[layer]]\nname = '" + n + "'\nsource.feed = '../" + n + "/feed.json'\n"
			}
			return s
		})
	}
	layers("moss", "mist")
	p.OK("refit", "--layer", "moss=1", "--layer", "mist=1")
	assert.Equal(t, "mist", p.Read("pads/shade"))
	layers("mist", "moss")
	r := p.OK("refit", "--layer", "mist=1", "--layer", "moss=1")
	assert.Contains(t, r.Err, "1 path brought twice: pads/shade (layer moss over layer mist)")
	assert.Equal(t, "moss", p.Read("pads/shade"), "the order decides")
	p.OK("refit", "--layer", "moss")
	assert.Equal(t, "moss 2", p.Read("pads/shade"))
	assert.NoFileExists(t, filepath.Join(p.Install, "pads/moss"), "the layer's old file goes")
	layers("mist")
	p.OK("refit", "--layer", "mist")
	assert.Equal(t, "mist 2", p.Read("pads/shade"))
	for at, want := range map[string]string{"frogs/one": "1", "pads/lily": "lily"} {
		assert.Equal(t, want, p.Read(at), "nobody's file but the layer's is touched")
	}
}

// Where the maker allows only the direct successor, a refit goes there step by
// step: shown first, each step confirmed, ended where one fails.
func TestAChainOfStepsIsShownCheckedAndConfirmed(t *testing.T) {
	t.Parallel()
	releases := []demo.Release{demo.Releases[0], demo.Releases[1], fixed[2], demo.Releases[2],
		{Version: "3.8.0", Channel: "stable", Behaviour: demo.Good, Java: 33}}
	releases[3].Version = "3.7.0" // dies
	p := mossgate(t, releases...)
	at := filepath.Join(p.Harbour.Builds, "feed.json")
	proving.Put(t, at, strings.Replace(p.readBuild("feed.json"), `"builds"`, `"steps": "each", "builds"`, 1))
	p.OK("start")
	pid := p.Status().Server.PID

	r := p.Exits(exitRefused, "preflight", "3.8.0")
	assert.Contains(t, r.Out, "3.4.1 → 3.5.0 → 3.6.1 → 3.7.0 → 3.8.0")
	assert.Contains(t, r.Out, "later, at 3.8.0: mossgate.jar needs Java 33")
	assert.Equal(t, pid, p.Status().Server.PID, "the last step's need is known before the first")

	feedOf(t, filepath.Join(p.Dir, "moss"), nil,
		map[string]any{"version": "1", "fits": "<3.6", "files": map[string]string{"lib/moss": "moss"}})
	p.EditProfile(func(s string) string {
		return s +
			"\n[[layer]]\nname = 'moss'\nsource.feed = '../moss/feed.json'\n"
	})
	r = p.Exits(exitRefused, "refit", "3.6.1")
	assert.Contains(t, r.Out, "REFUSED  3.6.1 can't be installed as things are")
	assert.Contains(t, r.Out, "later, at 3.6.1: layer moss is left out: none of its versions fits 3.6.1")
	assert.Empty(t, p.Entries(), "nothing was begun")
	p.EditProfile(func(s string) string { s, _, _ = strings.Cut(s, "\n[[layer]]"); return s })

	r = p.OK("preflight", "3.6.1")
	assert.Contains(t, r.Out, "3.4.1 → 3.5.0 → 3.6.1: the maker allows updates only from the build directly before")
	assert.Contains(t, r.Out, "freshkeel refit 3.6.1")
	p.OK("refit", "3.6.1")
	all := p.Entries()
	require.Len(t, all, 2)
	for i, e := range all {
		assert.EqualValues(t, "confirmed", e.Outcome)
		assert.Equal(t, []string{"3.5.0", "3.6.1"}[i], e.To)
	}
	p.OK("rollback", "r0001") // the whole chain
	assert.Equal(t, "3.4.1", p.Status().Version)
	// Killed in its first step, it is brought in order and goes the whole way.
	assert.Equal(t, -1, p.RunWith([]string{envDieAt + "=swap:3"}, "refit", "3.6.1").Code)
	p.OK("refit", "3.6.1")
	assert.Equal(t, "3.6.1", p.Status().Version)
	p.OK("rollback", "r0005")

	r = p.Exits(exitRolledBack, "refit", "3.7.0")
	assert.Contains(t, r.Out, "it got as far as 3.6.1, each step confirmed")
	assert.Equal(t, "3.6.1", p.Status().Version)
	assert.True(t, p.Status().Server.Running)
}

// One setting moves a server to another channel and back; a step back is never
// an accident.
func TestAChannelIsOneSetting(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	p.OK("refit")
	assert.Equal(t, "3.6.1", p.Status().Version)
	follow := func(from, to string) {
		p.EditProfile(func(s string) string {
			return strings.Replace(s, "channel = '"+from+"'", "channel = '"+to+"'",
				1)
		})
	}
	assert.Regexp(t, `3\.7\.0-pre1 +newer, other channel`, p.OK("builds").Out)
	follow("stable", "preview")
	assert.Contains(t, p.OK("builds").Out, "NEWER  3.7.0-pre1 is there")
	r := p.OK("refit")
	assert.Contains(t, r.Err, "it crosses from channel stable to preview")
	follow("preview", "stable")
	assert.Contains(t, p.OK("builds").Out,
		"AHEAD  3.7.0-pre1 is installed, from channel preview; stable has nothing newer")
	assert.Contains(t, p.Exits(exitRefused, "refit").Out, "3.6.1 is older than the installed 3.7.0-pre1")
	assert.Empty(t, p.OK("fetch", "--check").Out)
	p.OK("refit", "--back")
	assert.Equal(t, "3.6.1", p.Status().Version)
	follow("stable", "nightly")
	r = p.Exits(exitFailed, "refit")
	assert.Contains(t, r.Err, `offers no build in channel "nightly"; its channels are: stable, preview`)
}

// A version comes as several files: the right one is chosen by rule, and a file
// of the wrong kind is refused with a clear word.
func TestTheWrongKindOfBuildIsRefused(t *testing.T) {
	t.Parallel()
	p := mossgate(t, fixed...)
	in := p.Harbour.Builds
	one := func(name, url, system, arch string) map[string]any {
		return map[string]any{"name": name, "os": system, "arch": arch, "parts": []any{map[string]any{"url": url}}}
	}
	feedOf(t, in, nil, map[string]any{"version": "3.5.0", "variants": []any{
		one("plain", "mossgate-3.5.0.zip", "", ""), one("addons", "mossgate-3.6.1.zip", "", ""),
		one("plain", "nothing.zip", "plan9", "")}},
		map[string]any{"version": "3.5.1", "variants": []any{one("", "nothing.zip", "windows", "arm64")}})
	p.source("feed = '../builds/feed.json'")
	r := p.Exits(exitFailed, "preflight", "3.5.0")
	assert.Contains(t, r.Err, `3.5.0 comes as "plain" and "addons": say which in [source] variant`)
	assert.Regexp(t, `3\.5\.0 .*as plain, addons, plain plan9`, p.OK("builds").Out)
	assert.Contains(t, p.Exits(exitFailed, "preflight", "3.5.1").Err, "3.5.1 does not come for this machine")
	p.source("feed = '../builds/feed.json'", "variant = 'plain'")
	p.OK("refit", "3.5.0")
	p.source("feed = '../builds/feed.json'", "variant = 'brass'")
	assert.Contains(t, p.Exits(exitFailed, "preflight", "3.5.0").Err, `3.5.0 does not come as "brass" for`)

	elf := func(machine byte) string {
		return "\x7fELF\x02\x01\x01" + strings.Repeat("\x00", 9) + "\x02\x00" + string([]byte{machine}) + "\x00" +
			strings.Repeat("\x00", 80)
	}
	pe := "MZ" + strings.Repeat("\x00", 58) + "\x40\x00\x00\x00PE\x00\x00\x64\x86" + strings.Repeat("\x00", 80)
	client, err := demo.Jar(demo.Release{Version: "3.9", Java: 17, Main: "mossgate/client/Window"})
	require.NoError(t, err)
	for name, c := range map[string]struct {
		files map[string]string
		says  string
	}{
		"package": {map[string]string{"mossgate.deb": "!<arch>\ndebian-binary   "},
			"mossgate.deb is a Debian package, not a server build"},
		"installer": {map[string]string{"mossgate-3.9-setup.exe": pe}, "is an installer or a client by its name"},
		"other edition": {map[string]string{"mossgate-server-3.9.jar": string(client)},
			"mossgate.jar starts with mossgate.client.Window, the installed one with mossgate.Gatehouse"},
		"other names": {map[string]string{"a/b": "x", "a/c": "y", "a/d": "z", "a/e": "z"},
			"not one file of 3.9 has the name of an installed one"},
	} {
		writeZip(t, filepath.Join(p.Dir, name+"-3.9.zip"), c.files)
		r := p.Exits(exitRefused, "preflight", "--from", filepath.Join(p.Dir, name+"-3.9.zip"))
		assert.Contains(t, r.Out, c.says, name)
	}
	pond := scripted(t, "echo 'pond server 1.0'\necho ready\nread l\n")
	for system, body := range map[string]string{"linux/riscv64": elf(243), "windows/amd64": pe} {
		writeZip(t, filepath.Join(pond.Dir, "pond-2.0.zip"), map[string]string{"pondserver": body, "pads/lily": "x"})
		r := pond.Exits(exitRefused, "preflight", "--from", filepath.Join(pond.Dir, "pond-2.0.zip"))
		assert.Contains(t, r.Out, "it is a build for "+system+" (pondserver), and this server wants linux/")
	}
}
