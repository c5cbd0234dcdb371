#!/usr/bin/env bash
# What a backup and a refit cost, beside cp, on one machine in one run.
#
#   bench/run.sh [WORK]      WORK: a folder on the disk to measure, about 30 GiB free
#
# Nothing large is deleted before the end: ext4 passes over inodes that were deleted in
# the last minutes one by one, and where 20,000 have just gone a new file costs half a
# millisecond, whoever makes it.
#
# The install: 256 region files of 4 MiB (half of each compresses), 8 assets of
# 128 MiB and a database of 200 MiB (which do not), 20,000 files of 0.2 to 6 KiB;
# 2.3 GiB in all. Needs: go, GNU time, awk, jq, rsync, zstd, python3.
set -euo pipefail
cd "$(dirname "$0")/.."
work=${1:-bench/work}
mkdir -p "$work"
work=$(cd "$work" && pwd)
export FRESHKEEL_HOME=$work/home
fk=$work/freshkeel
CGO_ENABLED=0 go build -trimpath -o "$fk" ./cmd/freshkeel
trap '"$fk" -d "$work/srv" stop >/dev/null 2>&1 || true; rm -rf "$work/aside"' EXIT
mkdir -p "$work/aside"
aside() { # what would be deleted
  local at
  for at in "$@"; do
    [ ! -e "$at" ] || mv "$at" "$(mktemp -d "$work/aside/XXXXXX")"
  done
}

make_install() {
  local at=$1
  mkdir -p "$at"/{world/region,assets,data,lib}
  for i in $(seq 256); do
    { head -c 2097152 /dev/urandom; yes "moss and more moss $i" | head -c 2097152 || true; } >"$at/world/region/$i.region"
  done
  for i in $(seq 8); do head -c 134217728 /dev/urandom >"$at/assets/$i.pak"; done
  head -c 209715200 /dev/urandom >"$at/data/main.db"
  awk -v at="$at/lib" 'BEGIN {
    srand(7)
    for (i = 0; i < 20000; i++) {
      if (i % 200 == 0) { dir = sprintf("%s/%03d", at, i / 200); system("mkdir -p " dir) }
      n = 200 + int(rand() * 5944); s = ""
      while (length(s) < n) s = s sprintf("%x ", int(rand() * 4294967295))
      f = sprintf("%s/%05d.txt", dir, i); printf "%s", substr(s, 1, n) > f; close(f)
    }
  }'
  cat >"$at/run.sh" <<'SRV'
#!/bin/sh
echo "bench server 1.0"; echo "ready"
while read -r line; do [ "$line" = quit ] && exit 0; done
SRV
  chmod +x "$at/run.sh"
}

if [ ! -e "$work/srv/run.sh" ]; then
  echo "making the install (2.3 GiB)" >&2
  make_install "$work/srv"
fi
rm -rf "$work"/srv/more-* "$work"/next-2.* "$work/srv/freshkeel.toml" "$work/srv/.freshkeel" "$work/home"
aside "$work/copy"
sed -i 's/server [0-9.]*"/server 1.0"/' "$work/srv/run.sh"
sync

took() { # seconds and peak KiB of a command, which flushes what it wrote
  local from=$EPOCHREALTIME
  /usr/bin/time -f %M -o "$work/time" "$@" >"$work/out" 2>"$work/err" || { cat "$work/out" "$work/err" >&2; exit 1; }
  awk -v a="$from" -v b="$EPOCHREALTIME" '{ printf "%.3f %d\n", b - a, $1 }' "$work/time"
}
least() { awk -v a="$1" -v b="$2" 'BEGIN { print (a < b) ? a : b }'; }
row() { printf '%-44s %12s %12s %8s %12s\n' "$@"; }

