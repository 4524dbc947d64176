# Every target does its own set-up; a second run finds it done.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test bench shots scene setup clean

demo:
	@PYTHON=$(PYTHON) bash scripts/setup.sh demo
	@bash scripts/demo.sh

# Style, types and import contracts are checked while the tests run.
test: setup
	@bash scripts/test.sh

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
