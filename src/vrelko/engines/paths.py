"""What a server says it does for a statement: index, order or sort, workers; by EXPLAIN alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Select

from vrelko.core.access import Seen
from vrelko.engines.explain import explain, plan_in
from vrelko.engines.mariadb import plans as mariadb_plans
from vrelko.engines.postgresql import plans as postgresql_plans
from vrelko.engines.postgresql.catalog import read_parts
from vrelko.engines.registry import dialect_of
from vrelko.engines.sqlite import plans as sqlite_plans


@dataclass(frozen=True)
class Reader:
    """Reads what a server says of statements over one table.

    `names` are those the table has in statements, an alias too; `parts` are the names of its
    partitions, and of their indexes, each with what it is a part of.
    """

    lender: Any
    names: frozenset[str]
    parts: Mapping[str, str] = field(default_factory=dict)

    @classmethod
    def of(cls, lender: Any, table: str, alias: str | None = None, partitions: int = 0) -> Reader:
        """Return the reader of a table; PostgreSQL's partitions are looked up."""
        bare = table.rpartition(".")[2].strip('"')
        names = frozenset({table, bare, alias or bare})
        divided = partitions > 0 and dialect_of(lender).name == "postgresql"
        return cls(lender, names, read_parts(lender, table) if divided else {})

    def path(self, statement: Select[Any], params: Mapping[str, Any]) -> Seen | None:
        """Return the access path a server takes to the table for a statement with these values.

        The values are sent with the EXPLAIN, so the optimizer sees them as it does literals. None
        where the table is not read by itself.
        """
        name = dialect_of(self.lender).name
        if name == "postgresql":
            plan = plan_in(self.lender.execute(explain(statement), params).scalar())
            return self._whole(postgresql_plans.read_plan(plan, self.names, self.parts))
        rows = self.lender.execute(explain(statement), params).mappings().all()
        if name == "sqlite":
            return sqlite_plans.read_lines(rows, self.names)
        return mariadb_plans.read_rows(rows, self.names)

    def deferred(
        self, statement: Select[Any], params: Mapping[str, Any]
    ) -> tuple[Seen | None, Seen | None]:
        """Return how a deferred join finds its keys, and how the rows behind them.

        The second is None where each is sought by its key.
        """
        name = dialect_of(self.lender).name
        if name != "postgresql":
            rows = self.lender.execute(explain(statement), params).mappings().all()
            if name == "sqlite":
                return sqlite_plans.read_deferred(rows, self.names)
            return mariadb_plans.read_deferred(rows, self.names)
        plan = plan_in(self.lender.execute(explain(statement), params).scalar())
        keys, by_key = postgresql_plans.read_deferred(plan, self.names, self.parts)
        return self._whole(keys), self._whole(by_key)

    def _whole(self, seen: Seen | None) -> Seen | None:
        """Return what was seen of a partition's index under the name of the whole index."""
        if seen is None or seen.index is None or seen.index not in self.parts:
            return seen
        return replace(seen, index=self.parts[seen.index])
