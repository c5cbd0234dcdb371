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
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// versioned is an install of a small server, version 1.0, and a feed of three versions.
func versioned(t *testing.T) *place {
	t.Helper()
	p := scripted(t, "")
	require.NoError(t, os.Mkdir(filepath.Join(p.Dir, "feed"), 0o755))
	for _, v := range []string{"1.0", "1.1", "2.0"} {
		files := map[string]string{"run.sh": "#!/bin/sh\necho 'pond server " + v + "'\n" + patient,
			"lib/same.dat": "same"}
		for i := range 3 {
			files[fmt.Sprintf("lib/%d.dat", i)] = fmt.Sprint("lib ", i, " of ", v)
		}
		writeZip(t, filepath.Join(p.Dir, "feed", "pond-"+v+".zip"), files)
		for at, body := range files {
			proving.Put(t, filepath.Join(p.Dir, "pond-"+v, at), body)
			if v == "1.0" {
				p.Put(at, body)
			}
		}
	}
	p.Put("world/map", "the world")
	p.OK("feed", "write", filepath.Join(p.Dir, "feed"), "--name", "Pond")
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "[launch]", "keep = [\"world/**\"]\n[source]\nfeed = \"../feed/feed.json\"\n[launch]",
			1) + "version = '^pond server (\\S+)'\n"
	})
	p.OK("adopt", p.Install, "--build", filepath.Join(p.Dir, "feed", "pond-1.0.zip"))
	return p
}

// The version that is recorded follows what the files are: after a restore of a part,
// of all of the program or of some of it, `status`, `builds`, `refit` and the watch say
// the same, and a refit that such a restore undid is not offered to be undone again.
func TestTheRecordedVersionFollowsTheFiles(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.OK("start")
	p.OK("refit", "2.0")
	r := p.OK("backup", "restore", "b0001", "--only", "lib/**", "--only", "run.sh")
	assert.Contains(t, r.Out, "2.0 → 1.0")
	assert.Equal(t, "1.0", p.Status().Version)
	assert.Contains(t, p.OK("builds").Out, "NEWER  2.0 is there; 1.0 is installed")
	assert.Contains(t, p.Exits(exitFailed, "rollback").Err, "no refit is in effect")
	p.OK("refit", "2.0")
	whole := p.Tree()

	r = p.OK("backup", "restore", "b0001", "--only", "lib/1.dat")
	assert.Contains(t, r.Said(), "the install is 2.0 with 1 file of 1.0 now; a refit to either makes it whole")
	assert.Equal(t, []string{"1.0"}, p.Status().Mixed)
	assert.Contains(t, p.OK("builds").Out, "MIXED  2.0 is installed, but some of its files are of 1.0")
	assert.Contains(t, p.OK("refit", "2.0").Out, "REFITTED")
	assert.Equal(t, whole, p.Tree())
	assert.Empty(t, p.Status().Mixed)
	assert.Contains(t, p.OK("builds").Out, "CURRENT")

	p.OK("backup", "restore", "b0001", "--only", "world/**")
	assert.Equal(t, "2.0", p.Status().Version, "the world is of no build")

	// Killed in the middle of such a restore, it is recorded all the same (P2).
	for _, step := range []string{"back-swap:1", "back-swap:3", "phase:returning"} {
		p.RunWith([]string{envDieAt + "=" + step}, "backup", "restore", "b0001", "--only", "lib/**", "--only", "run.sh")
		p.OK("recover")
		assert.Equal(t, "1.0", p.Status().Version, step)
		assert.Contains(t, p.OK("log").Out, "pond server 1.0", step)
		assert.Contains(t, p.Exits(exitFailed, "rollback").Err, "no refit is in effect", step)
		p.OK("refit", "2.0")
		assert.Equal(t, whole, p.Tree(), step)
	}

	// That the build is mixed says nothing of a layer.
	proving.Put(t, filepath.Join(p.Dir, "songs/songs-1.0.zip"), "")
	require.NoError(t, os.Remove(filepath.Join(p.Dir, "songs/songs-1.0.zip")))
	writeZip(t, filepath.Join(p.Dir, "songs/songs-1.0.zip"), map[string]string{"songs/one.txt": "la"})
	profile := p.Read("freshkeel.toml")
	p.EditProfile(func(s string) string {
		return s + "[[layer]]\nname = 'songs'\n[layer.source]\narchives.in = '../songs'\narchives.full = '^songs-(?P<version>[\\d.]+)\\.zip$'\n"
	})
	p.OK("refit", "--layer", "songs")
	p.OK("backup", "restore", "b0001", "--only", "lib/1.dat")
	var list struct{ Offers []freshkeel.Offer }
	require.NoError(t, json.Unmarshal([]byte(p.OK("--json", "builds").Out), &list))
	require.Len(t, list.Offers, 2)
	assert.True(t, list.Offers[1].Builds[0].Installed)
	p.Put("freshkeel.toml", profile)

	// A server whose files somebody exchanged works: it is not stopped, and believed.
	p.OK("stop")
	p.Put("run.sh", strings.Replace(p.Read("run.sh"), "2.0", "3.0", 1))
	r = p.OK("start")
	assert.Contains(t, r.Said(), "the server says that it is 3.0, and 2.0 was recorded")
	assert.Equal(t, "3.0", p.Status().Version)
}

