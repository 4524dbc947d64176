# Every target does its own set-up; a second run finds it done.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test bench shots scene setup clean

demo: setup
	@bash scripts/demo.sh

test: setup
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest -n auto --maxprocesses 4 --dist worksteal

bench: setup
	$(BIN)/python bench/bench.py

# One PNG of each main view from the demo, for the docs.
shots: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/kobrel --demo --pictures docs/screenshots

# Makes the demo's scene and plan anew.
scene: setup
	$(BIN)/python -m kobrel.demo.make

setup:
	@PYTHON=$(PYTHON) bash scripts/setup.sh

clean:
	rm -rf .venv build src/*.egg-info
