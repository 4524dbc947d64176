#!/usr/bin/env bash
# Makes the virtual environment and whatever it needs; says what it does, and in a second
# run finds that nothing is left to do.
set -euo pipefail
cd "$(dirname "$0")/.."
PYTHON=${PYTHON:-python3}
SYSTEM="libegl1 libgl1 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0 libxcb-xkb1"

say() { printf 'kobrel: %s\n' "$*"; }

need_system() { # names of Debian packages that are not installed
  command -v dpkg-query >/dev/null || return 0
  for name in "$@"; do
    dpkg-query -W -f='${Status}' "$name" 2>/dev/null | grep -q 'install ok installed' || printf '%s ' "$name"
  done
}

install_system() {
  local missing; missing=$(need_system "$@")
  [ -n "$missing" ] || return 0
  local sudo=""
  if [ "$(id -u)" != 0 ]; then
    if command -v sudo >/dev/null && sudo -n true 2>/dev/null; then sudo="sudo -n"; else
      say "these system packages are missing: $missing"
      say "install them with: sudo apt-get install $missing"
      return 1
    fi
  fi
  say "installing system packages: $missing"
  $sudo apt-get update -qq
  # shellcheck disable=SC2086
  DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends $missing >/dev/null
}

# What pip is told about where packages come from, the faster installer is told too.
sources() {
  local pip="$1" url
  url=$($pip config get global.index-url 2>/dev/null || true)
  [ -z "$url" ] || echo "--index-url $url"
  for url in $($pip config get global.extra-index-url 2>/dev/null || true); do
    echo "--extra-index-url $url --index-strategy unsafe-best-match"
  done
  for url in $($pip config get global.find-links 2>/dev/null || true); do
    echo "--find-links $url"
  done
}

install_packages() { # Kobrel with what it needs, and with "[dev]" what its tests need besides
  local pip="env PYTHONWARNINGS=ignore .venv/bin/python -m pip --quiet --disable-pip-version-check"
  if $pip install -c constraints.txt uv 2>/dev/null; then
    # shellcheck disable=SC2046
    .venv/bin/uv pip install --quiet --compile-bytecode --python .venv/bin/python $(sources "$pip") -c constraints.txt -e ".$1" \
      2>/dev/null && return
    say "the fast installer found no way to the packages; taking pip, which needs a few minutes"
  fi
  $pip install -c constraints.txt setuptools wheel
  $pip install -c constraints.txt --no-build-isolation -e ".$1"
}

# "demo" needs less than the tests do; what was set up for the tests does for the demo too.
# Tests compile the kernels themselves, beside other checks.
extra="[dev]"; [ "${1:-}" != demo ] || extra=""
wanted=$(cat pyproject.toml constraints.txt scripts/setup.sh | sha256sum | cut -d' ' -f1)
had=$(cat .venv/ready 2>/dev/null || true)
if [ "$had" != "$wanted [dev]" ] && [ "$had" != "$wanted $extra" ]; then
  if ! command -v "$PYTHON" >/dev/null; then
    say "$PYTHON is missing"; install_system python3 || exit 1
  fi
  "$PYTHON" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || {
    say "Python 3.11 or newer is needed; $("$PYTHON" --version) was found. Name another: make PYTHON=python3.12 …"; exit 1; }
  "$PYTHON" -c 'import ensurepip, venv' 2>/dev/null || install_system python3-venv || exit 1
  # Without these the window cannot open; tests without a monitor need most of them too.
  install_system $SYSTEM || say "going on without them; the window may not open"
  [ -x .venv/bin/python ] || { say "making the virtual environment .venv"; "$PYTHON" -m venv .venv; }
  say "installing Python packages"
  install_packages "$extra"
  if [ "${1:-}" != test ]; then
    say "compiling the picture's kernels"
    .venv/bin/python -m kobrel.picture.ready || say "not kept; they will be compiled when first used"
  fi
  echo "$wanted $extra" > .venv/ready
  say "ready"
fi
