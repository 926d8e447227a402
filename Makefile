PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test screenshots lint unit bench clean

demo: $(VENV)/ready
	$(BIN)/oak demo demo

test: lint unit

lint: $(VENV)/ready
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

unit: $(VENV)/ready
	$(BIN)/python tools/test.py

screenshots: $(VENV)/ready
	$(BIN)/python tools/screenshots.py

$(VENV)/ready: export PIP_CONSTRAINT = constraints.txt
$(VENV)/ready: export PIP_BUILD_CONSTRAINT = constraints.txt
$(VENV)/ready: pyproject.toml constraints.txt
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[dev]'
	touch $@

bench: $(VENV)/ready
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[bench]'
	$(BIN)/python bench/run.py
	$(BIN)/python bench/reading.py

clean:
	rm -rf $(VENV) demo
