"""What an engine can do, as one flat record: one question a field."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

SeekForm = Literal["row-value", "split", "expanded-or"]
IndexTail = Literal["row-id", "primary-key", "none"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Capabilities:
    """What page statements may rely on for one engine.

    `form`: how a seek predicate is written so that an index serves it (see `core.seek`).
    `nulls_low`: NULL sorts below every value. `nulls_syntax`: NULLS FIRST and LAST are understood.
    `nulls_served`: any index serves either placement of NULLs. `row_id_joins`: a row id at the end
    of an order takes part in a row-value seek. `index_tail`: what every secondary index ends in,
    unseen. `equality_traps`: an equality that fixes an index prefix makes the server read the whole
    prefix, so it is written as a range and guarded. `served`: pages are read there, not only
    compiled. `bound_prunes`: of a partitioned table, a row value alone reads every partition, and
    a bound on its first term beside it only those that matter. `ors_lose`: an OR of key ranges
    gives wrong rows. `endless_moments`: dates and moments may be infinite, which Python's are not.
    `zoned_moments`: moments of columns with a time zone come back with one.
    `moments_as_text`: dates and times are compared as the texts that they are stored as.
    `lateral`: a subquery may read columns of those beside it. `streams_unions`: a UNION ALL in FROM
    is read part by part, no further than a limit, and row values of an offset are no cheaper.
    `sorts_groups`: rows are sorted within the groups that an index gives, not all at once.
    `null_keys`: a primary key may hold NULLs, and several of them. `tells_open_transactions`: a
    statement may ask for the oldest one that is under way.
    """

    engine: str
    form: SeekForm
    nulls_low: bool
    nulls_syntax: bool
    nulls_served: bool
    row_id_joins: bool
    index_tail: IndexTail
    equality_traps: bool
    bound_prunes: bool = False
    ors_lose: bool = False
    endless_moments: bool = False
    zoned_moments: bool = False
    moments_as_text: bool = False
    lateral: bool = False
    streams_unions: bool = False
    sorts_groups: bool = True
    null_keys: bool = False
    tells_open_transactions: bool = False
    served: bool = True
