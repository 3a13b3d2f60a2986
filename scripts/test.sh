#!/usr/bin/env bash
# All checks: page units, linters, types, Python, browser. Ends with pytest's closing line.
# Three test processes, each with its own database and server, since much is waited for; linters and page units beside them.
set -uo pipefail
cd "$(dirname "$0")/.."
log=$(mktemp -d)
trap 'rm -rf "$log"' EXIT
(cd ui && npx vitest run --reporter=dot) >"$log/units" 2>&1 &
units=$!
scripts/lint.sh >"$log/lint" 2>&1 &
lint=$!
# only the plugin that is needed: pytest would rewrite all modules of the others, in each process
export PYTEST_DISABLE_PLUGIN_AUTOLOAD=1
unset PYTHONDONTWRITEBYTECODE
.venv/bin/python -m pytest -p xdist.plugin -n 3 --dist loadfile --no-loadscope-reorder "$@" | tee "$log/tests"
failed=$?
for beside in units lint; do
  wait "${!beside}" || { failed=1; cat "$log/$beside"; tail -n 1 "$log/tests"; }
done
exit "$failed"
