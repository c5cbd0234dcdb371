//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// partServer is one part of a server: it notes in a shared log that it came up and went.
const partServer = `#!/bin/sh
echo "PART VERSION"
echo "PART up" >> order.txt
[ ! -e PART.dies ] || { sleep 0.2; echo "PART crumbles"; exit 3; }
[ ! -e PART.slow ] || sleep 0.8
echo "PART ready"
[ ! -e PART.faints ] || { sleep 0.4; exit 5; }
while read -r line; do
  echo "> $line"
  [ "$line" = close ] || continue
  echo "PART down" >> order.txt
  exit 0
done
`

// threeParts is an install of three parts, whose profile names them in another order than that in which
// they are started.
func threeParts(t *testing.T) (p place, build func(v string) string) {
	p = place{proving.Bare(t)}
	script := func(name, v string) string {
		return strings.NewReplacer("PART", name, "VERSION", v).Replace(partServer)
	}
	build = func(v string) string {
		at := filepath.Join(p.Dir, "pond-"+v+".zip")
		zipOf(t, at, time.Now(), false, "world.sh", script("world", v), "login.sh", script("login", v), "web.sh",
			script("web", v))
		return at
	}
	profile := "[server]\nname = 'pond'\nkeep = ['order.txt', '*.dies', '*.slow', '*.faints']\n"
	for _, part := range [][2]string{{"web", "'world', 'login'"}, {"world", "'login'"}, {"login", ""}} {
		p.Put(part[0]+".sh", script(part[0], "1.0"))
		profile += fmt.Sprintf(
			"[[part]]\nname = '%s'\nafter = [%s]\n[part.launch]\nscript = '%[1]s.sh'\n[part.stop]\nsend = 'close'\n"+
				"[part.ready]\nline = '^%[1]s ready'\nversion = '^%[1]s (\\d\\S*)'\nsteady = '100ms'\n",
			part[0],
			part[1],
		)
	}
	p.Put("freshkeel.toml", profile)
	p.OK("adopt", p.Install, "--build", build("1.0"), "--version", "1.0")
	return p, build
}

// Parts come up in their order, each seen up before the next, and go down in reverse; one that
// fails brings all back.
func TestPartsComeUpInOrderAndGoBackTogether(t *testing.T) {
	t.Parallel()
	p, build := threeParts(t)
	order := func() string {
		b, _ := os.ReadFile(filepath.Join(p.Install, "order.txt"))
		os.Remove(filepath.Join(p.Install, "order.txt"))
		return strings.ReplaceAll(strings.TrimSpace(string(b)), "\n", ", ")
	}
	p.OK("start")
	assert.Equal(t, "login up, world up, web up", order())
	out := p.OK("status").Out
	for _, row := range []string{`login +up .*under a minder +login ready`, `world +up`, `web +up`} {
		assert.Regexp(t, row, out)
	}
	require.Len(t, p.Status().Parts, 3)
	assert.Contains(t, p.OK("start", "--dry-run").Out, "login.sh, world.sh, web.sh in")
	p.OK("send", "world: hello")
	require.Eventually(t, func() bool { return strings.Contains(p.OK("log").Out, "world  > hello") }, 5*time.Second,
		50*time.Millisecond)
	proving.Hears(t, p.Command("log", "-f"), "world  > again", func() { p.OK("send", "world: again") })
	r := p.Exits(exitFailed, "start")
	assert.Contains(t, r.Err, "running already")
	assert.Contains(t, p.OK("preflight", "--from", build("1.1"), "--all").Out, "web.sh starts the server of web")

	r = p.OK("refit", "--from", build("1.1"))
	assert.Equal(t, "web down, world down, login down, login up, world up, web up", order())
	assert.Contains(t, oneSpace(r.Err), "3 parts up, in this order: login, world, web")
	assert.Equal(t, "1.1", p.Status().Version)

	p.Put("world.dies", "")
	before := p.Tree()
	r = p.Exits(exitHands, "refit", "--from", build("1.2")) // it dies with the old build too
	assert.Contains(t, r.Out, "world: the server ended (status 3) before it was ready")
	require.NoError(t, os.Remove(filepath.Join(p.Install, "world.dies")))
	for _, same := range []string{"world.sh", "web.sh", "login.sh"} {
		assert.Equal(t, before[same], p.Tree()[same])
	}
	p.OK("start")
	p.OK("rollback")
	assert.Equal(t, "1.0", p.Status().Version)
	order()

	// One that dies while the next one boots brings all back, too.
	p.Put("world.slow", "")
	p.Put("login.faints", "")
	r = p.Exits(exitHands, "refit", "--from", build("1.3"))
	assert.Regexp(t, "login ended while world came up|login: the server ended", r.Out)
	for _, f := range []string{"world.slow", "login.faints"} {
		require.NoError(t, os.Remove(filepath.Join(p.Install, f)))
	}
	p.OK("start")
	order()

	// One part that crashed is told, and all are started together again.
	for _, part := range p.Status().Parts {
		if part.Name == "world" {
			proc, err := os.FindProcess(part.Server.PID)
			require.NoError(t, err)
			proc.Kill()
		}
	}
	require.Eventually(
		t,
		func() bool { return strings.Contains(p.Run("status").Out, "world  down") },
		5*time.Second,
		50*time.Millisecond,
	)
	p.OK("stop")
	assert.Equal(t, "web down, login down", order())
	p.Exits(exitDown, "status")

	for wrong, why := range map[string]string{
		"after = ['world', 'login']": "there is no part",
		"after = ['login']":          "wait for each other",
	} {
		with := strings.Replace(wrong, "'login']", "'nobody']", 1)
		if why == "wait for each other" {
			with = "after = ['web']"
		}
		text := p.Read("freshkeel.toml")
		p.EditProfile(func(s string) string { return strings.Replace(s, wrong, with, 1) })
		assert.Contains(t, p.Exits(exitUsage, "status").Err, why)
		p.Put("freshkeel.toml", text)
	}
}

