#!/usr/bin/env bash
# Installs what Mivlo needs on Debian 12: system packages, Python environment, page. Quick when done already.
set -euo pipefail
cd "$(dirname "$0")/.."

fail() { printf 'mivlo: %s\n' "$1" >&2; exit 1; }

packages=(postgresql chromium-headless-shell fluidsynth timgm6mb-soundfont)
missing=()
for package in "${packages[@]}"; do
  dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
done
command -v python3 >/dev/null || missing+=(python3)
python3 -c 'import ensurepip' 2>/dev/null || missing+=(python3-venv)
command -v npm >/dev/null || missing+=(nodejs npm)
if [ "${#missing[@]}" -gt 0 ]; then
  echo "Installing ${missing[*]}"
  as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || fail "please have these Debian packages installed, then start again: ${missing[*]}"
    as_root=(sudo)
  fi
  log=$(mktemp)
  { "${as_root[@]}" apt-get update -qq && "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive \
      apt-get install -y -qq --no-install-recommends "${missing[@]}"; } >"$log" 2>&1 ||
    { tail -5 "$log" >&2; fail "the packages could not be installed (full log: $log). Is the network reachable?"; }
fi

python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))' || fail "Python 3.11 or newer is needed."
node -e 'process.exit(parseInt(process.versions.node) < 20 ? 1 : 0)' || fail "Node 20 or newer is needed."

python_stamp=.venv/.mivlo-$(cat requirements.lock pyproject.toml | sha256sum | cut -c1-16)
if [ ! -e "$python_stamp" ]; then
  echo "Making the Python environment"
  [ -x .venv/bin/python ] || python3 -m venv .venv
  .venv/bin/python -m pip install -q --disable-pip-version-check -r requirements.lock 2>&1 | grep -v '^WARNING: Location' || true
  .venv/bin/python -m pip install -q --disable-pip-version-check --no-deps -e . 2>&1 | grep -v '^WARNING: Location' || true
  [ -x .venv/bin/mivlo ] || fail "the Python packages could not be installed; run .venv/bin/pip install -r requirements.lock to see why."
  .venv/bin/python -c 'import mivlo.cli, fastapi, numba, soundfile, soxr, procrastinate' || fail "the Python environment is not complete; remove .venv and start again."
  rm -f .venv/.mivlo-*
  touch "$python_stamp"
fi

# beside the page's packages, for which one waits anyway
compiled_stamp=.venv/.mivlo-compiled-$(find src/mivlo/core src/mivlo/live src/mivlo/demo src/mivlo/compiling.py -name '*.py' -print0 | sort -z | xargs -0 sha256sum | sha256sum | cut -c1-16)
compiling=
if [ ! -e "$compiled_stamp" ]; then
  echo "Compiling what computes (once, about a minute)"
  .venv/bin/mivlo compile >/dev/null &
  compiling=$!
fi

npm_stamp=ui/node_modules/.mivlo-$(sha256sum ui/package-lock.json | cut -c1-16)
if [ ! -e "$npm_stamp" ]; then
  echo "Installing the page's packages"
  # a registry without the packages of other platforms makes npm ci refuse the lock file: then install by it
  (cd ui && { npm ci --silent --no-audit --no-fund 2>/dev/null || npm install --no-save --silent --no-audit --no-fund; }) || fail "the page's packages could not be installed; run npm ci in ui/ to see why."
  touch "$npm_stamp"
fi

page_stamp=ui/dist/.mivlo-$(find ui/src ui/public ui/index.html ui/vite.config.ts ui/package-lock.json -type f -print0 2>/dev/null | sort -z | xargs -0 sha256sum | sha256sum | cut -c1-16)
if [ ! -e "$page_stamp" ]; then
  echo "Building the page"
  (cd ui && npx vite build --logLevel warn) || fail "the page could not be built; run npm run build in ui/ to see why."
  touch "$page_stamp"
fi

if [ -n "$compiling" ]; then
  wait "$compiling" || fail "what computes could not be compiled; run .venv/bin/mivlo compile to see why."
  rm -f .venv/.mivlo-compiled-*
  touch "$compiled_stamp"
fi
