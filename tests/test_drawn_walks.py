"""Walks over tables that nobody here designed, drawn at random: see drawn.py."""

import random
from collections import Counter

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from drawn import ready, run_table

LISTINGS, WALKS = 4, 10  # of a table, and of a listing in each of its places


@pytest.fixture(scope="module")
def places(server):
    with ready(server):
        yield server


@pytest.mark.slow
@settings(max_examples=15, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(seed=st.integers(0, 2**32))
def test_walks_over_any_table_equal_one_statement(places, seed):
    run_table(random.Random(seed), places, LISTINGS, Counter(), WALKS)
