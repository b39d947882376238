"""Walks over tables that nobody here designed, drawn at random: see drawn.py."""

import random
from collections import Counter

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from drawn import run_table
from stored import FIRST


@pytest.mark.slow
@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(seed=st.integers(0, 2**32))
def test_walks_over_any_table_equal_one_statement(server, seed):
    engine = server.dialect.name.replace("mysql", "mariadb")
    counts = Counter()
    with server.connect() as connection:
        for one in FIRST[engine]:
            connection.exec_driver_sql(one)
        connection.commit()
        run_table(random.Random(seed), connection, engine, 12, counts)
    walked = sum(n for name, n in counts.items() if not name.startswith(("refused", "unreadable")))
    assert walked + counts["refused"] + counts["unreadable"] == 12
