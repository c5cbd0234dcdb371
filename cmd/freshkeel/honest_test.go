//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"freshkeel"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// said is an output as a reader takes it: its lines joined, however they were broken.
func (r ran) said() string { return strings.Join(strings.Fields(r.out+" "+r.err), " ") }

// versioned is an install of a small server, version 1.0, and a feed of three versions.
func versioned(t *testing.T) *place {
	t.Helper()
	p := scripted(t, "")
	require.NoError(t, os.Mkdir(filepath.Join(p.dir, "feed"), 0o755))
	for _, v := range []string{"1.0", "1.1", "2.0"} {
		files := map[string]string{"run.sh": "#!/bin/sh\necho 'pond server " + v + "'\n" + patient, "lib/same.dat": "same"}
		for i := range 3 {
			files[fmt.Sprintf("lib/%d.dat", i)] = fmt.Sprint("lib ", i, " of ", v)
		}
		writeZip(t, filepath.Join(p.dir, "feed", "pond-"+v+".zip"), files)
		for at, body := range files {
			put(t, filepath.Join(p.dir, "pond-"+v, at), body)
			if v == "1.0" {
				p.put(at, body)
			}
		}
	}
	p.put("world/map", "the world")
	p.ok("feed", "write", filepath.Join(p.dir, "feed"), "--name", "Pond")
	p.editProfile(func(s string) string {
		return strings.Replace(s, "[launch]", "keep = [\"world/**\"]\n[source]\nfeed = \"../feed/feed.json\"\n[launch]", 1) + "version = '^pond server (\\S+)'\n"
	})
	p.ok("adopt", p.install, "--build", filepath.Join(p.dir, "feed", "pond-1.0.zip"))
	return p
}

// The version that is recorded follows what the files are: after a restore of a part,
// of all of the program or of some of it, `status`, `builds`, `refit` and the watch say
// the same, and a refit that such a restore undid is not offered to be undone again.
func TestTheRecordedVersionFollowsTheFiles(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.ok("start")
	p.ok("refit", "2.0")
	r := p.ok("backup", "restore", "b0001", "--only", "lib/**", "--only", "run.sh")
	assert.Contains(t, r.out, "2.0 → 1.0")
	assert.Equal(t, "1.0", p.status().Version)
	assert.Contains(t, p.ok("builds").out, "NEWER  2.0 is there; 1.0 is installed")
	assert.Contains(t, p.exits(exitFailed, "rollback").err, "no refit is in effect")
	p.ok("refit", "2.0")
	whole := p.tree()

	r = p.ok("backup", "restore", "b0001", "--only", "lib/1.dat")
	assert.Contains(t, r.said(), "the install is 2.0 with 1 file of 1.0 now; a refit to either makes it whole")
	assert.Equal(t, []string{"1.0"}, p.status().Mixed)
	assert.Contains(t, p.ok("builds").out, "MIXED  2.0 is installed, but some of its files are of 1.0")
	assert.Contains(t, p.ok("refit", "2.0").out, "REFITTED")
	assert.Equal(t, whole, p.tree())
	assert.Empty(t, p.status().Mixed)
	assert.Contains(t, p.ok("builds").out, "CURRENT")

	p.ok("backup", "restore", "b0001", "--only", "world/**")
	assert.Equal(t, "2.0", p.status().Version, "the world is of no build")

	// Killed in the middle of such a restore, it is recorded all the same (P2).
	for _, step := range []string{"back-swap:1", "back-swap:3", "phase:returning"} {
		p.runWith([]string{envDieAt + "=" + step}, "backup", "restore", "b0001", "--only", "lib/**", "--only", "run.sh")
		p.ok("recover")
		assert.Equal(t, "1.0", p.status().Version, step)
		assert.Contains(t, p.ok("log").out, "pond server 1.0", step)
		assert.Contains(t, p.exits(exitFailed, "rollback").err, "no refit is in effect", step)
		p.ok("refit", "2.0")
		assert.Equal(t, whole, p.tree(), step)
	}

	// That the build is mixed says nothing of a layer.
	put(t, filepath.Join(p.dir, "songs/songs-1.0.zip"), "")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "songs/songs-1.0.zip")))
	writeZip(t, filepath.Join(p.dir, "songs/songs-1.0.zip"), map[string]string{"songs/one.txt": "la"})
	profile := p.read("freshkeel.toml")
	p.editProfile(func(s string) string {
		return s + "[[layer]]\nname = 'songs'\n[layer.source]\narchives.in = '../songs'\narchives.full = '^songs-(?P<version>[\\d.]+)\\.zip$'\n"
	})
	p.ok("refit", "--layer", "songs")
	p.ok("backup", "restore", "b0001", "--only", "lib/1.dat")
	var list struct{ Offers []freshkeel.Offer }
	require.NoError(t, json.Unmarshal([]byte(p.ok("--json", "builds").out), &list))
	require.Len(t, list.Offers, 2)
	assert.True(t, list.Offers[1].Builds[0].Installed)
	p.put("freshkeel.toml", profile)

	// A server whose files somebody exchanged works: it is not stopped, and believed.
	p.ok("stop")
	p.put("run.sh", strings.Replace(p.read("run.sh"), "2.0", "3.0", 1))
	r = p.ok("start")
	assert.Contains(t, r.said(), "the server says that it is 3.0, and 2.0 was recorded")
	assert.Equal(t, "3.0", p.status().Version)
}

