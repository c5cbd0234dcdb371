#!/usr/bin/env bash
# Makes the pictures of this folder from the demo harbour: each runs the real
# command in a terminal of 100 columns and takes what stands there.
# Needs: go jq zip unzip xterm xvfb imagemagick fonts-dejavu-core python3 (Debian's names).
set -euo pipefail
cd "$(dirname "$0")/../.."
# The machine's own runtimes are nobody's business in these pictures.
if [ "$(id -u)" = 0 ] && [ -z "${ALONE:-}" ] && [ -d /usr/lib/jvm ]; then
  go build ./... # while everything is still there
  ALONE=1 exec unshare -m bash -c 'mount -t tmpfs none /usr/lib/jvm; exec "$@"' -- "$0" "$@"
fi
out=$PWD/docs/screenshots
only=${1:-}
work=$(mktemp -d)
harbour=/tmp/harbour
export DISPLAY=:97
Xvfb "$DISPLAY" -screen 0 1232x800x24 >/dev/null 2>&1 &
xvfb=$!
trap 'kill $xvfb 2>/dev/null || true; "$work/freshkeel" -d $harbour/mossgate-east stop >/dev/null 2>&1 || true; rm -rf "$work" $harbour' EXIT
sleep 1

CGO_ENABLED=0 go build -trimpath -o "$work/program/freshkeel" ./cmd/freshkeel
# What is shown is an ordinary user's: run by root, each command is that user's.
chmod -R a+rx "$work"
as=
[ "$(id -u)" != 0 ] || as='setpriv --reuid=1000 --regid=1000 --clear-groups'
printf '#!/bin/sh\nexec %s %s/program/freshkeel "$@"\n' "$as" "$work" >"$work/freshkeel"
chmod a+rx "$work/freshkeel"
export PATH="$work:$PATH" HOME=$harbour

own() { [ -z "$as" ] || chown -R 1000:1000 "$@"; }

# fresh lays the harbour out anew, adopted, its server up at 3.4.1.
fresh() {
  freshkeel -d $harbour/mossgate-east stop >/dev/null 2>&1 || true
  rm -rf $harbour
  mkdir $harbour
  own $harbour
  freshkeel demo $harbour >/dev/null
  export FRESHKEEL_HOME=$harbour/home
  cd $harbour/mossgate-east
  [ "${1:-}" = bare ] && return
  freshkeel adopt . --source ../builds/feed.json --no-try --build ../builds/mossgate-3.4.1.zip >/dev/null
  sed -i "s/steady = '5s'/steady = '2s'/" freshkeel.toml
  freshkeel start >/dev/null 2>&1
}

# typed ANSWER… -- COMMAND… runs a command at a terminal of its own, and types an answer each
# time that it asks.
cat >"$work/typed" <<'TYPED'
#!/usr/bin/env python3
import os, pty, sys, time
answers, command = sys.argv[1:sys.argv.index("--")], sys.argv[sys.argv.index("--") + 1:]
pid, fd = pty.fork()
if pid == 0:
    os.execvp(command[0], command)
import fcntl, struct, termios
fcntl.ioctl(fd, termios.TIOCSWINSZ, struct.pack("HHHH", 33, 100, 0, 0))
seen = b""
while True:
    try:
        part = os.read(fd, 4096)
    except OSError:
        break
    if not part:
        break
    os.write(1, part)
    seen = (seen + part)[-400:]
    bare = seen.replace(b"\x1b[0m", b"").rstrip(b" ")
    if answers and (bare.endswith(b"]") or bare.endswith(b"?") or bare.endswith(b")")) and seen.endswith(b" "):
        time.sleep(0.3)
        os.write(fd, answers.pop(0).encode() + b"\n")
        seen = b""
os.waitpid(pid, 0)
TYPED
chmod a+rx "$work/typed"

# shot NAME SECONDS COMMAND…: 0 seconds waits for the command's end.
shot() {
  local name=$1 seconds=$2
  shift 2
  [ -z "$only" ] || [ "$only" = "$name" ] || { "$@" >/dev/null 2>&1 || true; return; }
  rm -f "$work/done"
  cat >"$work/run" <<RUN
printf '\033[1m\$ %s\033[0m\n' "${*##* -- }"
$*
touch $work/done
sleep 60
RUN
  xterm -geometry 100x33+0+0 -fa 'DejaVu Sans Mono' -fs 14 -bg '#14181c' -fg '#d8dee4' -b 12 +sb \
    -xrm 'XTerm*color1: #ff7b72' -xrm 'XTerm*color9: #ff7b72' -xrm 'XTerm*color2: #7ee787' -xrm 'XTerm*color3: #e3b341' -xrm 'XTerm*color6: #79c0ff' \
    -e bash "$work/run" &
  local term=$!
  if [ "$seconds" = 0 ]; then
    for _ in $(seq 600); do [ -e "$work/done" ] && break; sleep 0.1; done
    sleep 0.5
  else
    sleep "$seconds"
  fi
  import -window root "$out/$name.png"
  [ "$seconds" = 0 ] || for _ in $(seq 600); do [ -e "$work/done" ] && break; sleep 0.1; done
  kill $term 2>/dev/null || true
  wait $term 2>/dev/null || true
}