# A build that brings all of the small files, one in fifty of them changed: what
# a preflight of it costs once it is fetched.
next=$work/next-1.5
if [ ! -e "$next/run.sh" ]; then
  mkdir -p "$next"
  cp -a "$work/srv/lib" "$work/srv/assets" "$next/"
  for f in "$next"/lib/0[01]*/*[05]0.txt; do echo changed >>"$f"; done
  sed 's/server 1.0/server 1.5/' "$work/srv/run.sh" >"$next/run.sh"; chmod +x "$next/run.sh"
fi
"$fk" adopt "$work/srv" --version 1.0 >/dev/null
row "case" "ours, s" "theirs, s" "ratio" "our peak"
"$fk" -d "$work/srv" fetch --from "$next" >/dev/null 2>&1
for what in "first" "again"; do # what is installed is not known before a refit: both read it
  read -r t m < <(took "$fk" -d "$work/srv" preflight --from "$next" --accept drift)
  row "preflight of 20,000 files, 2.3 GiB, $what" "$t" "-" "-" "$((m / 1024)) MiB"
done
cat "$work"/srv/world/region/*.region "$work"/srv/assets/*.pak >/dev/null # both start with a warm cache

# Twice each, in turn, the better of the two.
best_ours=999 best_theirs=999 peak=0
for _ in 1 2; do
  aside "$work/copy"; sync
  read -r t _ < <(took sh -c "cp -a '$work/srv' '$work/copy' && sync")
  best_theirs=$(least "$t" "$best_theirs")
  rm -rf "$work/home"; aside "$work/copy"; sync
  read -r t m < <(took "$fk" -d "$work/srv" backup take)
  best_ours=$(least "$t" "$best_ours")
  peak=$m
done
row "first backup | cp -a + sync" "$best_ours" "$best_theirs" "$(awk "BEGIN { printf \"%.2f\", $best_ours / $best_theirs }")" "$((peak / 1024)) MiB"
size() { find "$1" -name .freshkeel -prune -o -type f -printf '%s\n' | awk '{ n += $1 } END { printf "%.0f", n }'; } # bytes
mib() { echo $(($(size "$1") >> 20)); }
over() { awk "BEGIN { printf \"%.2f\", ($1) / ($2) }"; }
ours=$(size "$work/home/locker")
row "  size, MiB | plain copy" "$((ours >> 20))" "$(mib "$work/srv")" "$(over "$ours" "$(size "$work/srv")")" "-"
squeezed=$(tar -C "$work/srv" --exclude=.freshkeel -cf - . | zstd -3 -q | wc -c)
row "  size, bytes | tar, zstd -3" "$ours" "$squeezed" "$(awk "BEGIN { printf \"%.5f\", $ours / $squeezed }")" "-"

aside "$work/copy"; cp -a "$work/srv" "$work/copy"; sync; sleep 3 # times prove nothing within the clock's tick
best_ours=999 best_theirs=999
for _ in 1 2 3 4 5; do
  read -r t m < <(took "$fk" -d "$work/srv" backup take)
  best_ours=$(least "$t" "$best_ours")
  read -r t _ < <(took find "$work/srv" -printf '%s %T@ %p\n')
  best_theirs=$(least "$t" "$best_theirs")
done
row "second backup, nothing changed | find -printf" "$best_ours" "$best_theirs" "$(over "$best_ours" "$best_theirs")" "$((m / 1024)) MiB"

# One page in two hundred of the database, and of one region file in fifty.
scribble() {
  python3 - "$work/srv" <<'PY'
import os, random, sys
root = sys.argv[1] # other pages and other content each time, or the locker has them already
regions = sorted(os.listdir(root + "/world/region"))
for at in [root + "/data/main.db"] + [root + "/world/region/" + r for r in random.sample(regions, len(regions) // 50)]:
    pages = os.path.getsize(at) // 4096
    with open(at, "r+b") as f:
        for p in random.sample(range(pages), max(1, pages // 200)):
            f.seek(p * 4096)
            f.write(random.randbytes(4096))
PY
}
best_ours=999 best_theirs=999
for n in 1 2 3; do
  scribble; sync; before=$(size "$work/home/locker")
  read -r t m < <(took "$fk" -d "$work/srv" backup take)
  best_ours=$(least "$t" "$best_ours")
  [ "$n" -gt 1 ] || stored=$(($(size "$work/home/locker") - before))
  read -r t _ < <(took sh -c "rsync -a --link-dest='$work/copy' --exclude=.freshkeel '$work/srv/' '$work/copy2/' && sync")
  best_theirs=$(least "$t" "$best_theirs")
  [ "$n" -gt 1 ] || theirs=$(du -s --block-size=1 "$work/copy" "$work/copy2" | tail -n 1 | cut -f1)
  aside "$work/copy"; mv "$work/copy2" "$work/copy"; sync
done
row "0.5 % of pages changed in place | rsync" "$best_ours" "$best_theirs" "$(over "$best_ours" "$best_theirs")" "$((m / 1024)) MiB"
row "  stored, KiB | rsync --link-dest" "$((stored >> 10))" "$((theirs >> 10))" "$(over "$stored" "$theirs")" "-"

last=$("$fk" -d "$work/srv" --json backup list | jq -r '.backups[-1].id')
best_ours=999 best_theirs=999
for _ in 1 2; do
  aside "$work/copy" "$work/again"; sync
  read -r t _ < <(took sh -c "cp -a '$work/srv' '$work/copy' && sync")
  best_theirs=$(least "$t" "$best_theirs")
  aside "$work/copy"; sync
  read -r t m < <(took "$fk" -d "$work/srv" backup restore "$last" --to "$work/again")
  best_ours=$(least "$t" "$best_ours")
done
row "restore whole, elsewhere | cp -a + sync" "$best_ours" "$best_theirs" "$(over "$best_ours" "$best_theirs")" "$((m / 1024)) MiB"
diff -r --exclude=.freshkeel "$work/srv" "$work/again" >&2
aside "$work/again" "$work/copy"
read -r t m < <(took "$fk" -d "$work/srv" backup check)
row "read everything back" "$t" "-" "-" "$((m / 1024)) MiB"

# A second copy of the locker in another folder, and what a push costs that has
# little to send.
rm -rf "$work/far"; mkdir "$work/far"; sync
printf "\n[copy]\nto = '%s'\nby_hand = true\n" "$work/far" >>"$work/srv/freshkeel.toml"
read -r r _ < <(took sh -c "cp -a '$work/home/locker' '$work/copy' && sync")
aside "$work/copy"
read -r t m < <(took "$fk" -d "$work/srv" backup push)
row "first push to a folder | cp -a the locker" "$t" "$r" "$(over "$t" "$r")" "$((m / 1024)) MiB"
scribble; sync; "$fk" -d "$work/srv" backup take >/dev/null 2>&1
read -r t m < <(took "$fk" -d "$work/srv" backup push)
row "  and again, 0.5 % of pages changed" "$t" "-" "-" "$((m / 1024)) MiB"
sed -i '/^\[copy\]/,$d' "$work/srv/freshkeel.toml"
rm -rf "$work/far"

if [ -z "${QUICK:-}" ]; then
  for n in $(seq 2 10); do scribble; "$fk" -d "$work/srv" backup take >/dev/null 2>&1; done
  row "ten backups more, 0.5 % of pages each, MiB" "$(mib "$work/home/locker")" "$(mib "$work/srv")" "$(over "$(size "$work/home/locker")" "$(size "$work/srv")")" "-"
fi

# A refit whose build changes one asset of 128 MiB and the script, the world
# being written to meanwhile; then one that fails.
next=$work/next-2.0
rm -rf "$next"; mkdir -p "$next/assets"
sed 's/server 1.0/server 2.0/' "$work/srv/run.sh" >"$next/run.sh"; chmod +x "$next/run.sh"
head -c 134217728 /dev/urandom >"$next/assets/1.pak"
sed -i "s/^version = .*/version = '^bench server (\\\\S+)'/; s/^line = .*/line = '^ready'/; s/^send = .*/send = 'quit'/; s/steady = '5s'/steady = '1s'/" "$work/srv/freshkeel.toml"
"$fk" -d "$work/srv" start >/dev/null 2>&1
read -r t m < <(took "$fk" -d "$work/srv" --json refit --from "$next")
ns=$(tail -n 1 "$work/out" | jq .entry.exchange_ns)
row "refit, 128 MiB changed: whole" "$t" "-" "-" "$((m / 1024)) MiB"
row "  old process gone → new one started" "$(awk "BEGIN { printf \"%.3f\", $ns / 1e9 }")" "-" "-" "-"
tail -n 1 "$work/out" | jq -r '.entry.steps[] | "    \(.name)\t\(.took_ns / 1e9 * 1000 | round) ms\t\(.note // "")"'

