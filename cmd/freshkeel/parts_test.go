//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
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
	p.OK("send", "world: hello")
	require.Eventually(t, func() bool { return strings.Contains(p.OK("log").Out, "world  > hello") }, 5*time.Second,
		50*time.Millisecond)
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
