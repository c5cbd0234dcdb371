//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

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
