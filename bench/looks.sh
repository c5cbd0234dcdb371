#!/usr/bin/env bash
# What looking costs, and what a new build costs that changes little, beside ordinary tools, on
# one machine in one run.
#
#   bench/looks.sh [WORK]      WORK: a folder on the disk to measure, about 25 GiB free
#
# The install is that of run.sh, 2.3 GiB; it is made if it is not there. Each row is taken
# several times, in turn with the tool that it is held against, the better one counting.
# Needs: go, GNU time, awk, curl, zip, jq, python3.
set -euo pipefail
cd "$(dirname "$0")/.."
work=${1:-bench/work}
mkdir -p "$work"
work=$(cd "$work" && pwd)
fk=$work/freshkeel
CGO_ENABLED=0 go build -trimpath -o "$fk" ./cmd/freshkeel
CGO_ENABLED=0 go build -o "$work/serve" ./bench/serve
eval "$(sed -n '/^make_install()/,/^}/p' bench/run.sh)"
here=$work/looks
export FRESHKEEL_HOME=$here/home
server=
trap '[ -z "$server" ] || kill $server' EXIT
rm -rf "$here"; mkdir -p "$here"
[ -e "$work/srv/run.sh" ] || { echo "making the install (2.3 GiB)" >&2; make_install "$work/srv"; }

took() { # seconds and peak KiB of a command; what differs is no failure
  local from=$EPOCHREALTIME
  /usr/bin/time -f %M -o "$here/time" "$@" >"$here/out" 2>"$here/err" || [ $? = 13 ] || { cat "$here/out" "$here/err" >&2; exit 1; }
  awk -v a="$from" -v b="$EPOCHREALTIME" '{ printf "%.3f %d\n", b - a, $1 }' "$here/time"
}
least() { awk -v a="$1" -v b="$2" 'BEGIN { print (a < b) ? a : b }'; }
over() { awk "BEGIN { printf \"%.2f\", ($1) / ($2) }"; }
row() { printf '%-58s %11s %11s %7s %10s\n' "$@"; }
# beside NAME ROUNDS OURS THEIRS: two shell commands in turn
beside() {
  local name=$1 rounds=$2 ours=$3 theirs=$4 a=999 b=999 m=0 t peak
  for _ in $(seq "$rounds"); do
    read -r t peak < <(took bash -c "$ours"); a=$(least "$t" "$a"); m=$peak
    read -r t _ < <(took bash -c "$theirs"); b=$(least "$t" "$b")
  done
  row "$name" "$a" "$b" "$(over "$a" "$b")" "$((m / 1024)) MiB"
}
size() { find "$1" -type f -printf '%s\n' | awk '{ n += $1 } END { printf "%.0f", n }'; }

rm -rf "$work/srv/.freshkeel" "$work/srv/freshkeel.toml" "$work"/srv/more-*
cp -a "$work/srv" "$here/build"
"$fk" adopt "$work/srv" --version 1.0 --build "$here/build" >/dev/null 2>&1
sleep 3 # times prove nothing within the clock's tick
find "$work/srv" "$here/build" -type f -print0 | xargs -0 cat >/dev/null # all start with a warm cache
row "case" "ours, s" "theirs, s" "ratio" "our peak"
beside "audit, nothing changed | find -printf" 7 "'$fk' -d '$work/srv' audit" "find '$work/srv' -printf '%s %T@ %p\n'"
beside "audit --deep | sha256sum of all files, two at once" 3 "'$fk' -d '$work/srv' audit --deep" \
  "cd '$work/srv' && find . -path ./.freshkeel -prune -o -type f -print0 | xargs -0 -n 64 -P 2 sha256sum"
beside "compare two trees | diff -rq" 7 "'$fk' compare '$work/srv' '$here/build' --leave freshkeel.toml" \
  "diff -rq --exclude=.freshkeel --exclude=freshkeel.toml '$work/srv' '$here/build'"

# A preflight of 20,000 files where nobody knows what is installed.
mkdir "$here/next"; cp -a "$work/srv/lib" "$work/srv/assets" "$here/next/"
for f in "$here"/next/lib/0[01]*/*[05]0.txt; do echo changed >>"$f"; done
sed 's/server 1.0/server 1.5/' "$work/srv/run.sh" >"$here/next/run.sh"; chmod +x "$here/next/run.sh"
rm -rf "$work/srv/.freshkeel" "$work/srv/freshkeel.toml"
"$fk" adopt "$work/srv" --version 1.0 >/dev/null 2>&1
sleep 3
"$fk" -d "$work/srv" fetch --from "$here/next" >/dev/null 2>&1
t=999
for _ in 1 2 3; do read -r s m < <(took "$fk" -d "$work/srv" preflight --from "$here/next" --accept drift); t=$(least "$s" "$t"); done
row "preflight of 20,000 files adopted without their build" "$t" "-" "-" "$((m / 1024)) MiB"

# A sparse file of 20 GiB.
mkdir "$here/sparse"; printf '#!/bin/sh\nsleep 60\n' >"$here/sparse/run.sh"; chmod +x "$here/sparse/run.sh"
truncate -s 20G "$here/sparse/world.img"
head -c 3000000 /dev/urandom | dd of="$here/sparse/world.img" bs=1M seek=9000 conv=notrunc status=none
"$fk" adopt "$here/sparse" --version 1.0 >/dev/null 2>&1
read -r t m < <(took "$fk" -d "$here/sparse" backup take)
row "first backup of a sparse file of 20 GiB" "$t" "-" "-" "$((m / 1024)) MiB"

# Two per cent of the pages of eight assets of 128 MiB changed: on the line, and in the locker.
mkdir -p "$here/site" "$here/one/assets"
cp "$work/srv/assets/"*.pak "$here/one/assets/"; cp "$work/srv/run.sh" "$here/one/"
(cd "$here/one" && zip -q -0 -r ../site/pond-1.0.zip .)
changed=$(python3 - "$here/one" <<'PY'
import os, random, sys
n = 0
for i in range(1, 9):
    at = f"{sys.argv[1]}/assets/{i}.pak"
    pages = os.path.getsize(at) // 4096
    with open(at, "r+b") as f:
        for p in random.sample(range(pages), pages // 50):
            f.seek(p * 4096)
            n += f.write(random.randbytes(4096))
print(n)
PY
)
(cd "$here/one" && zip -q -0 -r ../site/pond-2.0.zip .)
"$fk" feed write "$here/site" --name pond --listing >/dev/null 2>&1
coproc SERVE { exec "$work/serve" "$here"; }
server=$SERVE_PID
read -r url <&"${SERVE[0]}"
mkdir "$here/pond"
printf '[server]\nname = "pond"\n[source]\nfeed = "%s/site/feed.json"\n' "$url" >"$here/pond/freshkeel.toml"
"$fk" -d "$here/pond" fetch 1.0 >/dev/null 2>&1
curl -sS "$url/sent" >/dev/null
before=$(size "$here/home/locker")
read -r t m < <(took "$fk" -d "$here/pond" fetch 2.0)
sent=$(curl -sS "$url/sent") after=$(size "$here/home/locker")
row "2 % of the pages of 1 GiB changed: fetch" "$t" "-" "-" "$((m / 1024)) MiB"
row "  bytes on the line | that changed" "$sent" "$changed" "$(over "$sent" "$changed")" "-"
row "  bytes stored | that changed" "$((after - before))" "$changed" "$(over "$((after - before))" "$changed")" "-"
kill "$server"; server=
