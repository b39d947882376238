# make demo: set up and do the whole job on a sample database; make test: set up and run all tests.
VENV   ?= .venv
PYTHON ?= python3
NEWEST ?= python3.13
RUN    := $(VENV)/bin

.PHONY: demo test test-oldest test-newest test-deep check lint bench clean

demo: $(VENV)/demo.ready
	$(RUN)/vrelko demo

test: $(VENV)/test.ready
	$(RUN)/pytest -n auto

test-oldest: $(VENV)-oldest/test.ready
	$(VENV)-oldest/bin/pytest -n auto

test-newest: $(VENV)-newest/test.ready
	$(VENV)-newest/bin/pytest -n auto

test-deep: $(VENV)/test.ready
	VRELKO_EXAMPLES=deep $(RUN)/pytest -n auto

check: lint test

lint: $(VENV)/test.ready
	$(RUN)/ruff check
	$(RUN)/ruff format --check
	$(RUN)/mypy
	$(RUN)/lint-imports

bench: $(VENV)/test.ready
	$(RUN)/python bench/page_cost.py

clean:
	rm -rf $(VENV) $(VENV)-oldest $(VENV)-newest

# The oldest supported series of SQLAlchemy.
$(VENV)-oldest/test.ready: pyproject.toml
	$(PYTHON) -m venv $(VENV)-oldest
	$(VENV)-oldest/bin/python -m pip install --quiet --disable-pip-version-check -e ".[demo,test]" "sqlalchemy<2.1"
	touch $@

# The newest Python at hand.
$(VENV)-newest/test.ready: pyproject.toml
	$(NEWEST) -m venv $(VENV)-newest
	$(VENV)-newest/bin/python -m pip install --quiet --disable-pip-version-check -e ".[demo,test]"
	touch $@

$(VENV)/bin/python:
	$(PYTHON) -m venv $(VENV)

$(VENV)/demo.ready: pyproject.toml | $(VENV)/bin/python
	$(RUN)/python -m pip install --quiet --disable-pip-version-check -e ".[demo]"
	touch $@

$(VENV)/test.ready: pyproject.toml | $(VENV)/bin/python
	$(RUN)/python -m pip install --quiet --disable-pip-version-check -e ".[demo,test]"
	touch $@
