"""How each engine's work is computed: one record an engine."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from vrelko.core.cost import mariadb, postgresql, sqlite
from vrelko.core.cost.inputs import CostInputs
from vrelko.core.cost.work import Ask, Work


@dataclass(frozen=True, slots=True, kw_only=True)
class EngineWork:
    """The functions of one engine; none has a default.

    `work_of` what a statement's part asks over its access path; `counted` what the engine's counter
    is expected to show for a work; `blocks_per_key` the blocks of a row that is sought by its key.
    """

    work_of: Callable[[CostInputs, Ask], Work]
    counted: Callable[[Work], float]
    blocks_per_key: Callable[[CostInputs], float]


def _levels(inputs: CostInputs) -> float:
    return inputs.table.levels


ENGINE_WORK: dict[str, EngineWork] = {
    "sqlite": EngineWork(
        work_of=sqlite.work_of, counted=lambda work: work.steps, blocks_per_key=_levels
    ),
    "postgresql": EngineWork(
        work_of=postgresql.work_of,
        counted=lambda work: work.blocks,
        blocks_per_key=postgresql.blocks_per_key,
    ),
    "mariadb": EngineWork(
        work_of=mariadb.work_of, counted=mariadb.handler_rows, blocks_per_key=_levels
    ),
}
