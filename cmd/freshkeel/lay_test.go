//go:build unix

package main

import (
	"archive/zip"
	"crypto/sha512"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A second instance is laid beside the first, on a port of its own, with settings and world; or
// as the first was at a backup. The first is not touched.
func TestASecondInstanceIsLaidBesideTheFirst(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("adopt", p.Install, "--build", filepath.Join(p.Harbour.Builds, "mossgate-3.4.1.zip"), "--learn")
	p.OK("start")
	before := p.Tree()
	port := proving.FreePort(t)
	west := filepath.Join(p.Dir, "west")
	r := p.OK("lay", west, "--like", p.Install, "--world", "--port", fmt.Sprintf("%d=%d", p.Port, port))
	assert.Regexp(
		t,
		`LAID  \S+/west: 3\.4\.1[\s\S]*port +mossgate.conf:3: port = `+fmt.Sprint(port)+`[\s\S]*UP  west is ready`,
		r.Out,
	)
	assert.Equal(t, before, p.Tree(), "the first is as it was, and runs on")
	q := *p.Place
	q.Install = west
	assert.Equal(t, "3.4.1", q.Status().Version)
	assert.True(t, p.Status().Server.Running && q.Status().Server.Running)
	assert.Equal(t, p.Read("members.txt"), q.Read("members.txt"))
	assert.Contains(t, q.Read("freshkeel.toml"), "name = 'west'")
	q.OK("refit", "3.5.0")
	q.OK("stop")

	p.OK("backup", "take", "--label", "then")
	p.Put("members.txt", "nobody\n")
	then := filepath.Join(p.Dir, "then")
	p.OK(
		"lay",
		then,
		"--like",
		p.Install,
		"--at",
		p.Backups()[len(p.Backups())-1],
		"--port",
		fmt.Sprintf("%d=%d", p.Port, port),
	)
	q.Install = then
	assert.NotEqual(t, "nobody\n", q.Read("members.txt"), "as it was then")
	q.OK("stop")

	assert.Contains(t, p.Exits(exitUsage, "lay", then, "--like", p.Install).Err, "is not empty")
	assert.Contains(t, p.Exits(exitUsage, "lay", p.Install+"/inner", "--like", p.Install).Err, "lies within")
	same := p.Run("lay", filepath.Join(p.Dir, "same"), "--like", p.Install)
	assert.Equal(t, exitFailed, same.Code)
	assert.Contains(t, same.Said(), fmt.Sprintf("wants udp/%d too: only one of the two can run at a time", p.Port))
	left, _ := filepath.Glob(filepath.Join(p.Dir, "*.laying*"))
	assert.Empty(t, left)
}

// A server is laid out from a source alone: a launch script is written, a version in the name of
// what it runs is taken out of it, and one folder around everything too.
func TestAServerIsLaidFromItsSource(t *testing.T) {
	t.Parallel()
	p := bare(t)
	builds := filepath.Join(p.Dir, "builds")
	require.NoError(t, os.Mkdir(builds, 0o755))
	for _, v := range []string{"1.0", "1.1"} {
		writeZip(t, filepath.Join(builds, "pond-"+v+".zip"), map[string]string{
			"pond-" + v + "/pond.sh":   "#!/bin/sh\ncd \"$(dirname \"$0\")\"\n[ -e licence.txt ] || echo 'accepted=false' > licence.txt\ngrep -q accepted=true licence.txt || { echo 'read licence.txt'; exit 1; }\necho pond server " + v + "\necho the pond is ready\nwhile read l; do case $l in stop) exit;; esac; done\n",
			"pond-" + v + "/README.md": "frogs\n"})
	}
	dir := filepath.Join(p.Dir, "pond")
	r := p.Run("lay", dir, "1.0", "--source", builds)
	assert.Equal(t, exitFailed, r.Code)
	assert.Regexp(t, `LAID[\s\S]*ASKS  pond wants a consent[\s\S]*asks +licence.txt, line 1: accepted=false`, r.Out)
	q := *p.Place
	q.Install = dir
	require.NoError(t, os.WriteFile(filepath.Join(dir, "licence.txt"), []byte("accepted=true\n"), 0o644))
	q.OK("start", "--learn")
	text := q.Read("freshkeel.toml")
	for _, want := range []string{"strip = 1", "script = 'pond.sh'", "line = '^the pond is ready'", "send = 'stop'"} {
		assert.Contains(t, text, want)
	}
	q.OK("refit")
	assert.Equal(t, "1.1", q.Status().Version)
	q.OK("stop")
	require.NoError(t, os.MkdirAll(dir+"2.laying", 0o755))
	require.NoError(t, os.WriteFile(dir+"2.laying/mine", nil, 0o644))
	assert.Contains(
		t,
		p.Exits(exitFailed, "lay", dir+"2", "--source", builds).Err,
		"move it away",
		"nobody's files are deleted",
	)
	assert.FileExists(t, dir+"2.laying/mine")
	assert.True(
		t,
		strings.Contains(
			p.OK("lay", filepath.Join(p.Dir, "pond3"), "--source", builds, "--consent", "licence.txt").Out,
			"UP",
		),
	)
	q.Install = filepath.Join(p.Dir, "pond3")
	q.OK("stop")
}

// The shell is offered what there is: versions, backups, refits, checks, keys. Help has the order
// of the work, and each command an example.
func TestTheShellIsOfferedWhatThereIs(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("refit", "3.5.0")
	for args, want := range map[string]string{"refit": "3.5.0", "backup restore": "b0001", "rollback": "r0001", "refit --accept": "kind",
		"profile set": "ready.line", "logbook": "r0001"} {
		r := p.OK(append(strings.Fields(args), "--generate-shell-completion")...)
		assert.Contains(t, strings.Split(r.Out, "\n"), want, args)
		assert.Empty(t, r.Err, args)
	}
	help := p.OK("--help").Out
	assert.Regexp(
		t,
		`EXAMPLES:[\s\S]*freshkeel adopt[\s\S]*COMMANDS:\s+adopt[\s\S]*\n   start[\s\S]*\n   refit[\s\S]*\n   logbook`,
		help,
	)
	for path := range examples {
		if path != "" {
			assert.Contains(t, p.OK(append([]string{"help"}, strings.Fields(path)...)...).Out, "EXAMPLES:", path)
		}
	}
}

// An increment is told from a whole build, and laid over what is installed where that is said.
func TestAnIncrementIsLaidOverWhatIsInstalled(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	zip := filepath.Join(p.Dir, "mossgate-3.4.2-patch.zip")
	writeZip(
		t,
		zip,
		map[string]string{"mossgate-patch/tracks/fern-mile.track": "mended", "mossgate-patch/tracks/new.track": "new"},
	)
	whole := p.Exits(exitRefused, "refit", "--from", zip, "--as", "3.4.2", "--accept", "kind", "--accept", "launch")
	assert.Contains(t, whole.Said(), "it would remove")
	assert.Contains(t, whole.Said(), "add --over")
	p.EditProfile(func(s string) string { return strings.Replace(s, "version = '^moss", "# '^moss", 1) })
	before := p.Tree()
	r := p.OK("refit", "--from", zip, "--as", "3.4.2", "--over")
	assert.Contains(t, r.Said(), "1 of its files take the place of others, 1 are new")
	assert.Equal(t, "mended", p.Read("tracks/fern-mile.track"))
	assert.Equal(t, "new", p.Read("tracks/new.track"))
	assert.Equal(t, "3.4.2", p.Status().Version)
	assert.FileExists(t, filepath.Join(p.Install, "mossgate.jar"))
	p.OK("rollback")
	after := p.Tree()
	delete(after, "logs/mossgate.log")
	delete(before, "logs/mossgate.log")
	assert.Equal(t, before, after)
	p.OK("refit", "3.5.0")
}

// A maker's own checksum list serves as a listing: each file is fetched by itself, and only those
// that are not here.
func TestAMakersOwnListServesAsAListing(t *testing.T) {
	t.Parallel()
	p := mossgate(t, demo.Releases[0], demo.Releases[1])
	maker := filepath.Join(p.Dir, "maker")
	var rows []string
	for _, v := range []string{"3.4.1", "3.5.0"} {
		unzip(t, filepath.Join(p.Harbour.Builds, "mossgate-"+v+".zip"), filepath.Join(maker, v))
		var sums []string
		require.NoError(t, filepath.WalkDir(filepath.Join(maker, v), func(at string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				b, _ := os.ReadFile(at)
				rel, _ := filepath.Rel(filepath.Join(maker, v), at)
				sums = append(sums, fmt.Sprintf("%x  ./%s", sha512.Sum512(b), filepath.ToSlash(rel)))
			}
			return err
		}))
		proving.Put(t, filepath.Join(maker, v, "SHA512SUMS"), strings.Join(sums, "\n")+"\n")
		rows = append(rows, `{"v": "`+v+`"}`)
	}
	proving.Put(t, filepath.Join(maker, "builds.json"), "["+strings.Join(rows, ",")+"]")
	p.EditProfile(func(s string) string {
		return regexp.MustCompile(`(?m)^feed = .*\nchannel = .*$`).ReplaceAllString(s,
			"[source.api]\nlist = '../maker/builds.json'\nbuilds = '$[*]'\nversion = '$$.v'\n[source.listing]\nat = '{version}/SHA512SUMS'")
	})
	r := p.OK("refit", "3.5.0")
	assert.Regexp(t, `of \S+ \S+ fetched; the rest, [1-9][\d.]* \S+, was here already`, r.Err)
	assert.Equal(t, "3.5.0", p.Status().Version)
	list := filepath.Join(maker, "3.4.1/SHA512SUMS")
	b, err := os.ReadFile(list)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(list, []byte(strings.Replace(string(b), string(b[:4]), "0000", 1)), 0o644))
	assert.Regexp(t, `expected|sha512`, p.Exits(exitFailed, "fetch", "3.4.1").Err)
}

func unzip(t *testing.T, from, to string) {
	t.Helper()
	z, err := zip.OpenReader(from)
	require.NoError(t, err)
	defer z.Close()
	require.NoError(t, os.MkdirAll(to, 0o755))
	require.NoError(t, os.CopyFS(to, z))
}
