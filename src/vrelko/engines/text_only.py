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
