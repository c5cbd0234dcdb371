#!/usr/bin/env bash
# Makes the pictures of this folder from the demo harbour: each runs the real
# command in a terminal of 100 columns and takes what stands there.
# Needs: go xterm xvfb imagemagick fonts-dejavu-core (Debian's names).
set -euo pipefail
cd "$(dirname "$0")/../.."
out=$PWD/docs/screenshots
only=${1:-}
work=$(mktemp -d)
harbour=/tmp/harbour
export DISPLAY=:97
Xvfb "$DISPLAY" -screen 0 1232x800x24 >/dev/null 2>&1 &
xvfb=$!
trap 'kill $xvfb 2>/dev/null || true; "$work/freshkeel" -d $harbour/mossgate-east stop >/dev/null 2>&1 || true; rm -rf "$work" $harbour' EXIT
sleep 1

CGO_ENABLED=0 go build -trimpath -o "$work/freshkeel" ./cmd/freshkeel
export PATH="$work:$PATH"

# fresh lays the harbour out anew, adopted, its server up at 3.4.1.
fresh() {
  freshkeel -d $harbour/mossgate-east stop >/dev/null 2>&1 || true
  rm -rf $harbour
  freshkeel demo $harbour >/dev/null
  [ "$(id -u)" != 0 ] || chown -R 1000:1000 $harbour/mossgate-east
  export FRESHKEEL_HOME=$harbour/home
  cd $harbour/mossgate-east
  [ "${1:-}" = bare ] && return
  freshkeel adopt . --source ../builds/feed.json --build ../builds/mossgate-3.4.1.zip >/dev/null
  sed -i "s/steady = '5s'/steady = '2s'/" freshkeel.toml
  freshkeel start >/dev/null 2>&1
}

# shot NAME SECONDS COMMAND…: 0 seconds waits for the command's end.
shot() {
  local name=$1 seconds=$2
  shift 2
  [ -z "$only" ] || [ "$only" = "$name" ] || { "$@" >/dev/null 2>&1 || true; return; }
  rm -f "$work/done"
  cat >"$work/run" <<RUN
printf '\033[1m\$ %s\033[0m\n' "$*"
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
shot adopt 0 freshkeel adopt . --source ../builds/feed.json --build ../builds/mossgate-3.4.1.zip
fresh
shot builds 0 freshkeel builds
shot preflight-stopped 0 freshkeel preflight 4.0.0
shot preflight-clear 0 freshkeel preflight 3.5.0 --all
export FRESHKEEL_DEMO_PACE=700
shot refit-under-way 3.2 freshkeel refit 3.5.0
unset FRESHKEEL_DEMO_PACE
freshkeel rollback >/dev/null 2>&1
shot refit 0 freshkeel refit 3.5.0
shot rolled-back 0 freshkeel refit 3.6.0
shot rollback 0 freshkeel rollback
freshkeel refit 3.5.0 >/dev/null 2>&1
shot logbook 0 freshkeel logbook
shot logbook-entry 0 freshkeel logbook r0004
shot status 0 freshkeel status
