//go:build unix

package main

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What no known build put there is replaced by nobody unasked: neither what a start wrote, nor what is younger than the
// programs. Programs, and what is as old as they are, are replaced without a question.
func TestABuildReplacesNothingThatMayBeYours(t *testing.T) {
	t.Parallel()
	p := pondOf(t, map[string]string{"notes.txt": "mine", "terms.txt": "theirs", "lib/a.so": "one",
		"pond.sh": "mkdir -p data\n[ -f data/pond.db ] || echo world > data/pond.db\necho pond server 1.0\n" + patient})
	old := time.Now().Add(-48 * time.Hour)
	for _, at := range []string{"pond.sh", "moss.zip", "terms.txt"} {
		require.NoError(t, os.Chtimes(filepath.Join(p.Install, at), old, old))
	}
	later := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(p.Install, "notes.txt"), later, later))
	p.OK("adopt", p.Install, "--version", "1.0")
	p.OK("start")
	before := p.Status().Server.PID
	next := filepath.Join(p.Dir, "next")
	for at, body := range map[string]string{"pond.sh": "echo pond server 2.0\n" + patient, "moss.zip": "moss of 2.0",
		"terms.txt": "of 2.0", "lib/a.so": "two", "data/pond.db": "empty", "notes.txt": "theirs"} {
		proving.Put(t, filepath.Join(next, at), body)
	}
	r := p.Exits(exitRefused, "refit", "--from", next, "--as", "2.0")
	assert.Equal(t, before, p.Status().Server.PID)
	out := oneSpace(r.Out)
	assert.Contains(t, out, "2 files may be yours, or the server's own, and the build would replace them: notes.txt, data/pond.db")
	assert.Contains(t, out, "profile set --add server.keep data/pond.db notes.txt; if they are the build's, add "+
		"--overwrite data/pond.db --overwrite notes.txt")
	p.OK("profile", "set", "--add", "server.keep", "data/pond.db")
	p.Exits(exitRefused, "refit", "--from", next, "--as", "2.0", "--overwrite", "terms.txt", "--overwrite", "notes.txt")
	p.OK("refit", "--from", next, "--as", "2.0", "--overwrite", "notes.txt")
	for at, want := range map[string]string{"data/pond.db": "world\n", "notes.txt": "theirs", "terms.txt": "of 2.0", "lib/a.so": "two"} {
		assert.Equal(t, want, p.Read(at))
	}
	// Now the build is known: what it did not bring is not the next one's to replace, whatever its date and kind.
	p.Put("lib/b.so", "mine")
	require.NoError(t, os.Chtimes(filepath.Join(p.Install, "lib/b.so"), old, old))
	proving.Put(t, filepath.Join(next, "lib/b.so"), "theirs")
	f := p.preflight(exitRefused, "--from", next, "--as", "2.1")["yours"]
	assert.Contains(t, f.Where, "no build that is known put it there")
}
