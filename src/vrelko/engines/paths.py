"""What a server says it does for a statement: index, order or sort, workers; by EXPLAIN alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Select

from vrelko.core.access_path import ExplainedPath
from vrelko.engines.registry import engine_of


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
        """Return the reader of a table, whose partitions are looked up."""
        # EXPLAIN names tables without their schema.
        bare = table.rpartition(".")[2].strip('"')
        names = frozenset({table, bare, alias or bare})
        engine = engine_of(lender)
        return cls(lender, names, engine.read_parts(lender, table) if partitions > 0 else {})

    def path(self, statement: Select[Any], params: Mapping[str, Any]) -> ExplainedPath | None:
        """Return the access path a server takes to the table for a statement with these values.

        The values are sent with the EXPLAIN, so the optimizer sees them as it does literals. None
        where the table is not read by itself.
        """
        engine = engine_of(self.lender)
        # With the values that pages have: a plan for unknown ones may be another.
        found = engine.explained(self.lender, statement, params)
        return self._whole(engine.path_in(found, self.names, self.parts))

    def deferred(
        self, statement: Select[Any], params: Mapping[str, Any]
    ) -> tuple[ExplainedPath | None, ExplainedPath | None]:
        """Return how a deferred join finds its keys, and how the rows behind them.

        The second is None where each is sought by its key.
        """
        engine = engine_of(self.lender)
        found = engine.explained(self.lender, statement, params)
        keys, by_key = engine.deferred_in(found, self.names, self.parts)
        return self._whole(keys), self._whole(by_key)

    def _whole(self, explained: ExplainedPath | None) -> ExplainedPath | None:
        """Return what was explained of a partition's index under the name of the whole index."""
        if explained is None or explained.index is None or explained.index not in self.parts:
            return explained
        return replace(explained, index=self.parts[explained.index])
