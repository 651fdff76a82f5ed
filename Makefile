# Each target sets up what it needs: a virtual environment in .venv with the locked packages.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready

.PHONY: demo test lint types layers bench truth screenshots clean

demo: $(READY)
	$(BIN)/fenrask demo build/demo --force

test: $(READY)
	$(BIN)/python -m tests

lint: $(READY)
	$(BIN)/ruff check src tests bench docs truth
	$(BIN)/ruff format --check src tests bench docs truth

types: $(READY)
	$(BIN)/mypy

layers: $(READY)
	$(BIN)/lint-imports

bench: $(READY)
	$(BIN)/python -m bench

# Needs root, nft and ip: asks the kernel's own translator in network namespaces.
truth: $(READY)
	$(BIN)/python -m truth

# Needs Xvfb, xterm and ImageMagick: pictures of a real terminal window.
screenshots: $(READY)
	$(BIN)/python docs/screenshots/take.py

$(READY): requirements.lock pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	touch $@

clean:
	rm -rf $(VENV) build
