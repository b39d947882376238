"""What plans rely on of each engine: one record an engine, one question a field."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from vrelko.core.capabilities import IndexTail
from vrelko.core.engine_prices import MARIADB, POSTGRESQL, SQLITE, EnginePrices


@dataclass(frozen=True, slots=True, kw_only=True)
class EngineTraits:
    """How an engine stores rows, uses indexes and reads pages.

    Names: `quote_mark` stands around names. Storage: `rows_lie_by` tells in which order rows lie in
    the table, `index_tail` what every index ends in unseen. Indexes: `index_places_nulls` where
    their statement says NULLS FIRST or LAST; `nulls_served` either way by any index; `nulls_low`
    where NULLs stand below every value; `expression_indexes`, `partial_indexes` and
    `included_columns` where there are such; `most_key_bytes` of one, and no index of whole texts
    then, None for no such bound. Reading: `bitmaps` of row places; `sorts_groups` where it sorts
    rows within groups that an index gives; `sorts_behind_key` where a key narrows what a sort
    reads; `leaves_index` for a scan of the table where offsets are deep; `key_ranges` of an order
    of mixed directions are read by one statement ("together"), by several ("apart"), or by several
    only there ("mixed apart"); `turns` where another path is taken deeper in the order, for offsets
    and keys are looked at; `join_estimates` of its own of a join's rows: none, of those without
    filters on the other tables, or of all. Sent rows: `reads_text_moments` where dates are texts
    that are read again for the key, `slow_floats` where floats cost more than other values. State:
    `visibility_map` that vacuuming keeps; `generic_plans` of prepared statements; and
    `outside_collations` that an upgrade of the system may change. Figures: `unit` is what its
    counter counts, which estimates are held against (SQLite's virtual machine steps, PostgreSQL's
    shared buffers, found or read, and the rows that MariaDB's handlers hand over); `prices` are
    what was measured.
    """

    quote_mark: str
    rows_lie_by: Literal["row id", "primary key", "nothing"]
    index_tail: IndexTail
    index_places_nulls: bool
    nulls_served: bool
    nulls_low: bool
    expression_indexes: bool
    partial_indexes: bool
    included_columns: bool
    most_key_bytes: float | None
    bitmaps: bool
    sorts_groups: bool
    sorts_behind_key: bool
    leaves_index: bool
    key_ranges: Literal["together", "apart", "mixed apart"]
    turns: bool
    join_estimates: Literal["none", "unfiltered", "filtered"]
    reads_text_moments: bool
    slow_floats: bool
    visibility_map: bool
    generic_plans: bool
    outside_collations: bool
    unit: str
    prices: EnginePrices


_SQLITE = EngineTraits(
    quote_mark='"',
    rows_lie_by="row id",
    index_tail="row-id",
    index_places_nulls=False,
    nulls_served=True,
    nulls_low=True,
    expression_indexes=True,
    partial_indexes=True,
    included_columns=False,
    most_key_bytes=None,
    bitmaps=False,
    sorts_groups=True,
    sorts_behind_key=False,
    leaves_index=False,
    key_ranges="mixed apart",
    turns=False,
    join_estimates="none",
    reads_text_moments=True,
    slow_floats=True,
    visibility_map=False,
    generic_plans=False,
    outside_collations=False,
    unit="steps",
    prices=SQLITE,
)
_POSTGRESQL = EngineTraits(
    quote_mark='"',
    rows_lie_by="nothing",
    index_tail="none",
    index_places_nulls=True,
    nulls_served=False,
    nulls_low=False,
    expression_indexes=True,
    partial_indexes=True,
    included_columns=True,
    most_key_bytes=None,
    bitmaps=True,
    sorts_groups=True,
    sorts_behind_key=False,
    leaves_index=False,
    key_ranges="apart",
    turns=True,
    join_estimates="filtered",
    reads_text_moments=False,
    slow_floats=False,
    visibility_map=True,
    generic_plans=True,
    outside_collations=True,
    unit="buffers",
    prices=POSTGRESQL,
)
_MARIADB = EngineTraits(
    quote_mark="`",
    rows_lie_by="primary key",
    index_tail="primary-key",
    index_places_nulls=False,
    nulls_served=False,
    nulls_low=True,
    expression_indexes=False,
    partial_indexes=False,
    included_columns=False,
    most_key_bytes=3_072.0,  # of InnoDB
    bitmaps=False,
    sorts_groups=False,
    sorts_behind_key=True,
    leaves_index=True,
    key_ranges="together",
    turns=True,
    join_estimates="unfiltered",
    reads_text_moments=False,
    slow_floats=False,
    visibility_map=False,
    generic_plans=False,
    outside_collations=False,
    unit="handler rows",
    prices=MARIADB,
)

TRAITS: dict[str, EngineTraits] = {
    "sqlite": _SQLITE,
    "postgresql": _POSTGRESQL,
    "mariadb": _MARIADB,
}
