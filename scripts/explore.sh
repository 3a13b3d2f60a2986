#!/usr/bin/env bash
# Draws properties anew, round after round, until one fails or ROUNDS (10) are done. What fails belongs into its test as
# an example. Files to look at may be named; without, all that hold properties.
set -uo pipefail
cd "$(dirname "$0")/.."
export MIVLO_EXPLORE=1
files=("$@")
[ "${#files[@]}" -gt 0 ] || mapfile -t files < <(grep -rl "^from hypothesis" tests --include="test_*.py" | sort)
for round in $(seq "${ROUNDS:-10}"); do
  seed=$RANDOM
  echo "round $round, seed $seed"
  .venv/bin/python -m pytest -q -n 2 --dist loadfile --hypothesis-seed="$seed" -k "not odd_requests" "${files[@]}" || exit 1
done
