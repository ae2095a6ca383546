# Each target installs what it needs into .venv; nothing but python3.11+ and make has to be there.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
DEMO ?= demo
SECONDS_EACH ?= 30
COVERAGE ?=

LOOPS := src/jovik/engine/loops-$(shell uname -m).so
LOOP_SOURCES := $(wildcard src/jovik/engine/kernel/*.py) src/jovik/base/histogram.py src/jovik/base/trace.py

CATALOGUES := $(patsubst %.po,%.json,$(wildcard src/jovik/report/languages/*.po))
BUILT := $(LOOPS) $(CATALOGUES)

.PHONY: demo test quick docs release truth count lint screenshots manual recordings bench fuzz clean

$(BIN)/jovik: pyproject.toml hatch_build.py
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || { echo "Jovik needs Python 3.11 or later; name one: make PYTHON=python3.12 ..."; exit 1; }
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	@touch $@ $(wildcard $(BUILT))

$(LOOPS): $(LOOP_SOURCES) | $(BIN)/jovik
	$(BIN)/python -m jovik.engine.kernel.library

%.json: %.po tools/catalogues.py | $(BIN)/jovik
	$(BIN)/python tools/catalogues.py

demo: $(BIN)/jovik $(BUILT)   ## the main job on model drives, shelf and picture included
	@rm -rf $(DEMO)
	$(BIN)/jovik demo --out $(DEMO)

test: $(BIN)/jovik $(BUILT)   ## all tests; COVERAGE=--cov counts the lines that they run
	$(BIN)/python -m pytest -n 3 --dist loadfile --no-loadscope-reorder $(COVERAGE)

quick: $(BIN)/jovik $(BUILT)   ## a tenth of the tests, for daily work
	$(BIN)/python -m pytest -n 2 --dist worksteal -m quick

truth: $(BIN)/jovik   ## what Jovik says, held against made series and shelves of known truth: up to half an hour
	$(BIN)/python -m tests.truth

lint: $(BIN)/jovik
	$(BIN)/ruff format --check src tests tools benchmarks examples fuzz hatch_build.py
	$(BIN)/ruff check src tests tools benchmarks examples fuzz hatch_build.py
	$(BIN)/mypy
	$(BIN)/lint-imports

count: $(BIN)/jovik   ## lines of code, imports and long functions
	$(BIN)/python tools/count.py

screenshots: $(BIN)/jovik   ## docs/screenshots from the demo's data; needs xvfb and xterm
	$(BIN)/python tools/screenshots.py

recordings: $(BIN)/jovik   ## the recordings that ship, by simulation
	$(BIN)/python tools/recordings.py

manual: $(BIN)/jovik   ## docs/man from the commands' own help, and docs/statements.md
	$(BIN)/python tools/manual.py
	$(BIN)/python tools/statements.py

fuzz: $(BIN)/jovik   ## every parser of foreign text and bytes, guided by coverage; SECONDS_EACH of time
	$(BIN)/python -m pip install --quiet --disable-pip-version-check 'jovik[fuzz]'
	$(BIN)/python -m fuzz.run --seconds $(SECONDS_EACH)

bench: $(BIN)/jovik   ## the figures of the engine, as ratios in one run; needs a C compiler and liburing-dev
	$(BIN)/python benchmarks/engine.py
	$(BIN)/python benchmarks/live.py

docs: $(BIN)/jovik   ## the documentation as a site with search, in build/docs; a dead link is an error
	$(BIN)/python -m pip install --quiet --disable-pip-version-check 'jovik[docs]'
	$(BIN)/sphinx-build -W --keep-going -q -b html docs build/docs

release: $(BIN)/jovik   ## sdist, wheel and bill of materials in dist/, built twice and compared
	$(BIN)/python -m pip install --quiet --disable-pip-version-check 'jovik[release]'
	$(BIN)/python tools/release.py

clean:
	rm -rf $(VENV) $(DEMO) build dist
