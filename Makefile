# make demo | test | test-slow | check | handbook | benchmark | docs | screenshots : each sets up what it needs in .venv first
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test test-slow browser-test check handbook benchmark docs samples screenshots clean

.venv/ready: pyproject.toml
	$(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

demo: .venv/ready
	$(BIN)/omphalon demo demo

test: .venv/ready
	$(BIN)/pytest -m "not slow"

# what waits for heaters, kills or clusters
test-slow: .venv/ready
	$(BIN)/pytest -m slow

# a real browser from Debian's packages, where there is none yet
.venv/browser: .venv/ready
	(command -v chromium && command -v chromedriver) >/dev/null || \
	  (apt-get update -qq && apt-get install -y -qq chromium chromium-driver >/dev/null)
	$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[browser]'
	touch $@

browser-test: .venv/browser
	$(BIN)/pytest -n 0 browser

check: .venv/ready
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/mypy --check-untyped-defs --allow-untyped-defs --allow-untyped-calls --ignore-missing-imports browser

# all benchmarks, or some by name: make benchmark NAMES="steps holds"
NAMES ?= process heater_gains heater_check heater_damage heater_families heater_ordinary heater_cycles console elsewhere temperatures holds \
  intervals steps filament advance eyes speeds tower picture card shaper places jagged changes bench capture farm off wire
benchmark: .venv/ready
	for name in $(NAMES); do echo "== $$name"; $(BIN)/python benchmarks/$$name.py || exit 1; done

docs: .venv/ready
	$(BIN)/python tools/make_docs.py
	$(BIN)/python tools/make_readme.py
	$(BIN)/python tools/run_pages.py

# the handbook as a site, in site/
handbook: .venv/ready
	$(BIN)/sphinx-build -W --keep-going -n -q -b html docs site

samples: .venv/ready
	$(BIN)/python tools/make_samples.py

screenshots: .venv/ready
	tools/screenshots

clean:
	rm -rf .venv demo site
