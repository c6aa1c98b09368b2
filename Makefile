# Everything a newcomer needs builds its own .venv.
PYTHON ?= python3
BIN := .venv/bin

.PHONY: demo test test-all exhaustive check bench docs pictures clean

.venv/ready: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Iron Clock needs Python 3.11 or later; say which: make PYTHON=python3.12")'
	$(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --upgrade pip
	$(BIN)/python -m pip install --quiet --editable '.[dev]'
	touch $@

demo: .venv/ready  ## one evening at the ferry line
	$(BIN)/ironclock demo

test: .venv/ready  ## the test suite, on every core
	$(BIN)/python -m pytest -n auto --dist worksteal

test-all: test exhaustive  ## and the exhaustive tests, in full

exhaustive: .venv/ready  ## the exhaustive tests alone; WITHOUT=slow leaves out the slowest
	$(BIN)/python -m pytest -n auto --dist loadgroup --exhaustive $(if $(WITHOUT),-m "not $(WITHOUT)")

check: .venv/ready  ## style and types
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy src

bench: .venv/ready  ## every stated speed, as ratios measured in the same run
	$(BIN)/python benchmarks/run.py $(ONLY)

docs: .venv/ready  ## the site, into site/
	$(BIN)/python docs/reference.py
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --strict --quiet
	@echo "The site is in site/. With its search: $(BIN)/python -m http.server --directory site"

pictures: .venv/ready  ## docs/screenshots, in a real terminal window (needs xvfb, xterm, imagemagick)
	bash docs/pictures.sh

clean:
	rm -rf .venv dist build site
