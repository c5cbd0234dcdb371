#!/usr/bin/env bash
# Our share of the downtime (old process gone → new one's start accepted) of a server that a
# service runs, and of one whose own line changes with the build, beside one that the minder runs, in turn, in one run on the machine's own systemd,
# booted apart from the machine. Needs root, systemd, dbus, util-linux, jq.
set -euo pipefail
cd "$(dirname "$0")/.."
rounds=${1:-5}
dir=$(mktemp -d /var/tmp/freshkeel-bench-XXXX)
trap 'bash byservice/manager.sh down "$dir/m" 2>/dev/null || true; rm -rf "$dir"' EXIT
CGO_ENABLED=0 go build -trimpath -o "$dir/freshkeel" ./cmd/freshkeel
bash byservice/manager.sh up "$dir/m"
inside() { nsenter -t "$(cat "$dir/m/pid")" -m -p -u -i -n -r -w env PATH=/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin HOME=/root "$@"; }
inside sh -c 'cat >/usr/local/bin/freshkeel; chmod 755 /usr/local/bin/freshkeel' <"$dir/freshkeel"
inside useradd -m pond
port=27760
for kind in minder service line; do
  port=$((port + 1))
  run=open-gates.sh
  [ $kind != line ] || run='../runtimes/17/bin/java -Xmx256M -jar mossgate.jar'
  inside sh -ec "
    cd /srv; export FRESHKEEL_HOME=/srv/$kind/home
    freshkeel demo /srv/$kind >/dev/null
    chown -R pond:pond /srv/$kind
    printf '[Service]\nUser=pond\nWorkingDirectory=/srv/$kind/mossgate-east\nExecStart=/srv/$kind/mossgate-east/$run\nRestart=always\n' >/etc/systemd/system/$kind.service
    [ $kind != minder ] || rm /etc/systemd/system/$kind.service
    systemctl daemon-reload
    freshkeel adopt /srv/$kind/mossgate-east --source ../builds/feed.json --no-try --build /srv/$kind/builds/mossgate-3.4.1.zip >/dev/null 2>&1
    cd /srv/$kind/mossgate-east
    sed -i \"s/steady = '5s'/steady = '300ms'/\" freshkeel.toml
    sed -i 's/^port = .*/port = $port/' mossgate.conf
    sed -i 's/udp.27750/udp\/$port/' freshkeel.toml
    [ $kind != line ] || freshkeel profile set launch.memory 512M >/dev/null 2>&1
    freshkeel start >/dev/null 2>&1"
done
for _ in $(seq "$rounds"); do
  for kind in minder service line; do
    inside sh -ec "
      cd /srv/$kind/mossgate-east; export FRESHKEEL_HOME=/srv/$kind/home
      freshkeel refit 3.5.0 >/dev/null 2>&1
      freshkeel --json logbook | jq -r '[.. | objects | select(.kind? == \"refit\") | .exchange_ns] | last' >>/srv/$kind.ns
      freshkeel rollback >/dev/null 2>&1"
  done
done
for kind in minder service line; do
  inside sort -n "/srv/$kind.ns" | awk -v kind=$kind '{ a[NR] = $1 / 1e6 } END { printf "%-8s least %.0f ms, middle %.0f ms, most %.0f ms of %d\n", kind, a[1], a[int((NR + 1) / 2)], a[NR], NR }'
done
