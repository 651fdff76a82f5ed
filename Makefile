# Each target sets up what it needs: a virtual environment in .venv with the locked packages.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
RUNNING := $(VENV)/.running
READY := $(VENV)/.ready
# The lock file is whole, so nothing is resolved; modules are compiled where they are first used.
INSTALL := --quiet --disable-pip-version-check --no-deps --no-compile
# What is compiled is kept, whatever the machine's setting: without, each start of the program compiles all that it
# imports once more, which takes longer than the rest of a short command.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test test-long lint types layers dead site bench fuzz smoke supply dist truth screenshots clean

demo: $(RUNNING)
	$(BIN)/fenrask demo build/demo --force

test: $(READY)
	$(BIN)/python -m tests

# Many more draws of every test that draws, and new ones each time; LONG=N times as many.
test-long: $(READY)
	LONG=$${LONG:-25} $(BIN)/python -m tests

lint: $(READY)
	$(BIN)/ruff check src tests bench docs supply truth
	$(BIN)/ruff format --check src tests bench docs supply truth

types: $(READY)
	$(BIN)/mypy

layers: $(READY)
	$(BIN)/lint-imports

# Names of the program that nothing uses; what is used by tests alone is seen by eye.
dead: $(READY)
	! $(BIN)/vulture | grep "^src/"

# All documents as a site, build/site/index.html; a link that leads nowhere is an error. Its generator has an
# environment of its own.
build/site-env/.ready: docs/site.lock $(READY)
	$(PYTHON) -m venv build/site-env
	$(BIN)/uv pip install --quiet --python build/site-env/bin/python --no-deps --require-hashes -r docs/site.lock || \
	  build/site-env/bin/python -m pip install $(INSTALL) --require-hashes -r docs/site.lock
	touch $@

site: $(READY) build/site-env/.ready
	build/site-env/bin/python -m sphinx --builder html --fail-on-warning --keep-going --quiet docs build/site
	@echo "build/site/index.html"

# The plain ways that `measure` is held against, in an environment of their own.
build/yardsticks/.ready: bench/yardsticks.lock $(READY)
	$(PYTHON) -m venv build/yardsticks
	$(BIN)/uv pip install --quiet --python build/yardsticks/bin/python --no-deps --require-hashes -r bench/yardsticks.lock || \
	  build/yardsticks/bin/python -m pip install $(INSTALL) --require-hashes -r bench/yardsticks.lock
	touch $@

bench: $(READY) build/yardsticks/.ready
	$(BIN)/python -m bench

# More damaged files and changed documents than `make test` tries; FUZZ=N of each kind of file.
fuzz: $(READY)
	FUZZ=$${FUZZ:-1000} $(BIN)/python -m unittest tests.fuzzing.test_fuzz tests.fuzzing.test_changes tests.fuzzing.test_drafts

# The demo and some tests under other versions of Python, where uv finds them here.
smoke: $(READY)
	$(BIN)/python -m supply.smoke 3.12 3.13

# What an installation is made of: build/components.cdx.json and build/licences.csv.
supply: $(READY)
	$(BIN)/python -m supply build

# A wheel and a source distribution, in dist: the same bytes each time from the same commit.
dist: $(READY)
	rm -rf build/lib dist
	$(BIN)/python -m supply.building dist

# Needs root, nft and ip: asks the kernel's own translator in network namespaces.
truth: $(READY)
	$(BIN)/python -m truth

# Needs Xvfb, xterm and ImageMagick: pictures of a real terminal window.
screenshots: $(READY)
	$(BIN)/python docs/screenshots/take.py

# The quick installer, where it can be had and finds all; else pip, which takes five times as long. What running needs
# comes first, and is all that `make demo` waits for (`python -m supply.locks` writes running.lock).
$(RUNNING): installer.lock running.lock pyproject.toml
	$(PYTHON) -m venv $(VENV)
	{ $(BIN)/python -m pip install $(INSTALL) --require-hashes -r installer.lock && \
	  $(BIN)/uv pip install --quiet --python $(BIN)/python --no-deps --require-hashes -r running.lock; } || \
	  $(BIN)/python -m pip install $(INSTALL) --require-hashes -r running.lock
	$(BIN)/python -m pip install $(INSTALL) --no-build-isolation --editable .
	touch $@

$(READY): $(RUNNING) requirements.lock
	$(BIN)/uv pip install --quiet --python $(BIN)/python --no-deps --require-hashes -r requirements.lock || \
	  $(BIN)/python -m pip install $(INSTALL) --require-hashes -r requirements.lock
	touch $@

clean:
	rm -rf $(VENV) build dist
