#!/usr/bin/env bash
# All checks: linters, types, page units, Python, browser. Ends with pytest's closing line.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/lint.sh
(cd ui && npx vitest run --reporter=dot)
.venv/bin/python -m pytest "$@"