// Archives that are named in their order have no version: one that is exchanged is
// another build, and what a refit finds to be installed already is that for `builds`.
func TestNamedArchivesAreToldByWhatTheyAre(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.editProfile(func(s string) string {
		return strings.Replace(s, "feed = \"../feed/feed.json\"", "[source.archives]\nin = \"../feed\"\nparts = [\"pond-1.0.zip\", \"last.zip\"]", 1)
	})
	last := filepath.Join(p.dir, "feed", "last.zip")
	for _, v := range []string{"1.1", "2.0"} {
		os.Remove(last)
		writeZip(t, last, map[string]string{"run.sh": "#!/bin/sh\necho 'pond server " + v + "'\n" + patient})
		assert.Contains(t, p.ok("builds").out, "OTHER")
		p.ok("refit")
		assert.Equal(t, v, p.status().Version)
		assert.Contains(t, p.ok("builds").out, "CURRENT")
	}
	fi, err := os.Stat(last)
	require.NoError(t, err)
	require.NoError(t, os.Chtimes(last, fi.ModTime(), fi.ModTime().Add(-1e12)))
	assert.Contains(t, p.ok("refit").out, "NOTHING TO DO")
	assert.Contains(t, p.ok("builds").out, "CURRENT")
}

// What is advised, done, helps: each time the advice is taken from the output and
// followed, and the command then goes through.
func TestAdviceThatIsFollowedHelps(t *testing.T) {
	t.Parallel()
	do := func(p *place, check string, args ...string) string {
		return p.preflight(exitRefused, args...)[check].Do
	}
	part := func(t *testing.T, text, pattern string) []string {
		t.Helper()
		m := regexp.MustCompile(pattern).FindStringSubmatch(text)
		require.NotNil(t, m, "%s in %s", pattern, text)
		return m
	}
	set := func(p *place, section, line string) {
		p.editProfile(func(s string) string {
			if strings.Contains(s, section+"\n") {
				return strings.Replace(s, section+"\n", section+"\n"+line+"\n", 1)
			}
			return s + section + "\n" + line + "\n"
		})
	}
	t.Run("a world behind a link, where the build brings one", func(t *testing.T) {
		t.Parallel()
		p := versioned(t)
		p.editProfile(func(s string) string { return strings.Replace(s, `keep = ["world/**"]`, "keep = [\n]", 1) })
		p.ok("adopt", p.install, "--build", filepath.Join(p.dir, "pond-1.0"))
		require.NoError(t, os.Rename(filepath.Join(p.install, "world"), filepath.Join(p.dir, "elsewhere")))
		require.NoError(t, os.Symlink(filepath.Join(p.dir, "elsewhere"), filepath.Join(p.install, "world")))
		put(t, filepath.Join(p.dir, "pond-2.0/world/map"), "the maker's world")
		m := part(t, do(p, "paths", "--from", "pond-2.0"), `name it in \[server\] keep: ("[^"]+")`)
		p.editProfile(func(s string) string { return strings.Replace(s, "keep = [\n]", "keep = ["+m[1]+"]", 1) })
		p.ok("refit", "--from", "pond-2.0")
		assert.Equal(t, "the world", p.read("world/map"))
	})
	t.Run("a folder where the build brings a file", func(t *testing.T) {
		t.Parallel()
		p := versioned(t)
		require.NoError(t, os.Remove(filepath.Join(p.install, "lib/1.dat")))
		p.put("lib/1.dat/mine.txt", "mine")
		m := part(t, do(p, "paths", "2.0"), `(mv \S+ \S+)`)
		out, err := exec.Command("sh", "-c", m[1]).CombinedOutput()
		require.NoError(t, err, string(out))
		p.ok("refit", "2.0")
		assert.Equal(t, "mine", p.read("lib/1.dat.old/mine.txt"))
	})
	t.Run("a build of which one file is needed", func(t *testing.T) {
		t.Parallel()
		p := bare(t)
		p.put("pond.sh", "#!/bin/sh\necho ready\n. ./pond.cfg\n"+patient)
		p.put("run.sh", "#!/bin/sh\nexec sh ./pond.sh\n")
		p.put("pond.cfg", "X=1\n")
		p.put("freshkeel.toml", "[server]\nname='pond'\nkeep=['*.cfg']\n[launch]\nscript='run.sh'\n[stop]\nsend='quit'\n[ready]\nline='^ready'\nwithin='5s'\nsteady='50ms'\n[place]\n'nothing-*.sh' = 'nothing.sh'\n")
		put(t, filepath.Join(p.dir, "next/pond-7.1.sh"), "#!/bin/sh\necho ready seven\n"+patient)
		m := part(t, do(p, "kind", "--from", "next"), `add to \[place\] in \S+: ("[^"]+" = "[^"]+")`)
		set(p, "[place]", m[1])
		p.ok("refit", "--from", "next", "--start")
		assert.Contains(t, p.read("pond.sh"), "seven")
	})
	t.Run("a build in a folder too many, and a layer in two", func(t *testing.T) {
		t.Parallel()
		p := versioned(t)
		require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "in"), 0o755))
		require.NoError(t, os.Rename(filepath.Join(p.dir, "pond-2.0"), filepath.Join(p.dir, "in/pond-server")))
		r := p.ok("refit", "--from", "in")
		assert.Contains(t, r.said(), "everything of the build lies in one folder, pond-server: its content is taken")
		assert.Contains(t, p.read("run.sh"), "2.0")
		assert.NoDirExists(t, filepath.Join(p.install, "pond-server"))
		p.put("addons/song.txt", "old")
		require.NoError(t, os.Mkdir(filepath.Join(p.dir, "songs"), 0o755))
		writeZip(t, filepath.Join(p.dir, "songs/songs-2.zip"), map[string]string{"a/b/song.txt": "new"})
		p.editProfile(func(s string) string {
			return s + "[[layer]]\nname = 'songs'\ninto = 'addons'\n[layer.source]\narchives.in = '../songs'\narchives.full = '^songs-(?P<version>[\\d.]+)\\.zip$'\n"
		})
		r = p.ok("refit", "--layer", "songs")
		assert.Contains(t, r.said(), "everything of layer songs lies in one folder, a/b")
		assert.Equal(t, "new", p.read("addons/song.txt"))
	})
	t.Run("the newest build, which nothing leads to", func(t *testing.T) {
		t.Parallel()
		p := versioned(t)
		feed := filepath.Join(p.dir, "feed/feed.json")
		b, err := os.ReadFile(feed)
		require.NoError(t, err)
		text := regexp.MustCompile(`"version": "2.0",`).ReplaceAllString(string(b), `"version": "2.0", "from": ["1.9"],`)
		require.NoError(t, os.WriteFile(feed, []byte(text), 0o644))
		out := p.ok("builds").out
		assert.Contains(t, out, "no chain of builds leads there from 1.0")
		next := part(t, out, `next +freshkeel (preflight .*)`)
		p.ok(strings.Fields(next[1])...)
		p.ok("refit", "1.1")
		out = p.ok("builds").out
		assert.Contains(t, out, "2.0 is there, and can't be installed")
		assert.NotContains(t, out, "  next")
	})
}