fail=$work/next-3.0
rm -rf "$fail"; mkdir -p "$fail/assets"
printf '#!/bin/sh\necho "bench server 3.0"; echo oh >> world/region/1.region; exit 1\n' >"$fail/run.sh"; chmod +x "$fail/run.sh"
head -c 134217728 /dev/urandom >"$fail/assets/1.pak"
/usr/bin/time -f '%e %M' -o "$work/time" "$fk" -d "$work/srv" --json refit --from "$fail" >"$work/out" 2>/dev/null || true
read -r t m < <(tail -n 1 "$work/time")
row "refit that fails and goes back: whole" "$t" "-" "-" "$((m / 1024)) MiB"
"$fk" -d "$work/srv" --json logbook r0002 | jq -r '.steps[] | "    \(.name)\t\(.took_ns / 1e9 * 1000 | round) ms\t\(.note // "")"'
"$fk" -d "$work/srv" stop >/dev/null 2>&1

# What players wait for follows what changes, not how much there is.
if [ -z "${QUICK:-}" ]; then
  for times in 2 4; do
    for n in $(seq $((times / 2)) $((times - 1))); do cp -r "$work/srv/assets" "$work/srv/more-$n"; done
    head -c 134217728 /dev/urandom >"$next/assets/1.pak"
    sed "s/server [0-9.]*\"/server 2.$times\"/" "$work/srv/run.sh" >"$next/run.sh"; chmod +x "$next/run.sh"
    mv "$next" "$work/next-2.$times"; next=$work/next-2.$times
    "$fk" -d "$work/srv" backup take >/dev/null 2>&1
    "$fk" -d "$work/srv" start >/dev/null 2>&1
    read -r t m < <(took "$fk" -d "$work/srv" --json refit --from "$next" --accept drift)
    "$fk" -d "$work/srv" stop >/dev/null 2>&1
    row "refit, 128 MiB changed, assets x $times: gone → started" "$(awk "BEGIN { printf \"%.3f\", $(tail -n 1 "$work/out" | jq .entry.exchange_ns) / 1e9 }")" "-" "-" "$((m / 1024)) MiB"
  done
  rm -r "$work"/srv/more-*
fi

# One sparse file of 20 GiB, and 200,000 files: memory must not follow them.
truncate -s 20G "$work/srv/data/huge.db"
read -r t m < <(took "$fk" -d "$work/srv" backup take)
row "backup with one sparse file of 20 GiB" "$t" "-" "-" "$((m / 1024)) MiB"
rm "$work/srv/data/huge.db"
mkdir "$work/srv/many"
python3 - "$work/srv/many" <<'PY'
import os, sys
for i in range(200000):
    d = "%s/%04d" % (sys.argv[1], i // 200)
    if i % 200 == 0:
        os.mkdir(d)
    with open("%s/%06d.txt" % (d, i), "w") as f:
        f.write("number %d\n" % i)
PY
read -r t m < <(took "$fk" -d "$work/srv" backup take)
row "backup of 220,000 files, 200,000 of them new" "$t" "-" "-" "$((m / 1024)) MiB"
sleep 3
"$fk" -d "$work/srv" backup take >/dev/null 2>&1
read -r t m < <(took "$fk" -d "$work/srv" backup take)
row "  and again, nothing changed" "$t" "-" "-" "$((m / 1024)) MiB"
aside "$work/srv/many"
