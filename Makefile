# Everything a developer does here. `make demo` and `make test` work on a fresh Debian machine.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
STAMPS := .stamps
CONSOLE_FILES := src/mellow_herald/service/console_files/index.html
CONSOLE_SOURCES := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/vite.config.ts console/package.json
ARGS ?=
# Python and the console are installed and checked side by side.
MAKEFLAGS += --jobs=2
# Every process that the demo and the tests start would otherwise compile all that it imports anew: half of its start.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: setup demo test coverage bench faults fuzz wheel console check check-python check-console clean types client lock

setup: $(STAMPS)/system $(STAMPS)/python $(CONSOLE_FILES)

demo: setup
	$(BIN)/herald demo $(ARGS)

test: setup $(STAMPS)/system-for-tests check
	cd console && npm run --silent test
	$(BIN)/pytest -n 3 --dist loadfile --no-loadscope-reorder $(ARGS)

# Which lines the tests reach, but for those of browsers and real processes, which are not counted.
coverage: setup
	$(BIN)/pytest -n 2 --dist loadfile -m "not system" --cov=mellow_herald --cov-report=term:skip-covered $(ARGS)

bench: setup
	$(BIN)/python -m bench $(ARGS)

# The table fault x seed x invariant: twenty seeds of each fault, three of what takes long; an hour and a half.
faults: setup
	$(BIN)/python -m tests.faults $(ARGS)

console: $(CONSOLE_FILES)

# Bytes of any kind, and the whole OpenAPI document with all checks, longer than with the tests; some minutes.
fuzz: setup
	$(BIN)/python -m tests.fuzz $(ARGS)

# What docs/install.md installs.
wheel: setup
	rm -rf build dist
	$(BIN)/python -m build --wheel --no-isolation --outdir dist . > /dev/null
	@ls dist

check: check-python check-console

check-python: setup
	$(BIN)/ruff check --quiet .
	$(BIN)/ruff format --check --quiet .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo > $(STAMPS)/lint-imports.log || { cat $(STAMPS)/lint-imports.log; exit 1; }
	$(BIN)/python -m scripts.sync_client --check
	$(BIN)/python -m scripts.api_types --check

check-console: setup
	cd console && npm run --silent check

# The console's types, from the service's own OpenAPI document.
types: $(STAMPS)/python $(STAMPS)/console-packages
	$(BIN)/python -m scripts.api_types

# The synchronous client, from the asynchronous one.
client: $(STAMPS)/python
	$(BIN)/python -m scripts.sync_client

lock: $(STAMPS)/python
	scripts/lock

clean:
	rm -rf $(STAMPS) $(VENV) console/node_modules src/mellow_herald/service/console_files build dist .mypy_cache .ruff_cache

$(STAMPS)/system: scripts/install-system
	@mkdir -p $(STAMPS)
	scripts/install-system
	@touch $@

$(STAMPS)/system-for-tests: scripts/install-system $(STAMPS)/system
	@mkdir -p $(STAMPS)
	scripts/install-system tests
	@touch $@

$(STAMPS)/python: requirements-dev.lock pyproject.toml | $(STAMPS)/system
	@mkdir -p $(STAMPS)
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --no-compile --disable-pip-version-check --require-hashes -r requirements-dev.lock
	$(BIN)/pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	@touch $@

$(STAMPS)/console-packages: console/package-lock.json | $(STAMPS)/system
	@mkdir -p $(STAMPS)
	cd console && npm ci --no-audit --no-fund --silent
	@touch $@

$(CONSOLE_FILES): $(STAMPS)/console-packages $(CONSOLE_SOURCES)
	cd console && npm run --silent build
	@touch $@