// Archives that are named in their order have no version: one that is exchanged is
// another build, and what a refit finds to be installed already is that for `builds`.
func TestNamedArchivesAreToldByWhatTheyAre(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "feed = \"../feed/feed.json\"",
			"[source.archives]\nin = \"../feed\"\nparts = [\"pond-1.0.zip\", \"last.zip\"]", 1)
	})
	last := filepath.Join(p.Dir, "feed", "last.zip")
	for _, v := range []string{"1.1", "2.0"} {
		os.Remove(last)
		writeZip(t, last, map[string]string{"run.sh": "#!/bin/sh\necho 'pond server " + v + "'\n" + patient})
		assert.Contains(t, p.OK("builds").Out, "OTHER")
		p.OK("refit")
		assert.Equal(t, v, p.Status().Version)
		assert.Contains(t, p.OK("builds").Out, "CURRENT")
	}
	fi, err := os.Stat(last)
	require.NoError(t, err)
	require.NoError(t, os.Chtimes(last, fi.ModTime(), fi.ModTime().Add(-1e12)))
	assert.Contains(t, p.OK("refit").Out, "NOTHING TO DO")
	assert.Contains(t, p.OK("builds").Out, "CURRENT")
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
	t.Run("a world behind a link, where the build brings one", func(t *testing.T) {
		t.Parallel()
		p := versioned(t)
		p.EditProfile(func(s string) string { return strings.Replace(s, `keep = ["world/**"]`, "keep = [\n]", 1) })
		p.OK("adopt", p.Install, "--build", filepath.Join(p.Dir, "pond-1.0"))
		require.NoError(t, os.Rename(filepath.Join(p.Install, "world"), filepath.Join(p.Dir, "elsewhere")))
		require.NoError(t, os.Symlink(filepath.Join(p.Dir, "elsewhere"), filepath.Join(p.Install, "world")))
		proving.Put(t, filepath.Join(p.Dir, "pond-2.0/world/map"), "the maker's world")
		m := part(t, do(p, "paths", "--from", "pond-2.0"), `name it in \[server\] keep: ("[^"]+")`)
		p.EditProfile(func(s string) string { return strings.Replace(s, "keep = [\n]", "keep = ["+m[1]+"]", 1) })
		p.OK("refit", "--from", "pond-2.0")
		assert.Equal(t, "the world", p.Read("world/map"))
	})
	t.Run("a folder where the build brings a file", func(t *testing.T) {
		t.Parallel()
		p := versioned(t)
		require.NoError(t, os.Remove(filepath.Join(p.Install, "lib/1.dat")))
		p.Put("lib/1.dat/mine.txt", "mine")
		m := part(t, do(p, "paths", "2.0"), `(mv \S+ \S+)`)
		out, err := exec.Command("sh", "-c", m[1]).CombinedOutput()
		require.NoError(t, err, string(out))
		p.OK("refit", "2.0")
		assert.Equal(t, "mine", p.Read("lib/1.dat.old/mine.txt"))
	})
	t.Run("a build of which one file is needed", func(t *testing.T) {
		t.Parallel()
		p := bare(t)
		p.Put("pond.sh", "#!/bin/sh\necho ready\n. ./pond.cfg\n"+patient)
		p.Put("run.sh", "#!/bin/sh\nexec sh ./pond.sh\n")
		p.Put("pond.cfg", "X=1\n")
		p.Put(
			"freshkeel.toml",
			"[server]\nname='pond'\nkeep=['*.cfg']\n[launch]\nscript='run.sh'\n[stop]\nsend='quit'\n[ready]\nline='^ready'\nwithin='5s'\nsteady='50ms'\n[place]\n'nothing-*.sh' = 'nothing.sh'\n",
		)
		proving.Put(t, filepath.Join(p.Dir, "next/pond-7.1.sh"), "#!/bin/sh\necho ready seven\n"+patient)
		m := part(t, do(p, "kind", "--from", "next"), `freshkeel profile set '([^']+)' (\S+)`)
		p.OK("profile", "set", m[1], m[2])
		p.OK("refit", "--from", "next", "--start")
		assert.Contains(t, p.Read("pond.sh"), "seven")
	})
	t.Run("a build in a folder too many, and a layer in two", func(t *testing.T) {
		t.Parallel()
		p := versioned(t)
		require.NoError(t, os.MkdirAll(filepath.Join(p.Dir, "in"), 0o755))
		require.NoError(t, os.Rename(filepath.Join(p.Dir, "pond-2.0"), filepath.Join(p.Dir, "in/pond-server")))
		r := p.OK("refit", "--from", "in")
		assert.Contains(t, r.Said(), "everything of the build lies in one folder, pond-server: its content is taken")
		assert.Contains(t, p.Read("run.sh"), "2.0")
		assert.NoDirExists(t, filepath.Join(p.Install, "pond-server"))
		p.Put("addons/song.txt", "old")
		require.NoError(t, os.Mkdir(filepath.Join(p.Dir, "songs"), 0o755))
		writeZip(t, filepath.Join(p.Dir, "songs/songs-2.zip"), map[string]string{"a/b/song.txt": "new"})
		p.EditProfile(func(s string) string {
			return s + "[[layer]]\nname = 'songs'\ninto = 'addons'\n[layer.source]\narchives.in = '../songs'\narchives.full = '^songs-(?P<version>[\\d.]+)\\.zip$'\n"
		})
		assert.Contains(t, p.Exits(exitRefused, "refit", "--layer", "songs").Said(), "addons/song.txt: no build that is known put it there")
		r = p.OK("refit", "--layer", "songs", "--overwrite", "addons")
		assert.Contains(t, r.Said(), "everything of layer songs lies in one folder, a/b")
		assert.Equal(t, "new", p.Read("addons/song.txt"))
	})
	t.Run("the newest build, which nothing leads to", func(t *testing.T) {
		t.Parallel()
		p := versioned(t)
		feed := filepath.Join(p.Dir, "feed/feed.json")
		b, err := os.ReadFile(feed)
		require.NoError(t, err)
		text := regexp.MustCompile(`"version": "2.0",`).ReplaceAllString(string(b),
			`"version": "2.0", "from": ["1.9"],`)
		require.NoError(t, os.WriteFile(feed, []byte(text), 0o644))
		out := p.OK("builds").Out
		assert.Contains(t, out, "no chain of builds leads there from 1.0")
		next := part(t, out, `next +freshkeel (preflight .*)`)
		p.OK(strings.Fields(next[1])...)
		p.OK("refit", "1.1")
		out = p.OK("builds").Out
		assert.Contains(t, out, "2.0 is there, and can't be installed")
		assert.NotContains(t, out, "  next")
	})
}

