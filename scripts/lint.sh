#!/usr/bin/env bash
# Linters and types of both halves.
set -euo pipefail
cd "$(dirname "$0")/.."
.venv/bin/ruff check .
.venv/bin/ruff format --check .
.venv/bin/mypy
.venv/bin/lint-imports --no-cache | tail -4
.venv/bin/mivlo openapi | diff -q - docs/openapi.json >/dev/null || { echo "docs/openapi.json is stale: run make types" >&2; exit 1; }
cd ui
npx openapi-typescript ../docs/openapi.json -o /tmp/mivlo-schema.$$.d.ts >/dev/null
diff -q /tmp/mivlo-schema.$$.d.ts src/api/schema.d.ts >/dev/null || { echo "ui/src/api/schema.d.ts is stale: run make types" >&2; exit 1; }
rm -f /tmp/mivlo-schema.$$.d.ts
npx eslint . --max-warnings 0
npx vue-tsc --noEmit
