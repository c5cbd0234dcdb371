#!/usr/bin/env bash
# A real service manager for the tests of this folder: the machine's own systemd as the first
# process of new namespaces, on an overlay of the machine's root, with a /tmp and a /run of its
# own. Nothing that it does reaches the machine.
#
#   manager.sh up DIR     boots it; DIR keeps its state
#   manager.sh again DIR  cuts its power, and boots it once more
#   manager.sh down DIR   ends it, and removes all of it
#
# Needs root, systemd, dbus and util-linux.
set -euo pipefail
dir=${2:?a folder}

boot() {
  setsid unshare --pid --mount --uts --ipc --cgroup --net --fork --kill-child bash -c '
    cd "$0"
    mount -t proc proc proc
    mount -t sysfs sysfs sys
    mount -t tmpfs tmpfs run
    mount -t tmpfs tmpfs tmp
    mount --rbind /dev dev
    mkdir -p sys/fs/cgroup
    mount -t cgroup2 cgroup2 sys/fs/cgroup
    # A root of its own, and not a changed one: in that nobody could make namespaces.
    mkdir -p .machine
    pivot_root . .machine
    cd /
    umount -l /.machine
    exec env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin container=test \
      /lib/systemd/systemd --system --unit=multi-user.target --log-target=null
  ' "$dir/root" </dev/null >"$dir/out" 2>&1 &
  outer=$!
  echo "$outer" >"$dir/outer"
  for _ in $(seq 300); do
    p=$(pgrep -P "$outer" -x systemd || true)
    if [ -n "$p" ]; then
      echo "$p" >"$dir/pid"
      state=$(nsenter -t "$p" -m -p -u -i -n -r -w systemctl is-system-running 2>/dev/null || true)
      case $state in running | degraded) exit 0 ;; esac
    fi
    sleep 0.1
  done
  cat "$dir/out" >&2
  exit 1
}

case ${1:?up, again or down} in
up)
  mkdir -p "$dir"/{layer,root}
  mount -t tmpfs tmpfs "$dir/layer"
  mkdir "$dir"/layer/{up,work}
  mount -t overlay overlay -o "lowerdir=/,upperdir=$dir/layer/up,workdir=$dir/layer/work" "$dir/root"
  # No unit of the machine runs here but what a bus and a journal need.
  for unit in systemd-udevd.service systemd-udev-trigger.service systemd-modules-load.service \
      systemd-sysctl.service systemd-logind.service getty.target; do
    ln -sf /dev/null "$dir/root/etc/systemd/system/$unit"
  done
  rm -f "$dir"/root/etc/systemd/system/multi-user.target.wants/*
  # Whoever forgets a connection to the bus runs out of them here, and not after an hour.
  mkdir -p "$dir/root/etc/dbus-1/system.d"
  echo '<busconfig><limit name="max_connections_per_user">64</limit></busconfig>' >"$dir/root/etc/dbus-1/system.d/few.conf"
  boot
  ;;
again)
  kill -9 "$(cat "$dir/pid")"
  while kill -0 "$(cat "$dir/outer")" 2>/dev/null; do sleep 0.05; done
  boot
  ;;
down)
  kill -9 "$(cat "$dir/pid" 2>/dev/null)" 2>/dev/null || true
  sleep 0.2
  umount -R -l "$dir/root" 2>/dev/null || true
  umount -l "$dir/layer" 2>/dev/null || true
  rm -rf "$dir"
  ;;
esac
