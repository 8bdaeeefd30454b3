# Needs Python 3.11 or newer with pip, and make. Each target builds what it needs.
PYTHON ?= python3

.PHONY: demo test quick coverage lowest format fuzz bench screenshots schema units pages site clean

# The demo runs from an ordinary install, as a user would have it.
build/demo/ready: pyproject.toml $(shell find src -type f -not -name '*.pyc')
	@echo "Installing Leitwerk into build/demo: once, for about a minute. pip needs its package index for that."
	rm -rf build/demo
	$(PYTHON) -m venv build/demo
	build/demo/bin/pip install --quiet --disable-pip-version-check .
	touch $@

build/dev/ready: pyproject.toml
	@echo "Installing the tools of development into build/dev: once. pip needs its package index for that."
	rm -rf build/dev
	$(PYTHON) -m venv build/dev
	build/dev/bin/pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@

demo: build/demo/ready
	build/demo/bin/leitwerk demo

test: build/dev/ready
	build/dev/bin/ruff check .
	build/dev/bin/ruff format --check .
	build/dev/bin/mypy
	build/dev/bin/pytest -n 3

# The tests that start no process: quick enough for every change.
quick: build/dev/ready
	build/dev/bin/pytest -n 2 -m "not process"

# Processes that tests start are not measured; what only they run counts as not covered.
coverage: build/dev/ready
	build/dev/bin/pytest -n 2 --cov=leitwerk --cov-branch --cov-report=term:skip-covered --cov-report=html:build/coverage

# The tests once more, with the lowest versions of all packages that pyproject.toml allows.
lowest:
	rm -rf build/lowest
	$(PYTHON) -m venv build/lowest
	$(PYTHON) tools/lowest.py > build/lowest/constraints.txt
	build/lowest/bin/pip install --quiet --disable-pip-version-check --constraint build/lowest/constraints.txt --editable '.[dev]'
	build/lowest/bin/pytest -n 2

format: build/dev/ready
	build/dev/bin/ruff check --fix .
	build/dev/bin/ruff format .

# Every reader with real examples that were changed by chance, then the properties of the tests with a
# hundred times as many examples. It ends by the number of inputs for each reader, or by the time.
INPUTS ?= 20000
SECONDS_AT_MOST ?= 600
EXAMPLES ?= 2000

fuzz: build/dev/ready
	build/dev/bin/python tools/fuzz.py --inputs $(INPUTS) --seconds $(SECONDS_AT_MOST)
	LEITWERK_FUZZ_EXAMPLES=$(EXAMPLES) build/dev/bin/pytest -p no:cacheprovider -n auto --hypothesis-profile=fuzz -m hypothesis

bench: build/dev/ready
	build/dev/bin/python benchmarks/run.py
	build/dev/bin/python benchmarks/analyzers.py
	build/dev/bin/python benchmarks/wireless.py
	build/dev/bin/python benchmarks/tables.py

screenshots: build/dev/ready
	build/dev/bin/python tools/screenshots.py

schema: build/dev/ready
	build/dev/bin/python tools/schema.py

units: build/dev/ready
	build/dev/bin/python tools/units.py

pages: build/dev/ready
	build/dev/bin/python tools/pages.py

# The documentation as a site, in build/site: it needs no network. A dead link fails it.
site: build/dev/ready
	build/dev/bin/sphinx-build -q -W --keep-going -b html docs build/site
	@echo "open build/site/index.html"

clean:
	rm -rf build leitwerk-demo .pytest_cache .mypy_cache .ruff_cache .hypothesis
