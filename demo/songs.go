package demo

import (
	"os"
	"path/filepath"
	"strings"
)

// Songs is the harbour's second server, of three parts: the ledger, which stands for a database,
// the gatehouse where singers come in, and the choir.
type Songs struct {
	Install string // mossgate-songs
	Builds  string // folder with songs-1.0.zip and songs-1.1.zip
	Ledger  string // the file that the makers want migrated
}

// part is a simulated part: it says that it is up, takes lines, and ends at «close».
const part = `#!/bin/sh
echo "PART VERSION"
sleep 0.3
echo "PART is ready"
while read -r line; do
  case $line in
  close) echo "PART closes"; exit 0 ;;
  say*) echo "to every singer: ${line#say }" ;;
  singers) echo "0 singers in" ;;
  esac
done
`

// upgrade is what the makers ship for the ledger: from 1.1 on each song has a verse count.
const upgrade = `#!/bin/sh
# Usage: upgrade.sh FROM TO
echo "ledger: from $1 to $2"
while read -r song; do
  sleep 0.2
  echo "ledger: counting the verses of $song"
  echo "$song;7" >>"$LEDGER.new"
done <"$LEDGER"
mv "$LEDGER.new" "$LEDGER"
echo "ledger: every song has its verses"
`

// songsProfile is the profile of the second server.
const songsProfile = `[server]
name = 'mossgate-songs'

[source]
archives = { in = '../song-builds', full = '^songs-(?P<version>[\d.]+)\.zip$' }

# What runs the server: three parts, of which each is seen up before the next.
[[part]]
name = 'ledger'
launch = { script = 'ledger.sh' }
stop = { send = 'close' }
ready = { line = '^ledger is ready', steady = '200ms' }

[[part]]
name = 'gatehouse'
after = ['ledger']
launch = { script = 'gatehouse.sh' }
stop = { send = 'close' }
ready = { line = '^gatehouse is ready', steady = '200ms' }

[[part]]
name = 'choir'
after = ['ledger', 'gatehouse']
launch = { script = 'choir.sh' }
stop = { send = 'close' }
ready = { line = '^choir is ready', version = '^choir (\d\S*)', steady = '200ms' }

[stop]
warn = { '3s' = 'say The choir rests in {left}: {reason}.', '1s' = 'say In {left}.' }
off = 'say The choir sings on.'

[[data]]
name = 'ledger'
dump = ['cat', '../ledger.txt']
load = ['sh', '-c', 'cat >../ledger.txt']

# What the makers want done to the ledger.
[[migration]]
name = 'verses'
when = '<1.1 -> >=1.1'
docs = 'the notes of 1.1'
run = ['sh', './upgrade.sh', '{from}', '{to}']
env = ['LEDGER=../ledger.txt']
up = ['ledger']
success = '^ledger: every song has its verses'
`

// MakeSongs lays the second server out beside the first, at 1.0.
func (h *Harbour) MakeSongs() (*Songs, error) {
	s := &Songs{Install: filepath.Join(h.Dir, "mossgate-songs"), Builds: filepath.Join(h.Dir, "song-builds"),
		Ledger: filepath.Join(h.Dir, "ledger.txt")}
	for _, v := range []string{"1.0", "1.1"} {
		var list []file
		for _, name := range []string{"ledger", "gatehouse", "choir"} {
			text := strings.NewReplacer("PART", name, "VERSION", v).Replace(part)
			list = append(list, file{name + ".sh", []byte(text)})
			if v == "1.0" {
				if err := put(filepath.Join(s.Install, name+".sh"), text, 0o755); err != nil {
					return nil, err
				}
			}
		}
		if v != "1.0" {
			list = append(list, file{"upgrade.sh", []byte(upgrade)})
		}
		b, err := zipped(list)
		if err != nil {
			return nil, err
		}
		if err := put(filepath.Join(s.Builds, "songs-"+v+".zip"), string(b), 0o644); err != nil {
			return nil, err
		}
	}
	if err := put(filepath.Join(s.Install, "freshkeel.toml"), songsProfile, 0o644); err != nil {
		return nil, err
	}
	return s, os.WriteFile(s.Ledger, []byte("the wren in the reeds\nmoss on my door\nlow fen lullaby\n"), 0o644)
}