// A part that crashes is started again by itself, where its own [part.host] says so; several at once,
// each of them; and none that was stopped.
func TestAPartIsStartedAgainAfterACrash(t *testing.T) {
	t.Parallel()
	p, _ := threeParts(t)
	p.EditProfile(func(s string) string {
		again := "[part.host]\nrestart = 'after-crash'\npause = '100ms'\n[part.launch]\n"
		return strings.Replace(s, "[part.launch]\n", again, 2) // of web and world
	})
	p.OK("start")
	pids := func() map[string]int {
		out := map[string]int{}
		for _, part := range p.Status().Parts {
			out[part.Name] = part.Server.PID
		}
		return out
	}
	first := pids()
	for _, name := range []string{"world", "web"} {
		syscall.Kill(first[name], syscall.SIGKILL)
	}
	proving.Until(t, "both to be up again", func() bool {
		now := pids()
		return now["world"] != 0 && now["web"] != 0 && now["world"] != first["world"] && now["web"] != first["web"]
	})
	assert.Equal(t, first["login"], pids()["login"])
	proving.Until(t, "both to be in the logbook", func() bool {
		said := p.OK("logbook", "--json").Out
		return strings.Count(said, `"outcome": "restarted"`) == 2 && strings.Contains(said, `"part": "world"`)
	})
	syscall.Kill(first["login"], syscall.SIGKILL) // it has no such rule
	p.EditProfile(func(s string) string { return strings.ReplaceAll(s, "'100ms'\n[part.launch]", "'1s'\n[part.launch]") })
	syscall.Kill(pids()["web"], syscall.SIGKILL)
	proving.Until(t, "the crash to be seen", func() bool { return len(p.Entries()) == 3 })
	p.OK("stop")
	time.Sleep(1500 * time.Millisecond)
	p.Exits(exitDown, "status")
}

