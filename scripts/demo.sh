#!/usr/bin/env bash
# Starts the window on the demo, or without a display draws its main views.
set -euo pipefail
cd "$(dirname "$0")/.."
if [ -n "${DISPLAY:-}${WAYLAND_DISPLAY:-}" ]; then
  exec .venv/bin/kobrel --demo
fi
echo "kobrel: there is no display, so the window cannot be shown; drawing its main pages instead."
QT_QPA_PLATFORM=offscreen .venv/bin/kobrel --demo --pictures shots --views block,tape,glass,iris,pull,beside,export
echo "kobrel: look at the pictures in $(pwd)/shots"
