#!/usr/bin/env bash
# All checks: linters, types, page units, Python, browser. Ends with pytest's closing line.
set -euo pipefail
cd "$(dirname "$0")/.."
log=$(mktemp)
(cd ui && npx vitest run --reporter=dot) >"$log" 2>&1 &
units=$!
scripts/lint.sh
wait "$units" || { cat "$log"; exit 1; }
grep -E "Test Files|Tests" "$log"
.venv/bin/python -m pytest "$@"