// A part outside the install, a database, must be up, is started where it is down, is never stopped
// by a refit, and is put down and up for a migration that needs it so.
func TestAPartOutsideTheInstall(t *testing.T) {
	t.Parallel()
	p, build := threeParts(t)
	songs := filepath.Join(p.Dir, "songs")
	sh := func(text string) string { return "['sh', '-c', '" + text + "']" }
	p.EditProfile(func(s string) string {
		return s + "[[part]]\nname = 'songs'\noutside = true\n[part.host]\nstart = " + sh(
			"date +%s%N > "+songs,
		) + "\nstop = " +
			sh(
				"rm "+songs,
			) + "\nstatus = " + sh(
			"test -e "+songs,
		) + "\n[[migration]]\nname = 'cold copy'\nwhen = 'each'\nrun = " +
			sh(
				"test ! -e "+songs+" && echo copied",
			) + "\nsuccess = '^copied'\ndown = ['songs']\n" +
			"[[migration]]\nname = 'warm look'\nwhen = 'each'\nrun = " + sh(
			"test -e "+songs+" && echo looked",
		) +
			"\nsuccess = '^looked'\nup = ['songs', 'login']\n"
	})
	began := func() string {
		b, _ := os.ReadFile(songs)
		return string(b)
	}
	assert.Contains(
		t,
		oneSpace(p.OK("preflight", "--from", build("1.1")).Out),
		"songs, which the server needs, is down",
	)
	r := p.OK("start")
	assert.Contains(t, r.Err, "songs is down, and is started")
	first := began()
	assert.Regexp(t, `songs +up .*outside the install`, p.OK("status").Out)
	p.OK("stop")
	assert.Equal(t, first, began(), "it runs on")
	p.OK("start")
	r = p.OK("refit", "--from", build("1.1"))
	assert.Contains(t, r.Err, "migrate: cold copy")
	assert.Contains(t, r.Err, "migrate: warm look")
	assert.NotEqual(t, first, began(), "it was down for the one, and up again for the other")
	assert.NotEmpty(t, began())
	p.OK("stop")
}

