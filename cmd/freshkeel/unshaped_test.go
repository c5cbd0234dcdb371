//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
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

// learnedPort is a profile whose ports were learned, one of them wrongly, and what good starts have shown of it.
func learnedPort(p *place) {
	p.EditProfile(func(s string) string {
		return regexp.MustCompile(`(?m)(?:^# (?:guessed|learned) from: .*\n)*^ports? = .*$`).ReplaceAllStringFunc(s, func(line string) string {
			held := regexp.MustCompile(`udp/\d+`).FindString(line)
			return fmt.Sprintf("# learned from: its processes held them\nports = ['%s', 'udp/9']", held)
		})
	})
	p.EditSeen(func(seen map[string]any) {
		seen["proven"] = append(seen["proven"].([]any), "ready.port = udp/9")
	})
}

// A rule that was learned takes down no server that works: neither at a start, nor on the way back from a build that failed.
func TestALearnedRuleTakesNoServerDown(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	p.OK("start")
	p.OK("stop")
	learnedPort(p)
	r := p.OK("start")
	assert.Contains(t, oneSpace(r.Said()), "no process of the server holds port udp/9")
	assert.Contains(t, oneSpace(r.Said()), "that rule was learned, and is doubted from now on")
	assert.Regexp(t, `ready\.ports +\['udp/\d+'\]`, r.Out, "what is right is proposed")
	learnedPort(p)
	r = p.Exits(exitRolledBack, "refit", "3.6.0")
	assert.Contains(t, r.Out, "3.4.1 is running again")
	assert.True(t, p.Status().Server.Running)
	// A rule by hand counts as ever.
	p.OK("stop")
	p.OK("profile", "set", "ready.ports", regexp.MustCompile(`udp/\d\d+`).FindString(p.Read("freshkeel.toml")), "udp/9")
	p.EditSeen(func(seen map[string]any) { seen["proven"] = append(seen["proven"].([]any), "ready.port = udp/9") })
	assert.Contains(t, p.Exits(exitFailed, "start").Out, "udp/9")
}

// A console that nobody reads costs no time; and a line for which nothing speaks is said to no server on which somebody
// plays.
func TestTheFirstStopSaysNothingInVain(t *testing.T) {
	t.Parallel()
	background := scripted(t, "echo ready\nsetsid sleep 1000 < /dev/null > /dev/null 2>&1 &\n")
	background.EditProfile(func(s string) string {
		return strings.Replace(s, `send = "quit"`, "# guessed from: words of the trade\ntry = ['stop', 'quit', 'exit']", 1)
	})
	background.OK("start")
	out := background.OK("stop").Said()
	assert.Contains(t, out, "nobody reads the server's console: it takes signals")
	assert.NotContains(t, out, "told the server at its console")
	assert.NotContains(t, out, "did not get through")

	p := scripted(t, "echo ready\nwhile read l; do case $l in list) echo \"$(cat on) frogs\";; quit) exit 0;; *) echo unknown: $l;; esac; done\n")
	p.EditProfile(func(s string) string {
		s = strings.Replace(s, `send = "quit"`, "# guessed from: words of the trade\ntry = ['stop', 'quit', 'exit']", 1)
		return s + "[players]\nask = 'list'\nanswer = '^(\\d+) frogs'\nwait = '2s'\n"
	})
	p.Put("on", "2")
	p.OK("start")
	out = p.OK("stop").Said()
	assert.NotContains(t, out, "told the server at its console")
	assert.Contains(t, oneSpace(out), "no line is known that does, and others are only tried where nobody plays")
	p.Put("on", "0")
	p.OK("start")
	assert.Contains(t, p.OK("stop").Said(), `the line that ended the server is "quit"`)
}

// The launch script's word follows the program's new name, also where the old build is not known.
func TestAScriptFollowsTheNewNameOfWhatItRuns(t *testing.T) {
	t.Parallel()
	sleep, err := exec.LookPath("sleep")
	require.NoError(t, err)
	b, err := os.ReadFile(sleep)
	require.NoError(t, err)
	p := scripted(t, "cd \"$(dirname \"$0\")\"\necho ready\nexec ./pond-2.1.214 600\n")
	p.Put("pond-2.1.214", string(b))
	require.NoError(t, os.Chmod(filepath.Join(p.Install, "pond-2.1.214"), 0o755))
	p.OK("adopt", p.Install)
	assert.Equal(t, "2.1.214", p.Status().Version)
	p.OK("start")
	next := filepath.Join(p.Dir, "next")
	proving.Put(t, filepath.Join(next, "pond-2.2.220"), string(b)+"2")
	require.NoError(t, os.Chmod(filepath.Join(next, "pond-2.2.220"), 0o755))
	r := p.OK("preflight", "--from", next)
	assert.Contains(t, oneSpace(r.Out), "pond-2.2.220 takes the place of pond-2.1.214 run.sh:4 will be: exec ./pond-2.2.220 600")
	p.OK("refit", "--from", next)
	assert.Contains(t, p.Read("run.sh"), "exec ./pond-2.2.220 600")
	assert.Equal(t, "2.2.220", p.Status().Version)
	p.OK("rollback")
	assert.Contains(t, p.Read("run.sh"), "exec ./pond-2.1.214 600")
}