fresh bare
mkdir data && printf 'fen\n' >data/ponds.csv && touch -r mossgate.jar data/ponds.csv && own data
shot adopt 0 typed y ../builds/feed.json -- freshkeel adopt .
fresh bare
rm -f logs/mossgate.log
freshkeel adopt . --build ../builds/mossgate-3.4.1.zip --source ../builds/feed.json --no-try >/dev/null
shot learn 0 typed y -- freshkeel start
fresh
freshkeel fetch 3.5.0 >/dev/null 2>&1
layered() { # two add-ons laid over the build, and a maker who wants each step taken
  for v in 1.0 1.1; do
    mkdir -p ../lanterns/lib; echo "lamp $v" >../lanterns/lib/lamp.txt
    (cd ../lanterns && zip -q "lanterns-$v.zip" lib/lamp.txt)
  done
  own ../lanterns
  freshkeel feed write ../lanterns --name Lanterns >/dev/null
  sed -i 's/"version": "1.0",/&\n      "fits": "<3.5",/; s/"version": "1.1",/&\n      "fits": ">=3.4 <3.6",/' ../lanterns/feed.json
  sed -i 's/"builds": \[/"steps": "each",\n  &/' ../builds/feed.json
  printf "\n[[layer]]\nname = 'lanterns'\nsource.feed = '../lanterns/feed.json'\n" >>freshkeel.toml
}
layered
shot builds 0 freshkeel builds
fresh
freshkeel profile set launch.memory 384M >/dev/null
shot settings 0 'freshkeel settings; echo; freshkeel launch'
freshkeel fetch 3.5.0 >/dev/null 2>&1
shot preflight-settings 0 freshkeel preflight 3.5.0 --all
freshkeel profile set launch.memory '' >/dev/null
fresh
shot preflight-stopped 0 freshkeel preflight 4.0.0
shot runtimes 0 'freshkeel runtimes take --for 4.0.0 && freshkeel runtimes 4.0.0'
shot preflight-warned 0 freshkeel preflight 4.0.0
freshkeel runtimes drop 33.0.1 >/dev/null 2>&1 || true
export FRESHKEEL_DEMO_PACE=700
shot refit-under-way 3.2 freshkeel refit 3.5.0
unset FRESHKEEL_DEMO_PACE
freshkeel rollback >/dev/null 2>&1
shot refit 0 freshkeel refit 3.5.0
shot rolled-back 0 freshkeel refit 3.6.0
freshkeel rollback >/dev/null 2>&1
freshkeel refit 3.5.0 >/dev/null 2>&1
shot logbook 0 freshkeel logbook
sed -i 's/^night = .*/night = longest/' mossgate.conf
own mossgate.conf
shot status 0 freshkeel status
# Somebody laid old files over the new build, and lost one.
cp -p tracks/fern-mile.track "$work/fern"
unzip -qo ../builds/mossgate-3.4.1.zip tracks/dew-loop.track 2>/dev/null || true
rm -f lib/lanterns.txt; chmod 600 assets/night.pak
mkdir -p mods; echo hop >mods/hop.lua; echo skip >mods/skip.lua
own mods tracks
shot audit 0 'freshkeel audit; freshkeel audit --mend --all | head -n 5'
rm -rf mods; freshkeel audit --mend >/dev/null 2>&1 || true
shot compare 0 "freshkeel compare 3.4.1 now --leave 'gardens/**' --leave 'freshkeel.*'"
freshkeel backup take --label 'before the lantern race' >/dev/null 2>&1
echo 'Tib Hartstongue' >>stewards.txt; rm -f gardens/old-well.garden; echo dew >gardens/dew.garden
freshkeel backup take >/dev/null 2>&1
own gardens stewards.txt
cd ../mossgate-songs
freshkeel adopt . --build ../song-builds/songs-1.0.zip --version 1.0 >/dev/null
freshkeel start >/dev/null 2>&1
shot status-parts 0 freshkeel status
shot countdown 2 freshkeel refit 1.1 --reason "'verses are counted'"
freshkeel rollback --world --now >/dev/null 2>&1
shot refit-migration 0 freshkeel refit 1.1 --now
# A build of the choir alone, of a server whose profile says which files are the choir's.
mkdir ../1.2
unzip -q ../song-builds/songs-1.1.zip -d ../1.2
sed -i 's/1\.1/1.2/' ../1.2/choir.sh
(cd ../1.2 && zip -q ../song-builds/songs-1.2.zip ./*)
sed -i -e '/^\[\[data\]\]/,$d' -e "s/^name = 'choir'/&\nfiles = ['choir.sh']/" freshkeel.toml
own ../song-builds freshkeel.toml
shot refit-one-part 0 freshkeel refit 1.2 --now
freshkeel stop --now >/dev/null 2>&1