// A script that hands its server to a terminal multiplexer, starts it again for ever or
// waits for a key costs minutes of downtime once it is told to stop: that is told while
// nothing has stopped, by preflight and by start.
func TestWaysToRunAServerThatKeepItFromUs(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.put("pond.sh", p.read("run.sh"))
	for script, want := range map[string]string{
		"screen -dmS pond sh ./pond.sh\n":                              "STOP the launch script hands the server to screen, which keeps its console where run.sh:2: screen -dmS",
		"tmux new-session -d -s pond 'exec ./pond.sh --deep'\n":        "STOP the launch script hands the server to tmux",
		"read -p 'Enter to start' x\n./pond.sh\n":                      "STOP the launch script waits for a key before it starts the server where run.sh:2: read -p",
		"while true; do\n./pond.sh\nsleep 5\ndone\n":                   "warn the launch script starts the server again whenever it ends where run.sh:2: while true",
		"for ((;;)); do ./pond.sh; done\n":                             "warn the launch script starts the server again",
		"./pond.sh\necho bye\nread -n1 -r\n":                           "warn the launch script waits for a key once the server has ended where run.sh:4: read -n1 -r",
		"while read line; do :; done < list\nread -t 3 x\n./pond.sh\n": "",
		"while [ -e again ]; do ./pond.sh; done\necho x | read y\n":    "",
		"screen -S pond -X stuff quit\ntmux send-keys q\n./pond.sh\n":  "",
	} {
		p.put("run.sh", "#!/bin/bash\n"+script)
		r := p.run("preflight", "1.0", "--accept", "drift")
		said := r.said()
		if want == "" {
			assert.NotContains(t, said, "the launch script", script)
			continue
		}
		assert.Contains(t, said, want, script)
		if strings.HasPrefix(want, "STOP") {
			assert.Equal(t, exitRefused, r.code, script)
			began := time.Now()
			assert.Contains(t, p.exits(exitFailed, "start").err, strings.TrimPrefix(want, "STOP ")[:40], script)
			assert.Less(t, time.Since(began), 4*time.Second)
		}
	}
}

