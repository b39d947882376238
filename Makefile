# make demo: set up and do the whole job on a sample database; make test: set up and run the tests
# but the slowest, which make test-slow runs.
VENV   ?= .venv
PYTHON ?= python3
NEWEST ?= python3.13
RUN    := $(VENV)/bin
NO_BROWSER := --ignore tests/test_demo_page.py
PIP    := -m pip install --quiet --disable-pip-version-check

# The tools are a dependency group, which pip installs from 25.1 on.
define install_tools
$(1)/bin/python $(PIP) --upgrade "pip>=25.1"
$(1)/bin/python $(PIP) -e ".[all]" --group test
endef

.PHONY: demo test test-slow test-oldest test-newest test-deep check lint bench clean

demo: $(VENV)/demo.ready
	$(RUN)/vrelko demo

test: $(VENV)/test.ready
	$(RUN)/pytest -n auto -m "not slow"

test-slow: $(VENV)/test.ready
	$(RUN)/pytest -n auto -m slow

# The page in a browser does not depend on Python's versions: once is enough. Python 3.12 and newer
# count covered lines at next to no cost.
test-oldest: $(VENV)-oldest/test.ready
	$(VENV)-oldest/bin/pytest -n auto -m "not slow" $(NO_BROWSER) -W ignore::DeprecationWarning \
		-W ignore::ResourceWarning -W ignore::pytest.PytestUnraisableExceptionWarning

test-newest: $(VENV)-newest/test.ready
	COVERAGE_CORE=sysmon $(VENV)-newest/bin/pytest -n auto -m "not slow" $(NO_BROWSER) \
		--cov --cov-fail-under=93

test-deep: $(VENV)/test.ready
	VRELKO_EXAMPLES=deep $(RUN)/pytest -n auto

check: lint test test-slow

lint: $(VENV)/test.ready
	$(RUN)/ruff check
	$(RUN)/ruff format --check
	$(RUN)/mypy
	$(RUN)/lint-imports

bench: $(VENV)/test.ready
	$(RUN)/python bench/page_cost.py

clean:
	rm -rf $(VENV) $(VENV)-oldest $(VENV)-newest

# The oldest version of every dependency that pyproject.toml allows, on the oldest Python.
$(VENV)-oldest/test.ready: pyproject.toml
	$(PYTHON) -m venv $(VENV)-oldest
	$(VENV)-oldest/bin/python -m pip install --quiet --disable-pip-version-check uv
	$(VENV)-oldest/bin/uv pip install --quiet --python $(VENV)-oldest/bin/python --resolution lowest-direct -e ".[all]" --group test
	touch $@

# The newest Python at hand.
$(VENV)-newest/test.ready: pyproject.toml
	$(NEWEST) -m venv $(VENV)-newest
	$(call install_tools,$(VENV)-newest)
	touch $@

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/demo.ready: pyproject.toml | $(VENV)/bin/python
	$(RUN)/python $(PIP) -e ".[demo]"
	touch $@

$(VENV)/test.ready: pyproject.toml | $(VENV)/bin/python
	$(call install_tools,$(VENV))
	touch $@
