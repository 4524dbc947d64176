# Every target does its own set-up; a second run finds it done.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test test-core bench shots scene fuzz kill mutate soak wheel deb check-packages setup clean
SECONDS ?= 600
KILLS ?= 200
CHANGES ?= 200

demo:
	@PYTHON=$(PYTHON) bash scripts/setup.sh demo
	@bash scripts/demo.sh

# Style, types, import contracts, examples in docstrings, and all tests.
test:
	@PYTHON=$(PYTHON) bash scripts/setup.sh test
	@bash scripts/test.sh

# The tests of what needs no window, which take a minute.
test-core:
	@PYTHON=$(PYTHON) bash scripts/setup.sh test
	@bash scripts/test.sh core

bench: setup
	$(BIN)/python bench/bench.py
	$(BIN)/python bench/farm.py

# One PNG of each main view from the demo, for the docs.
shots: setup
	QT_QPA_PLATFORM=offscreen $(BIN)/kobrel --demo --pictures docs/screenshots

# Damaged and hostile files over every reader, then random hands at the window: SECONDS of each.
fuzz: setup
	$(BIN)/python -m campaign.fuzz --seconds $(SECONDS)
	$(BIN)/python -m campaign.hands --seconds $(SECONDS)

# A driven window is killed KILLS times; what it did a second before has to be there.
kill: setup
	$(BIN)/python -m campaign.kill --kills $(KILLS)

# CHANGES small changes to the code, of which tests have to notice 95 of 100 in every package.
mutate: setup
	$(BIN)/python -m campaign.mutate_code --count $(CHANGES)

# A day of work in SECONDS, and whether memory grows over it.
soak: setup
	$(BIN)/python -m campaign.soak --seconds $(SECONDS)

# A wheel that installs with pip or pipx, and a Debian package with an environment of its own, in dist/.
wheel: setup
	@bash scripts/wheel.sh

deb: setup
	@bash scripts/deb.sh

# Installs both where nothing else is, uses them, and takes them away.
check-packages: deb
	@PYTHON=$(PYTHON) bash scripts/check_packages.sh

# Makes the demo's scene and plan anew.
scene: setup
	$(BIN)/python -m kobrel.demo.make
	$(BIN)/python -m kobrel.demo.harbour

setup:
	@PYTHON=$(PYTHON) bash scripts/setup.sh

clean:
	rm -rf .venv build dist src/*.egg-info
