#!/usr/bin/env bash
# What fetching costs, beside curl and unzip, on one machine in one run.
#
#   bench/fetch.sh [WORK]      WORK: a folder on the disk to measure, about 20 GiB free
#
# A zip of 1 GiB: 7 assets of 116 MiB that do not compress, and 20,000 files of
# text; the same with 400 of the 20,000 changed; and one of 4 GiB for memory.
# Needs: go, curl, zip, unzip, GNU time, awk, python3.
set -euo pipefail
cd "$(dirname "$0")/.."
work=${1:-bench/work}
mkdir -p "$work"
work=$(cd "$work" && pwd)
fk=$work/freshkeel
CGO_ENABLED=0 go build -trimpath -o "$fk" ./cmd/freshkeel
CGO_ENABLED=0 go build -o "$work/serve" ./bench/serve
export FRESHKEEL_HOME=$work/fetch-home
site=$work/site
server=
trap '[ -z "$server" ] || kill $server; rm -rf "$work/fetch-home" "$work/fetch-out" "$work/fetch-srv"' EXIT

if [ ! -e "$site/pond-2.0.zip" ]; then
  echo "making the builds" >&2
  rm -rf "$work/pond"; mkdir -p "$site" "$work/pond/assets"
  for i in $(seq 7); do head -c $((116 << 20)) /dev/urandom >"$work/pond/assets/$i.pak"; done
  python3 - "$work/pond" <<'PY'
import os, random, sys
random.seed(7)
for i in range(20000):
    d = f"{sys.argv[1]}/lib/{i // 200:03d}"
    os.makedirs(d, exist_ok=True)
    with open(f"{d}/{i:05d}.txt", "w") as f:
        f.write("".join(f"{random.getrandbits(32):x} " for _ in range(random.randint(300, 3500))))
PY
  (cd "$work/pond" && zip -q -r "$site/pond-1.0.zip" .)
  for i in $(seq 0 50 19999); do f=$(printf '%s/lib/%03d/%05d.txt' "$work/pond" $((i / 200)) "$i"); echo changed >>"$f"; done
  (cd "$work/pond" && zip -q -r "$site/pond-2.0.zip" .)
  rm -f "$site/feed.json"
fi
[ -e "$site/feed.json" ] || "$fk" feed write "$site" --name pond --listing >/dev/null
if [ ! -e "$work/big/huge-1.0.zip" ]; then
  echo "making the archive of 4 GiB" >&2
  mkdir -p "$work/big" "$work/huge"
  for i in $(seq 4); do head -c $((1 << 30)) /dev/urandom >"$work/huge/$i.pak"; done
  (cd "$work/huge" && zip -q -0 "$work/big/huge-1.0.zip" ./*.pak)
  rm -rf "$work/huge"
fi
coproc SERVE { exec "$work/serve" "$work"; }
server=$SERVE_PID
read -r url <&"${SERVE[0]}"

took() { /usr/bin/time -f '%e %M' -o "$work/time" "$@" >"$work/out" 2>"$work/err" || { cat "$work/out" "$work/err" >&2; exit 1; }; cat "$work/time"; }
row() { printf '%-46s %9s %9s %7s %10s\n' "$@"; }
fresh() { # an install that knows nothing but its source
  rm -rf "$work/fetch-home" "$work/fetch-srv"; mkdir -p "$work/fetch-srv"
  printf '[server]\nname = "pond"\n[source]\n%s\n' "$1" >"$work/fetch-srv/freshkeel.toml"
}
sha=$(sha256sum "$site/pond-1.0.zip" | cut -d' ' -f1)
cat >"$work/site/whole.json" <<JSON
{"format":"freshkeel-feed/1","builds":[{"version":"1.0","parts":[{"url":"pond-1.0.zip","digests":{"sha256":"$sha"}}]},{"version":"2.0","parts":[{"url":"pond-2.0.zip"}]}]}
JSON
row "case" "ours, s" "theirs, s" "ratio" "our peak"

# Twice each, in turn, the better of the two: a disk has moods. Both flush.
ours=999 theirs=999 peak=0
for _ in 1 2 3; do
  rm -rf "$work/fetch-out"; mkdir "$work/fetch-out"; sync
  read -r t _ < <(took sh -c "cd '$work/fetch-out' && curl -sS -o pond.zip '$url/site/pond-1.0.zip' && unzip -q pond.zip && sync")
  theirs=$(awk -v a="$t" -v b="$theirs" 'BEGIN { print (a < b) ? a : b }')
  rm -rf "$work/fetch-out"; fresh "feed = '$url/site/whole.json'"; sync
  read -r t m < <(took "$fk" -d "$work/fetch-srv" fetch 1.0)
  ours=$(awk -v a="$t" -v b="$ours" 'BEGIN { print (a < b) ? a : b }')
  peak=$((m > peak ? m : peak))
done
row "fetch + unpack + verify, 1 GiB | curl, unzip, sync" "$ours" "$theirs" "$(awk "BEGIN { printf \"%.2f\", $ours / $theirs }")" "$((peak / 1024)) MiB"

# 2 % of 20,000 files changed: by the listing, against the whole.
fresh "feed = '$url/site/feed.json'"
"$fk" -d "$work/fetch-srv" fetch 1.0 >/dev/null 2>&1
curl -sS "$url/sent" >/dev/null
read -r t m < <(took "$fk" -d "$work/fetch-srv" fetch 2.0)
bytes=$(curl -sS "$url/sent")
rm -rf "$work/fetch-out"; mkdir "$work/fetch-out"; sync
read -r w _ < <(took sh -c "cd '$work/fetch-out' && curl -sS -o pond.zip '$url/site/pond-2.0.zip' && unzip -q pond.zip && sync")
row "2 % of 20,000 files changed | the whole" "$t" "$w" "$(awk "BEGIN { printf \"%.2f\", $t / $w }")" "$((m / 1024)) MiB"
changed=0
for i in $(seq 0 50 19999); do changed=$((changed + $(stat -c %s "$(printf '%s/lib/%03d/%05d.txt' "$work/pond" $((i / 200)) "$i")"))); done
listing=$(stat -c %s "$site/listings/2.0-over-1.0.json.zst")
row "  bytes on the wire | bytes that changed" "$bytes" "$changed" "$(awk "BEGIN { printf \"%.2f\", $bytes / $changed }")" "-"
row "    of them what changed of the listing" "$listing" "-" "-" "-"

rm -rf "$work/fetch-out"
fresh "address.at = '$url/big/huge-1.0.zip'"
read -r t m < <(took "$fk" -d "$work/fetch-srv" fetch)
row "an archive of 4 GiB" "$t" "-" "-" "$((m / 1024)) MiB"