// A refit that changes the files of some parts stops those, and the parts after them; the others
// run on, and what they write meanwhile stays, whichever way the refit ends.
func TestARefitOfSomePartsLetsTheOthersRun(t *testing.T) {
	t.Parallel()
	p, _ := threeParts(t)
	script := func(name, v string) string {
		return strings.NewReplacer("PART", name, "VERSION", v).Replace(partServer)
	}
	build := func(v string, scripts ...string) []string { // of parts that change, name and text
		texts := map[string]string{"login": script("login", "1.0"), "world": script("world", "1.0"),
			"web": script("web", "1.0")}
		for i := 0; i < len(scripts); i += 2 {
			texts[scripts[i]] = scripts[i+1]
		}
		at := filepath.Join(p.Dir, "pond-"+v+".zip")
		zipOf(t, at, time.Now(), false, "world.sh", texts["world"], "login.sh", texts["login"], "web.sh", texts["web"])
		return []string{"--from", at}
	}
	own := func(name, files string) {
		p.EditProfile(func(s string) string {
			return strings.Replace(s, "name = '"+name+"'\n", "name = '"+name+"'\nfiles = ["+files+"]\n", 1)
		})
	}
	pids := func() map[string]int {
		out := map[string]int{}
		for _, part := range p.Status().Parts {
			require.True(t, part.Server.Running, part.Name)
			out[part.Name] = part.Server.PID
		}
		return out
	}
	own("web", "'web.sh', 'pages/**'")
	p.EditProfile(func(s string) string { // the web alone says the version of the build
		return regexp.MustCompile(`version = '.(login|world).*\n`).ReplaceAllString(s, "")
	})
	p.Put("pages/index", "page 1")
	p.Put("world/tiles", "0\n")
	p.OK("start")
	stop, grown := make(chan bool), make(chan int)
	go func() { // the world's own files, which the world writes as it runs on
		n := 0
		for {
			select {
			case <-stop:
				grown <- n
				return
			case <-time.After(2 * time.Millisecond):
				n++
				f, err := os.OpenFile(filepath.Join(p.Install, "world/tiles"), os.O_APPEND|os.O_WRONLY, 0)
				if err == nil {
					fmt.Fprintln(f, n)
					f.Close()
				}
			}
		}
	}()
	first := pids()
	same := func(which ...string) {
		t.Helper()
		now := pids()
		for name, pid := range first {
			assert.Equal(t, slices.Contains(which, name), now[name] == pid, "%s: %v → %v", name, first, now)
		}
		first = now
	}
	next := func(v string) string { return script("web", v) }

	out := p.OK(append([]string{"preflight"}, build("1.1", "web", next("1.1"))...)...).Out
	assert.Contains(t, out, "stops     web; no file of another part changes, and the others run on")
	r := p.OK(append([]string{"refit"}, build("1.1", "web", next("1.1"))...)...)
	same("login", "world")
	assert.Contains(t, r.Err, "web ended (status 0); still running: login, world")
	assert.Equal(t, "1.1", p.Status().Version)
	list := p.OK("backup", "show", "b0001").Out
	assert.Contains(t, list, "web.sh")
	assert.NotContains(t, list, "world/tiles", "what the world writes would not hold together")

	// One that dies takes back what is its own, and nothing of the world.
	p.Put("pages/index", "page 2")
	dies := strings.Replace(
		next("1.2"),
		"#!/bin/sh\n",
		"#!/bin/sh\necho spoilt > pages/index; echo more > pages/new; exit 3\n",
		1,
	)
	r = p.Exits(exitRolledBack, append([]string{"refit"}, build("1.2", "web", dies)...)...)
	same("login", "world")
	assert.Equal(t, "page 2", p.Read("pages/index"))
	assert.NoFileExists(t, filepath.Join(p.Install, "pages/new"))
	assert.Contains(t, r.Out, "not stopped, as no file of theirs changed: login, world")

	// What a part that ran on has not read again stays told.
	p.Put("login.sh", p.Read("login.sh")+"# a word\n")
	p.OK(append([]string{"refit"}, build("1.2.1", "web", next("1.2.1"), "login", script("login", "1.0"))...)...)
	same("login", "world")
	assert.Contains(t, oneSpace(p.OK("status").Out), "it has not read this: login.sh (script, edited at")

	// What comes after a part that stops, stops too: without knowing its files, all do.
	own("world", "'world.sh', 'world/**'")
	r = p.OK(append([]string{"refit"}, build("1.3", "web", next("1.3"), "world", script("world", "1.3"))...)...)
	same("login")
	assert.Contains(t, r.Err, "still running: login")
	close(stop)
	n := <-grown
	tiles := strings.Fields(p.Read("world/tiles"))
	assert.Equal(t, fmt.Sprint(n), tiles[len(tiles)-1])
	assert.Len(t, tiles, n+1, "no line of the world was lost")

	// Both are taken back: each stops what it stopped, and nobody else's file is touched.
	p.Put("world/tiles", "of now")
	assert.Contains(t, p.OK("rollback", "--dry-run").Out, "stops     world, web; no file of another part changes")
	assert.Contains(t, p.Exits(exitFailed, "rollback", "r0001", "--world").Err, "r0001 stopped web alone")
	assert.Contains(t, p.OK("backup", "list").Out, "web alone, before r0001: 1.0 → 1.1")
	r = p.OK("rollback", "r0001")
	assert.NotContains(t, r.Out, "to put it back too", "its backup has nothing of the world")
	same("login")
	assert.Equal(t, "of now", p.Read("world/tiles"))
	assert.Equal(t, script("world", "1.0"), p.Read("world.sh"))
	assert.Equal(t, script("web", "1.0"), p.Read("web.sh"))

	// A part that ends meanwhile, though it was to run on, is no success.
	p.Put("web.slow", "")
	p.Put("order.txt", "")
	go func() {
		assert.Eventually(t, func() bool { return strings.Contains(p.Read("order.txt"), "web up") }, 10*time.Second,
			10*time.Millisecond)
		syscall.Kill(first["login"], syscall.SIGKILL)
	}()
	r = p.Exits(exitRolledBack, append([]string{"refit"}, build("1.4", "web", next("1.4"))...)...)
	assert.Contains(t, r.Out, "login, which was to run on, ended meanwhile")
	same("world") // the others are up again
	// One that is down before, and data outside, are of the whole server.
	p.EditProfile(func(s string) string { return s + "[[data]]\nname='d'\ndump=['echo','d']\nload=['cat']\n" })
	out = p.OK(append([]string{"preflight"}, build("1.4", "web", next("1.4"))...)...).Out
	assert.NotContains(t, out, "run on")
	assert.Contains(t, oneSpace(out), "login, world, web are stopped, though only files of web change: the data outside ([[data]] d) "+
		"is of the whole server")
	p.OK("stop")
}
