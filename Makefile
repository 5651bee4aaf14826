PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test lint bench screenshots docs clean

$(BIN)/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/.demo-ready: pyproject.toml | $(BIN)/python
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile --editable .
	@echo "kernels are compiled, once, while the rest is installed"
	$(BIN)/python -c "from tinclock.cli.compiling import warm_up_beside; warm_up_beside()" & \
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile --editable '.[figures,review,logs,meshes,testing]'; \
	installed=$$?; wait; exit $$installed
	touch $@

$(VENV)/.test-ready: pyproject.toml | $(BIN)/python
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable .
	@echo "kernels are compiled, once, while the rest is installed"
	$(BIN)/python -c "from tinclock.cli.compiling import warm_up_beside; warm_up_beside()" & \
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[figures,test]'; \
	installed=$$?; wait; exit $$installed
	touch $@

$(VENV)/.lint-ready: pyproject.toml | $(BIN)/python
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[figures,frames,recordings,serve,review,meshes,lint]'
	touch $@

$(VENV)/.bench-ready: pyproject.toml | $(BIN)/python
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[bench,figures,cases,postgresql]'
	touch $@

demo: $(VENV)/.demo-ready
	$(BIN)/tinclock demo

test: $(VENV)/.test-ready
	$(BIN)/python -c "from tinclock.cli.compiling import warm_up_beside; warm_up_beside()" # once, not in each test process
	$(BIN)/python -m pytest

lint: $(VENV)/.lint-ready
	$(BIN)/ruff check src tests examples benchmarks tools
	$(BIN)/ruff format --check src tests examples benchmarks tools
	$(BIN)/mypy --strict src tests/typed_calls.py
	$(BIN)/lint-imports

bench: $(VENV)/.bench-ready
	$(BIN)/python benchmarks/rewound_ray.py
	$(BIN)/python benchmarks/timeline_costs.py
	$(BIN)/python benchmarks/starting.py
	$(BIN)/python benchmarks/busy_match.py
	$(BIN)/python benchmarks/ranges.py
	$(BIN)/python benchmarks/flights.py
	$(BIN)/python benchmarks/recordings.py
	$(BIN)/python benchmarks/kills.py

docs:
	$(PYTHON) -m venv $(VENV)-docs
	$(VENV)-docs/bin/python -m pip install --quiet --disable-pip-version-check 'mkdocs-material>=9.5'
	NO_MKDOCS_2_WARNING=1 $(VENV)-docs/bin/mkdocs build --strict --quiet
	@echo "the pages are in site/index.html"

screenshots: $(VENV)/.demo-ready
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf $(VENV) $(VENV)-docs site demo-output flights-output
