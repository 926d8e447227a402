PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
INSTALL := $(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt

.PHONY: demo test test-outside screenshots lint unit bench bench-functions real-files mutants clean

demo: $(VENV)/runs
	$(BIN)/oak demo demo

test: lint unit

lint: $(VENV)/ready
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

unit: $(VENV)/ready
	$(BIN)/python tools/test.py

# what needs more than pip packages: it installs them from Debian where it can, and says what it did not prove
test-outside: $(VENV)/outside
	$(BIN)/python tools/outside.py

screenshots: $(VENV)/ready
	$(BIN)/python tools/screenshots.py

export PIP_CONSTRAINT = constraints.txt
export PIP_BUILD_CONSTRAINT = constraints.txt

# what running needs
$(VENV)/runs: pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(INSTALL) -e '.[service]'
	touch $@

# what checking needs besides
$(VENV)/ready: $(VENV)/runs
	$(INSTALL) -e '.[dev]'
	touch $@

# what checking outside needs besides
$(VENV)/outside: $(VENV)/ready
	$(INSTALL) -e '.[outside]'
	touch $@

# what comparing with other engines needs besides
$(VENV)/compares: $(VENV)/runs
	$(INSTALL) -e '.[bench]'
	touch $@

# all that is compared with other engines; QUICK=--quick takes two minutes and writes nothing
bench: $(VENV)/compares
	$(BIN)/python bench/random_run.py $(QUICK)
	$(BIN)/python bench/run.py $(QUICK)
	$(if $(QUICK),,$(BIN)/python bench/reading.py)

bench-functions: $(VENV)/compares
	$(BIN)/python bench/functions.py

real-files: $(VENV)/compares
	$(BIN)/python -m tests.longer.real_files

mutants: $(VENV)/ready
	$(BIN)/python tools/mutants.py

clean:
	rm -rf $(VENV) demo