// A script that hands its server to a terminal multiplexer, or waits for a key before it, is
// refused while nothing has stopped, by preflight and by start. A loop and a key at the end
// are seen to, and nothing to warn of.
func TestWaysToRunAServerThatKeepItFromUs(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	p.Put("pond.sh", p.Read("run.sh"))
	for script, want := range map[string]string{
		"screen -dmS pond sh ./pond.sh\n":                              "STOP the launch script hands the server to screen, which keeps its console where run.sh:2: screen -dmS",
		"tmux new-session -d -s pond 'exec ./pond.sh --deep'\n":        "STOP the launch script hands the server to tmux",
		"read -p 'Enter to start' x\n./pond.sh\n":                      "STOP the launch script waits for a key before it starts the server where run.sh:2: read -p",
		"while true; do\n./pond.sh\nsleep 5\ndone\n":                   "",
		"for ((;;)); do ./pond.sh; done\n":                             "",
		"./pond.sh\necho bye\nread -n1 -r\n":                           "",
		"while read line; do :; done < list\nread -t 3 x\n./pond.sh\n": "",
		"while [ -e again ]; do ./pond.sh; done\necho x | read y\n":    "",
		"screen -S pond -X stuff quit\ntmux send-keys q\n./pond.sh\n":  "",
	} {
		p.Put("run.sh", "#!/bin/bash\n"+script)
		r := p.Run("preflight", "1.0", "--accept", "drift")
		said := r.Said()
		if want == "" {
			assert.NotContains(t, said, "the launch script", script)
			continue
		}
		assert.Contains(t, said, want, script)
		if strings.HasPrefix(want, "STOP") {
			assert.Equal(t, exitRefused, r.Code, script)
			began := time.Now()
			assert.Contains(t, p.Exits(exitFailed, "start").Err, strings.TrimPrefix(want, "STOP ")[:40], script)
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
	assert.Contains(t, p.Exits(exitDown, "status").Out, "DOWN  pond 1.0")
	p.OK("start")
	assert.Contains(t, p.OK("status").Out, "RUNNING  pond 1.0")
	p.OK("send", "hello")
	proving.Until(t, "the line", func() bool {
		return strings.Contains(p.OK("--json", "log").Out, `{"event":"console","text":"heard hello"}`+"\n")
	})

	proving.Put(t, filepath.Join(p.Dir, "pond-2.0/run.sh"),
		"#!/bin/sh\necho 'pond server 2.0'\nwhile ! [ -e go ]; do sleep 0.1; done\n"+patient)
	done := make(chan proving.Ran, 1)
	go func() { done <- p.Run("refit", "--from", "pond-2.0") }()
	proving.Until(t, "the watch", func() bool { return strings.Contains(p.Run("status").Out, "watching") })
	assert.Regexp(t, `(?s)^CHANGING  pond: refit r0001 to 2\.0 is watching.*busy .*another command is at work here`,
		p.Exits(exitBetween, "status").Out)
	assert.Equal(t, "2.0", p.Status().Version)
	assert.Equal(t, freshkeel.Changing, p.Status().State)
	p.Put("go", "")
	r := <-done
	require.Zero(t, r.Code, r.Out+r.Err)
	require.NoError(t, os.Remove(filepath.Join(p.Install, "go")))

	p.RunWith([]string{envDieAt + "=phase:rolling-back"}, "rollback")
	p.Put("lib/slow.sh", "")
	began := time.Now()
	for range 2 {
		assert.Regexp(
			t,
			`(?s)^UNSETTLED  pond 2\.0: rollback r0002 of [\d: -]+ was interrupted while rolling-back, and waits to be settled.*next +freshkeel recover`,
			p.Exits(exitHands, "status").Out,
		)
	}
	assert.Less(t, time.Since(began), 10*time.Second)
	p.OK("recover")
	assert.Contains(t, p.OK("status").Out, "RUNNING  pond 1.0")
}

// A relative path counts from where the command is run, a colour is no part of a rule,
// and the words that help names are those of the command.
func TestAdoptUnderstandsWhatIsTyped(t *testing.T) {
	t.Parallel()
	p := versioned(t)
	require.NoError(t, os.Remove(filepath.Join(p.Install, "freshkeel.toml")))
	p.Put("logs/latest.log", "\x1b[32mpond server 1.0\x1b[0m\n\x1b[1;33mthe pond is ready\x1b[0m\n")
	p.Put("run.sh", "#!/bin/sh\nprintf '\\033[32mpond server 1.0\\033[0m\\n\\033[1;33mthe pond is ready\\033[0m\\n'\n"+
		strings.TrimPrefix(patient, "echo ready\n"))
	p.OK("adopt", p.Install, "--source", "feed/feed.json")
	assert.Contains(t, p.Read("freshkeel.toml"), "'../feed/feed.json'")
	assert.NotContains(t, p.Read("freshkeel.toml"), "\x1b")
	assert.Contains(t, p.Read("freshkeel.toml"), "'^the pond is ready'")
	p.EditProfile(func(s string) string { return proving.Quick.Replace(s) })
	p.OK("start")
	assert.Equal(t, "1.0", p.Status().Version)
	assert.Contains(t, p.Exits(exitUsage, "adopt", p.Install, "--replace", "--source", "nowhere.json").Err,
		"the source nowhere.json is neither here, at "+filepath.Join(p.Dir, "nowhere.json"))

	assert.Contains(t, p.OK("help", "backup", "restore").Out, "freshkeel backup restore - bring a backup back")
	assert.Contains(t, p.Exits(exitUsage, "refit", "--acept", "kind").Err,
		"there is no option --acept; did you mean --accept?")
	assert.Contains(t, p.Exits(exitUsage, "log", "-n", "many").Err, `-n: "many" is no whole number`)
	assert.Contains(t, p.Exits(exitUsage, "adpot").Err, "did you mean adopt?")
}

// What was found on the way: each a word that was not so.
func TestSmallThingsThatWereSaidWrongly(t *testing.T) {
	t.Parallel()
	p := versioned(t)

	// A long log is read at both ends, and a line's number is the file's.
	require.NoError(t, os.Remove(filepath.Join(p.Install, "freshkeel.toml")))
	long := "pond server 1.0\nthe pond is ready\n" + strings.Repeat("a frog leaps\n", 900) + "> quit\n"
	p.Put("logs/latest.log", long)
	p.Put("run.sh", "#!/bin/sh\nexec ./pond\n")
	p.OK("adopt", p.Install)
	assert.Contains(t, p.Read("freshkeel.toml"), "logs/latest.log:903: > quit")
	p.Put("logs/latest.log", "pond server 1.0\n"+strings.Repeat("a frog leaps\n", 60_000)+"> quit\n")
	require.NoError(t, os.Remove(filepath.Join(p.Install, "freshkeel.toml")))
	p.OK("adopt", p.Install)
	assert.Contains(t, p.Read("freshkeel.toml"), "logs/latest.log, near its end: > quit")

	// A file that two patterns of [place] match has no name that could be told beforehand.
	p.EditProfile(func(s string) string {
		return strings.Replace(s, "[place]", "[place]\n'run*.sh' = 'run.sh'\n'*un.sh' = 'start.sh'\n#", 1)
	})
	for range 3 {
		f := p.preflight(exitRefused, "--from", "pond-2.0")["paths"]
		assert.Equal(t, "the [place] patterns '*un.sh' and 'run*.sh' both match it", f.Why)
	}

	// The time for which players are warned is none in which the server ends.
	w := versioned(t)
	w.EditProfile(func(s string) string {
		return strings.Replace(s, "send = \"quit\"", "send = \"quit\"\ntell = \"bye\"\nnotice = \"2s\"", 1)
	})
	w.OK("start")
	assert.Regexp(t, `STOPPED  pond ended after \d+ ms`, w.OK("stop").Out)

	// A dump that fails is told once, and nothing is offered to be read that is not there.
	q := versioned(t)
	q.EditProfile(func(s string) string {
		return s + "\n[[data]]\nname = 'frogs'\ndump = ['/bin/sh', '-c', 'head -c 100000 /dev/zero; sleep 0.3; echo no frogs >&2; exit 3']\nload = ['/bin/true']\n"
	})
	r := q.Exits(exitFailed, "refit", "2.0")
	assert.NotContains(t, r.Err, "try: less")
	assert.Contains(t, r.Err, "\nfreshkeel: dump frogs: /bin/sh ended with exit status 3\n")
	assert.NotContains(t, r.Err, "try: \n")
}
