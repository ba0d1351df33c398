# `make demo` shows Fenko at work, `make test` checks everything; both start from a fresh machine.

PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin

.PHONY: demo test lint bench screenshots architecture deb man site clean

demo: $(VENV)/installed
	$(BIN)/fenko demo --instant

test: $(VENV)/tested lint
	tools/needs tests
	$(BIN)/python -m pytest -n 3 --dist loadfile --no-loadscope-reorder --reruns 1 -r aR
	$(BIN)/python tools/share.py

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
