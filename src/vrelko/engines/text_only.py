"""Engines that statements are written for but that are not read from here: text to take away."""

from __future__ import annotations

from dataclasses import replace

from vrelko.core.capabilities import Capabilities

MSSQL = Capabilities(
    engine="mssql",
    form="expanded-or",
    nulls_low=True,
    nulls_syntax=False,
    nulls_served=False,
    row_id_joins=True,
    index_tail="none",
    equality_traps=False,
    served=False,
)

ORACLE = replace(MSSQL, engine="oracle", nulls_low=False, nulls_syntax=True)

MYSQL = replace(MSSQL, engine="mysql", index_tail="primary-key")
"""MySQL 8: row values bound no index range there, so keys are compared term by term; its secondary
indexes end in the primary key. What its plans look like, how its pages are counted and limited,
and whether an equality traps it as it does MariaDB was never verified."""

MYSQL_VERSION = (8, 0, 0)

CAPABILITIES = {one.engine: one for one in (MYSQL, MSSQL, ORACLE)}