// The exit code of `status` is the answer for scripts, and it comes at once: nothing is
// settled by asking. While a new build is watched, its version is told, and not the old
// one's.
func TestStatusAnswersAtOnce(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	assert.Contains(t, p.exits(exitDown, "status").out, "DOWN  pond 1.0")
	p.ok("start")
	assert.Contains(t, p.ok("status").out, "RUNNING  pond 1.0")
	p.ok("send", "hello")
	until(t, "the line", func() bool {
		return strings.Contains(p.ok("--json", "log").out, `{"event":"console","text":"heard hello"}`+"\n")
	})

	put(t, filepath.Join(p.dir, "pond-2.0/run.sh"), "#!/bin/sh\necho 'pond server 2.0'\nwhile ! [ -e go ]; do sleep 0.1; done\n"+patient)
	done := make(chan ran, 1)
	go func() { done <- p.run("refit", "--from", "pond-2.0") }()
	until(t, "the watch", func() bool { return strings.Contains(p.run("status").out, "watching") })
	assert.Regexp(t, `(?s)^CHANGING  pond: refit r0001 to 2\.0 is watching.*busy .*another command is at work here`, p.exits(exitBetween, "status").out)
	assert.Equal(t, "2.0", p.status().Version)
	assert.Equal(t, freshkeel.Changing, p.status().State)
	p.put("go", "")
	r := <-done
	require.Zero(t, r.code, r.out+r.err)
	require.NoError(t, os.Remove(filepath.Join(p.install, "go")))

	p.runWith([]string{envDieAt + "=phase:rolling-back"}, "rollback")
	p.put("lib/slow.sh", "")
	began := time.Now()
	for range 2 {
		assert.Regexp(t, `(?s)^UNSETTLED  pond 2\.0: rollback r0002 was interrupted while rolling-back, and waits to be settled.*next +freshkeel recover`, p.exits(exitHands, "status").out)
	}
	assert.Less(t, time.Since(began), 10*time.Second)
	p.ok("recover")
	assert.Contains(t, p.ok("status").out, "RUNNING  pond 1.0")
}

