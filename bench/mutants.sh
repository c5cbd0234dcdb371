#!/usr/bin/env bash
# Whether the tests of the two rooms that work on texts of others see what is changed in them.
#
#   bench/mutants.sh [N] [SEED]      N: how many changes of each room (60); SEED: which ones (1)
set -euo pipefail
cd "$(dirname "$0")/.."
for room in "internal/settings ./internal/settings/..." "internal/settings/proof ./internal/settings/proof" "internal/launch ./internal/launch"; do
  # shellcheck disable=SC2086
  go run ./bench/mutants -n "${1:-60}" -seed "${2:-1}" $room
done
