# Two commands matter: `make demo` and `make test`. Both bring all they need.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
.DELETE_ON_ERROR:
PYTHON ?= python3
JOBS ?= $(shell echo $$(( ($$(nproc) * 3 + 1) / 2 ))) # many tests wait for processes they started
BIN := .venv/bin
PIP := $(BIN)/pip install --quiet --quiet --disable-pip-version-check
CONSOLE := src/fennox/service/console
CONSOLE_SOURCES := $(shell find console -path console/node_modules -prune -o -type f -print 2>/dev/null)

# Compiled modules are kept: tests and demo start dozens of programs that import the same ones.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo demo-reset test appliances check check-types check-style check-console tests lock setup format console generated soak release

setup: .venv/ready

.venv/ready: requirements.lock requirements-build.lock pyproject.toml demo/pyproject.toml
	@scripts/system-packages demo
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	@$(PIP) --require-hashes -r requirements.lock -r requirements-build.lock
	@$(PIP) --no-deps --no-build-isolation -e . -e demo
	@touch $@

# What only the checks and the tests need, so that nobody who looks at the demo waits for it.
.venv/checks-ready: .venv/ready requirements-dev.lock
	@$(PIP) --require-hashes -r requirements-dev.lock
	@touch $@

.venv/tests-ready: .venv/checks-ready scripts/system-packages scripts/guest-kernel
	@scripts/system-packages tests
	@scripts/guest-kernel .venv/guest-kernel
	@touch $@

console: $(CONSOLE)/index.html

console/node_modules/ready: console/package-lock.json
	@cd console && npm ci --no-audit --no-fund --silent
	@touch $@

$(CONSOLE)/index.html: console/node_modules/ready $(CONSOLE_SOURCES)
	@cd console && npm run --silent build

demo: setup console
	@exec $(BIN)/python -m saltmere.demo .state/demo

demo-reset: setup console
	@rm -rf .state/demo
	@exec $(BIN)/python -m saltmere.demo .state/demo

# Types take one processor half a minute; nothing waits for them.
check: .venv/checks-ready
	@$(MAKE) --no-print-directory --output-sync=target --jobs=2 check-types check-style

check-types:
	$(BIN)/mypy

check-style:
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/deptry src/fennox

check-console: console
	@cd console && npm run --silent test

test: .venv/tests-ready console
	@$(MAKE) --no-print-directory --jobs=2 check-types check-style check-console tests

tests:
	$(BIN)/pytest -n $(JOBS) --dist worksteal

# The API's description, the console's types, what kind files may say; CI holds all of them against the code.
generated: setup console/node_modules/ready
	$(BIN)/python scripts/openapi.py > docs/openapi.json
	$(BIN)/python scripts/kinds_reference.py > docs/kinds-reference.md
	@cd console && npm run --silent types

# Every stand-in held to its manual, and every trap of an appliance sprung: for whoever changes a kind or a stand-in.
appliances: setup .venv/tests-ready
	$(BIN)/pytest -n $(JOBS) --dist worksteal -m appliance

# The long proofs: kills by the hundred, and the whole stories again and again.
soak: export PYTEST_ADDOPTS = --timeout 0 -m ''
soak: setup console .venv/tests-ready
	$(BIN)/pytest tests/engine/stores/test_kills.py --kills 400
	$(BIN)/pytest tests/service/restores/test_killed.py --kills 60
	$(BIN)/pytest tests/service/restores/test_any_order.py --examples 6000
	$(BIN)/pytest tests/engine/restoring/test_any_restore.py --examples 2000
	$(BIN)/pytest -n $(JOBS) tests/service/upkeep/test_dying.py tests/service/stores/test_adopt.py tests/engine/restoring/test_taken_up.py tests/engine/stores/test_fault_points.py \
	  tests/engine/stores/test_generations.py tests/service/own_state/test_rebuild_dies.py tests/service/upkeep/test_faked_clocks.py --points 1
	$(BIN)/pytest -n $(JOBS) -m "long or appliance"
	$(BIN)/pytest tests/service/retention/test_year.py --systems 500
	$(BIN)/pytest tests/service/upkeep/test_year_of_wrong_clocks.py --systems 100
	$(BIN)/pytest tests/service/retention/test_any_routine.py --examples 10000
	$(BIN)/pytest tests/service/runs/test_disturbed.py --disturbed 1800
	$(BIN)/pytest tests/service/http/test_bounds.py tests/service/http/test_crowds.py tests/service/http/test_hostile_expressions.py --crowds
	$(BIN)/pytest tests/service/http/test_any_request.py --requests 12 --requests-for 3600 --crowds
	scripts/chaos 3600
	$(BIN)/pytest -n $(JOBS) tests/core/test_fuzzing.py --examples 200000
	for round in $$(seq 5); do $(BIN)/pytest -m "not long" -n $(JOBS) tests/engine tests/service || exit 1; done

format: .venv/checks-ready
	$(BIN)/ruff check --fix .
	$(BIN)/ruff format .

# Resolve the dependencies of pyproject.toml anew: of Fennox itself, of its build, and with all that checks and tests need.
# No lock names a registry.
COMPILE := .state/lock/bin/pip-compile --quiet --generate-hashes --allow-unsafe --strip-extras \
  --no-emit-index-url --no-emit-trusted-host --no-emit-find-links --no-header --no-annotate
lock: # `make lock UPGRADE=--upgrade` also takes newer versions of what is locked
	$(PYTHON) -m venv .state/lock
	.state/lock/bin/pip install --quiet pip-tools
	$(COMPILE) $(UPGRADE) -o requirements.lock pyproject.toml
	$(COMPILE) $(UPGRADE) --only-build-deps --build-deps-for editable -o requirements-build.lock pyproject.toml
	$(COMPILE) $(UPGRADE) -c requirements.lock -c requirements-build.lock --extra dev -o requirements-dev.lock pyproject.toml
	$(COMPILE) $(UPGRADE) -o requirements-release.lock packaging/release.in # what only describes a release

# The wheel, built twice from what is committed and held against itself, and what is in it (CycloneDX), in dist/.
release: export SOURCE_DATE_EPOCH = $(shell git log -1 --format=%ct)
release: setup console
	@test -x .state/release/bin/python || $(PYTHON) -m venv .state/release
	@.state/release/bin/pip install --quiet --require-hashes -r requirements-release.lock -r requirements-build.lock
	@rm -rf dist && mkdir -p dist/again
	@.state/release/bin/pip wheel --quiet --no-deps --no-build-isolation --wheel-dir dist .
	@.state/release/bin/pip wheel --quiet --no-deps --no-build-isolation --wheel-dir dist/again .
	@cmp dist/*.whl dist/again/*.whl && rm -r dist/again
	@.state/release/bin/cyclonedx-py requirements requirements.lock --pyproject pyproject.toml --output-reproducible \
	  --spec-version 1.6 --of JSON -o dist/fennox.cdx.json
	@cd console && npm sbom --sbom-format cyclonedx --omit dev --package-lock-only --loglevel error > ../dist/console.cdx.json
	@cp requirements.lock dist/ && cd dist && sha256sum -- * > SHA256SUMS && cat SHA256SUMS
