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

wanted=$(cat pyproject.toml constraints.txt scripts/setup.sh | sha256sum | cut -d' ' -f1)
if [ ! -f .venv/ready ] || [ "$(cat .venv/ready)" != "$wanted" ]; then
  if ! command -v "$PYTHON" >/dev/null; then
    say "$PYTHON is missing"; install_system python3 || exit 1
  fi
  "$PYTHON" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || {
    say "Python 3.11 or newer is needed; $("$PYTHON" --version) was found. Name another: make PYTHON=python3.12 …"; exit 1; }
  "$PYTHON" -c 'import ensurepip, venv' 2>/dev/null || install_system python3-venv || exit 1
  # Without these the window cannot open; tests without a monitor need most of them too.
  install_system $SYSTEM || say "going on without them; the window may not open"
  [ -x .venv/bin/python ] || { say "making the virtual environment .venv"; "$PYTHON" -m venv .venv; }
  say "installing Python packages (a few minutes the first time)"
  pip="env PYTHONWARNINGS=ignore .venv/bin/python -m pip --quiet --disable-pip-version-check"
  $pip install -c constraints.txt setuptools wheel
  $pip install -c constraints.txt --no-build-isolation -e '.[dev]'
  say "compiling the picture's kernels"
  .venv/bin/python -m kobrel.picture.ready || say "not kept; they will be compiled when first used"
  echo "$wanted" > .venv/ready
  say "ready"
fi
