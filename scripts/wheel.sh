#!/usr/bin/env bash
# Builds the wheel: dist/kobrel-VERSION-py3-none-any.whl, which needs nothing of this repository.
set -euo pipefail
cd "$(dirname "$0")/.."
rm -rf build/lib build/bdist.* src/*.egg-info/SOURCES.txt
.venv/bin/python -m pip -qq --disable-pip-version-check install -c constraints.txt "setuptools>=77"
.venv/bin/python -m pip --quiet --disable-pip-version-check wheel --no-deps --no-build-isolation -w dist .
echo "kobrel: $(ls -t dist/kobrel-*.whl | head -1)"
