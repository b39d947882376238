"""The rival: the optimizer's own cost of the same statements (VM steps on SQLite)."""

from __future__ import annotations

import json

from vrelko.engines.reads import sent_on


def rival_cost(connection, trial, counted):
    """Return the cost that the engine itself tells for a trial's statements."""
    name = connection.dialect.name
    if name == "sqlite":
        return counted
    with sent_on(connection) as sent:
        trial.run()
    total = 0.0
    for statement, parameters in sent:
        if name == "postgresql":
            found = connection.exec_driver_sql(
                "EXPLAIN (FORMAT JSON) " + statement, parameters
            ).scalar()
            (plan,) = found if isinstance(found, list) else json.loads(str(found))
            total += float(plan["Plan"]["Total Cost"])
        else:
            connection.exec_driver_sql("EXPLAIN " + statement, parameters).all()
            row = connection.exec_driver_sql("SHOW STATUS LIKE 'Last_query_cost'").first()
            total += float(row[1])
    return total
