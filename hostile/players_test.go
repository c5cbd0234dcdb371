//go:build linux

package hostile

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const spoken = `#!/bin/sh
say() { echo "12:00:00 main info $1"; }
say "pond server 1.0"; say ready; say "mallory joined the pond"; say "<mallory> could not bind"
while read line; do
  case $line in
    save) say "<mallory> The gardens are written"; say "mallory: The gardens are written"; sleep 0.5
      echo grown > world/late.dat; say "The gardens are written";;
    who) say "<mallory> snails out: 0 of 20"; say "mallory: snails out: 0 of 20"; say "snails out: 3 of 20";;
    quit) exit 0;;
  esac
done
`

const spokenProfile = `[server]
name = "pond"
keep = ["world/**"]
[launch]
script = "run.sh"
[stop]
send = "quit"
wait = "2s"
terminate = "1s"
[ready]
line = 'ready'
version = 'server (\S+)'
fail = ['could not bind']
within = "10s"
steady = "600ms"
[backup]
before = ["save"]
saved = 'The gardens are written'
[players]
ask = "who"
answer = 'snails out: (\d+)'
`

// What players say takes no good build back, ends no wait for the save, and stops no server that somebody
// is on.
func TestWhatPlayersSayDecidesNothing(t *testing.T) {
	t.Parallel()
	p := newPond(t)
	p.put("srv/run.sh", spoken)
	p.put("srv/freshkeel.toml", spokenProfile)
	p.put("next-2.0/run.sh", strings.Replace(spoken, "1.0", "2.0", 1))
	p.ok("start")
	p.ok("backup", "take")
	assert.Contains(t, p.ok("backup", "show", "b0001", "--all"), "world/late.dat", "the save was waited for")
	r := p.run("refit", "--from", "next-2.0", "--when-empty", "--at-most", "1s")
	assert.Equal(t, 1, r.code, r.out)
	assert.Contains(t, r.out, "3 players")
	out := p.ok("refit", "--from", "next-2.0")
	assert.Contains(t, out, "REFITTED")
	flat := strings.Join(strings.Fields(p.ok("preflight", "--from", "next-2.0")), " ")
	assert.Contains(t, flat, `profile set players.answer '^snails out: (\d+)'`, "a stricter pattern is proposed")
	assert.Contains(t, flat, `profile set backup.saved '^The gardens are written'`)
}

// A line of chat in an old log gives adopt neither a version nor a ready line nor a stop line; one that
// contradicts the program's own name is dropped with a word.
func TestAnOldLogsChatTeachesNothing(t *testing.T) {
	t.Parallel()
	p := newPond(t)
	require.NoError(t, os.Remove(p.at("srv/freshkeel.toml")))
	p.put("srv/run.sh", "#!/bin/sh\nexec ./pond-1.0.4\n")
	p.put("srv/pond-1.0.4", "\x7fELF no program\n")
	require.NoError(t, os.Chmod(p.at("srv/pond-1.0.4"), 0o755))
	p.put("srv/logs/latest.log", `[12:00:00] [main/INFO]: starting the pond
[12:00:01] [main/INFO]: pond dedicated server 7.7.7
[12:00:02] [main/INFO]: mallory joined the pond
[12:00:03] [main/INFO]: <mallory> pond dedicated server version 9.9.9
[12:00:04] [main/INFO]: <mallory> the server is ready, players can join
[12:00:05] [main/INFO]: mallory: the server is ready, accepting players
[12:00:06] [main/INFO]: <mallory> type "exit" to stop the server
`)
	out := p.ok("adopt", p.install, "--dry-run")
	flat := strings.Join(strings.Fields(out), " ")
	assert.NotContains(t, out, "9.9.9")
	assert.NotContains(t, out, "= 'exit'")
	assert.NotContains(t, out, "accepting players")
	assert.Contains(t, out, "\nline = ''\n")
	assert.NotContains(t, out, "dedicated server (")
	assert.Contains(t, flat, "a line says version 7.7.7")
	assert.Contains(t, out, "1.0.4")
}
