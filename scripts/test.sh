#!/usr/bin/env bash
# All checks, or with "core" only the tests of what needs no window. What compiles and checks runs first, on all
# cores; then the tests, those that wait for other processes before the others.
set -uo pipefail
cd "$(dirname "$0")/.."
BIN=.venv/bin
CORE="tests/optics tests/plan tests/session tests/exchange tests/stage"
unset PYTHONDONTWRITEBYTECODE # without it every worker and every process would compile all sources anew
export QT_QPA_PLATFORM=offscreen

run() { $BIN/python -m pytest -n auto --maxprocesses 4 --dist worksteal "$@"; }
kernels() {
  echo "kobrel: compiling the picture's kernels, unless they are kept"
  $BIN/python -m kobrel.picture.ready || echo "kobrel: not kept; they will be compiled when first used"
}

if [ "${1:-all}" = core ]; then
  kernels
  run $CORE
  exit
fi

kernels &
compiled=$!
checked=0
for check in "ruff check ." "ruff format --check ." "lint-imports --no-cache" "mypy" \
  "python -m pytest --doctest-modules src/kobrel"; do
  said=$($BIN/$check 2>&1) || { printf '\nkobrel: %s\n%s\n' "$check" "$said"; checked=1; }
done
wait $compiled
run tests/farm tests/campaign tests/desk tests/kinds tests/plates tests/picture tests/test_*.py $CORE --durations=10
tests=$?
[ $checked = 0 ] && echo "kobrel: style, types, import contracts and examples hold"
exit $((tests || checked))
