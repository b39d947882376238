# make demo: set up and do the whole job on a sample database; make test: set up and run the tests
# but the slowest, which make test-all runs too.
VENV   ?= .venv
PYTHON ?= python3
RUN    := $(VENV)/bin
TESTS  := pytest -n auto

# Counting the lines that tests cover costs next to nothing on Python 3.12 and newer.
CORE := $(shell $(PYTHON) -c 'import sys; print("sysmon" if sys.version_info >= (3, 12) else "ctrace")')

# Ten seconds by uv; more than a minute by pip, which serves where uv cannot be had.
pip = $(1)/bin/python -m pip install --quiet --disable-pip-version-check
uv  = $(pip) uv && $(1)/bin/uv pip install --quiet --python $(1)/bin/python
DEVELOP := -e ".[all]" --group test
MODELS  := --group published

.PHONY: demo test test-all test-slow test-compat test-oldest test-deep check lint docs bench clean

demo: $(VENV)/demo.ready
	$(RUN)/vrelko demo

test: $(VENV)/test.ready
	$(RUN)/$(TESTS) -m "not slow"

# Everything, with coverage and the time that the slowest took.
test-all: $(VENV)/test.ready
	COVERAGE_CORE=$(CORE) $(RUN)/$(TESTS) --cov --cov-fail-under=93 --durations=40

test-slow: $(VENV)/test.ready
	$(RUN)/$(TESTS) -m slow

# What may differ by the version of Python or of a library: key values, walks, types, the package,
# pages over HTTP. Old libraries warn of what newer Pythons will not have.
OLD := $(TESTS) -W ignore::DeprecationWarning -W ignore::ResourceWarning \
	-W ignore::pytest.PytestUnraisableExceptionWarning

test-compat: $(VENV)-oldest/test.ready
	$(VENV)-oldest/bin/$(OLD) -m "compat and not slow"

# All but the slowest there.
test-oldest: $(VENV)-oldest/test.ready
	$(VENV)-oldest/bin/$(OLD) -m "not slow"

test-deep: $(VENV)/test.ready
	VRELKO_EXAMPLES=deep $(RUN)/$(TESTS)

check: lint test-all

lint: $(VENV)/test.ready
	$(RUN)/ruff check
	$(RUN)/ruff format --check
	$(RUN)/mypy
	$(RUN)/lint-imports

# Every page and table that is written from the code or from the servers at hand.
docs: $(VENV)/test.ready
	$(RUN)/python tests/generate.py

bench: $(VENV)/test.ready
	$(RUN)/python bench/page_cost.py

clean:
	rm -rf $(VENV) $(VENV)-oldest

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/demo.ready: pyproject.toml | $(VENV)/bin/python
	$(call pip,$(VENV)) -e ".[demo]"
	touch $@

$(VENV)/test.ready: pyproject.toml | $(VENV)/bin/python
	$(call uv,$(VENV)) $(DEVELOP) $(MODELS) || { $(call pip,$(VENV)) --upgrade "pip>=25.1" && $(call pip,$(VENV)) $(DEVELOP) $(MODELS); }
	touch $@

# The oldest version of every dependency that pyproject.toml allows, on the Python that is given:
# the oldest one that it allows, in CI.
$(VENV)-oldest/test.ready: pyproject.toml
	$(PYTHON) -m venv $(VENV)-oldest
	$(call uv,$(VENV)-oldest) --resolution lowest-direct $(DEVELOP)
	touch $@