// A relative path counts from where the command is run, a colour is no part of a rule,
// and the words that help names are those of the command.
func TestAdoptUnderstandsWhatIsTyped(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	require.NoError(t, os.Remove(filepath.Join(p.install, "freshkeel.toml")))
	p.put("logs/latest.log", "\x1b[32mpond server 1.0\x1b[0m\n\x1b[1;33mthe pond is ready\x1b[0m\n")
	p.put("run.sh", "#!/bin/sh\nprintf '\\033[32mpond server 1.0\\033[0m\\n\\033[1;33mthe pond is ready\\033[0m\\n'\n"+strings.TrimPrefix(patient, "echo ready\n"))
	p.ok("adopt", p.install, "--source", "feed/feed.json")
	assert.Contains(t, p.read("freshkeel.toml"), "'../feed/feed.json'")
	assert.NotContains(t, p.read("freshkeel.toml"), "\x1b")
	assert.Contains(t, p.read("freshkeel.toml"), "'^the pond is ready'")
	p.editProfile(func(s string) string { return quick.Replace(s) })
	p.ok("start")
	assert.Equal(t, "1.0", p.status().Version)
	assert.Contains(t, p.exits(exitUsage, "adopt", p.install, "--replace", "--source", "nowhere.json").err, "the source nowhere.json is neither here, at "+filepath.Join(p.dir, "nowhere.json"))

	assert.Contains(t, p.ok("help", "backup", "restore").out, "freshkeel backup restore - bring a backup back")
	assert.Contains(t, p.exits(exitUsage, "refit", "--acept", "kind").err, "there is no option --acept; did you mean --accept?")
	assert.Contains(t, p.exits(exitUsage, "log", "-n", "many").err, `-n: "many" is no whole number`)
	assert.Contains(t, p.exits(exitUsage, "adpot").err, "did you mean adopt?")
}

// What was found on the way: each a word that was not so.
func TestSmallThingsThatWereSaidWrongly(t *testing.T) {
	t.Parallel()
	p := versioned(t)

	// A long log is read at both ends, and a line's number is the file's.
	require.NoError(t, os.Remove(filepath.Join(p.install, "freshkeel.toml")))
	long := "pond server 1.0\nthe pond is ready\n" + strings.Repeat("a frog leaps\n", 900) + "> quit\n"
	p.put("logs/latest.log", long)
	p.put("run.sh", "#!/bin/sh\nexec ./pond\n")
	p.ok("adopt", p.install)
	assert.Contains(t, p.read("freshkeel.toml"), "logs/latest.log:903: > quit")
	p.put("logs/latest.log", "pond server 1.0\n"+strings.Repeat("a frog leaps\n", 60_000)+"> quit\n")
	require.NoError(t, os.Remove(filepath.Join(p.install, "freshkeel.toml")))
	p.ok("adopt", p.install)
	assert.Contains(t, p.read("freshkeel.toml"), "logs/latest.log, near its end: > quit")

	// A file that two patterns of [place] match has no name that could be told beforehand.
	p.editProfile(func(s string) string {
		return strings.Replace(s, "[place]", "[place]\n'run*.sh' = 'run.sh'\n'*un.sh' = 'start.sh'\n#", 1)
	})
	for range 3 {
		f := p.preflight(exitRefused, "--from", "pond-2.0")["paths"]
		assert.Equal(t, "the [place] patterns '*un.sh' and 'run*.sh' both match it", f.Why)
	}

	// The time for which players are warned is none in which the server ends.
	w := versioned(t)
	w.editProfile(func(s string) string {
		return strings.Replace(s, "send = \"quit\"", "send = \"quit\"\ntell = \"bye\"\nnotice = \"2s\"", 1)
	})
	w.ok("start")
	assert.Regexp(t, `STOPPED  pond ended after \d+ ms`, w.ok("stop").out)

	// A dump that fails is told once, and nothing is offered to be read that is not there.
	q := versioned(t)
	q.editProfile(func(s string) string {
		return s + "\n[[data]]\nname = 'frogs'\ndump = ['/bin/sh', '-c', 'echo no frogs >&2; exit 3']\nload = ['/bin/true']\n"
	})
	r := q.exits(exitFailed, "refit", "2.0")
	assert.NotContains(t, r.err, "try: less")
	assert.Contains(t, r.err, "\nfreshkeel: dump frogs: /bin/sh ended with exit status 3\n")
	assert.NotContains(t, r.err, "try: \n")
}
