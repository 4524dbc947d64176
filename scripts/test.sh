#!/usr/bin/env bash
# All checks at once: the short ones beside the tests, each told when it fails.
set -uo pipefail
cd "$(dirname "$0")/.."
BIN=.venv/bin

(
  failed=0
  for check in "ruff check ." "mypy" "lint-imports --no-cache"; do
    said=$($BIN/$check 2>&1) || { printf '\nkobrel: %s\n%s\n' "$check" "$said"; failed=1; }
  done
  exit $failed
) &
checks=$!
echo "kobrel: compiling the picture's kernels, unless they are kept"
$BIN/python -m kobrel.picture.ready || echo "kobrel: not kept; they will be compiled when first used"
QT_QPA_PLATFORM=offscreen $BIN/python -m pytest -n auto --maxprocesses 4 --dist worksteal --durations=10
tests=$?
wait $checks
checked=$?
[ $checked = 0 ] && echo "kobrel: style, types and import contracts hold"
exit $((tests || checked))
