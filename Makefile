# `make demo` shows Fenko at work, `make test` checks everything; both start from a fresh machine.

PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin
SIDE_BY_SIDE := -n 4 --dist loadscope --no-loadscope-reorder -r a

# What is compiled once need not be compiled at each of some thousand starts.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo quick test test-long lint bench screenshots architecture deb man site clean

demo: $(VENV)/installed
	$(BIN)/fenko demo --instant

# While one works: what needs no other program.
quick: $(VENV)/tested lint
	$(BIN)/python -m pytest $(SIDE_BY_SIDE) -m "quick and not long"

test: $(VENV)/tested lint
	tools/needs tests
	$(BIN)/python -m pytest $(SIDE_BY_SIDE) -m "not long" --durations=25
	$(BIN)/python tools/share.py

# What takes long by its nature, and what is drawn at random, more often.
test-long: $(VENV)/tested
	tools/needs tests
	FENKO_THOROUGH=1 $(BIN)/python -m pytest $(SIDE_BY_SIDE) -m "long or hypothesis" --durations=25

lint: $(VENV)/tested
	$(BIN)/ruff check src tests bench tools
	$(BIN)/ruff format --check src tests bench tools
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(VENV)/tested
	tools/needs tests
	$(BIN)/python -m bench

screenshots: $(VENV)/tested
	tools/needs screenshots
	$(BIN)/python tools/screenshots.py
	$(BIN)/python tools/truth.py

architecture: $(VENV)/tested
	$(BIN)/python tools/architecture.py
	$(BIN)/python tools/tables.py

deb: $(VENV)/installed
	$(BIN)/python tools/debian.py dist

site: $(VENV)/tested
	$(BIN)/python tools/reference.py
	$(BIN)/python -m sphinx -q -W -b html docs dist/site

man: $(VENV)/installed
	$(BIN)/python tools/manual.py dist/man

clean:
	rm -rf $(VENV) dist build

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/installed: pyproject.toml | $(VENV)/bin/python
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable .
	touch $@

$(VENV)/tested: pyproject.toml $(VENV)/installed
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@
