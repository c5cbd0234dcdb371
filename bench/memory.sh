#!/bin/sh
# The most memory that commands take on an install and a build of 200,000 small files each,
# every other one changed. Needs GNU time. The limit is 128 MiB.
set -eu
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/freshkeel" ./cmd/freshkeel
for side in base next; do
	for folder in $(seq 400); do
		at=$work/$side/parts/p$folder
		mkdir -p "$at"
		awk -v at="$at" -v folder="$folder" -v side="$side" 'BEGIN {
			for (i = 0; i < 500; i++) {
				printf "%d-%d%s", folder, i, (i % 2 ? "-" side : "") > (at "/f" i ".bin")
				close(at "/f" i ".bin")
			}
		}'
	done
	cat >"$work/$side/run.sh" <<-'END'
		#!/bin/sh
		echo 'pond is ready'
		while read -r line; do [ "$line" = stop ] && exit 0; done
		sleep 1000
	END
	chmod +x "$work/$side/run.sh"
done
cp -a "$work/base" "$work/srv"
export FRESHKEEL_HOME="$work/home"
cd "$work/srv"
echo "| command, 200,000 files | time | memory |"
echo "| --- | --- | --- |"
row() {
	command time -f '%e %M' -o "$work/cost" "$work/freshkeel" "$@" >"$work/said" 2>&1 || { cat "$work/said"; exit 1; }
	awk -v what="$1" '{ printf "| %s | %.1f s | %d MiB |\n", what, $1, $2 / 1024 }' "$work/cost"
}
row adopt --build "$work/base" --version 1.0 .
row fetch --from "$work/next" --as 2.0
row preflight --from "$work/next" --as 2.0
row refit --from "$work/next" --as 2.0
row rollback
