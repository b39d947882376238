"""Findings: coded warnings with evidence and a fix."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

FindingKind = Literal["unsound", "slow", "fragile"]


@dataclass(frozen=True, slots=True)
class Finding:
    """One warning. unsound: rows can repeat or vanish; slow: it costs; fragile: it may become so.

    `about` names what it speaks of (a listing's order, an index); `evidence` what was seen; `fix`
    what to do.
    """

    code: str
    kind: FindingKind
    about: str
    evidence: str
    fix: str


CODES: dict[str, FindingKind] = {
    "no-order": "unsound",
    "unique-false": "unsound",
    "order-ties": "unsound",
    "no-fitting-index": "slow",
    "size-unbounded": "slow",
    "count-each-request": "slow",
    "deep-offset": "slow",
    "slow-jumps": "slow",
    "anchors-outrun": "fragile",
    "anchors-missing": "slow",
    "whole-table": "slow",
    "mixed-directions": "slow",
    "nulls-in-order": "slow",
    "filter-outside-index": "slow",
    "low-selectivity": "slow",
    "set-too-large": "slow",
    "path-switch": "fragile",
    "generic-plan": "fragile",
    "moving-key": "unsound",
    "draining-filter": "unsound",
    "lagging-replica": "fragile",
    "computed-order": "slow",
    "periods-unindexed": "slow",
    "text-order": "fragile",
    "float-key": "fragile",
    "row-security": "slow",
    "statistics-stale": "fragile",
    "dead-rows": "slow",
    "not-vacuumed": "slow",
    "select-opaque": "slow",
    "condition-unread": "fragile",
    "plan-misread": "fragile",
}
"""Every finding's code; docs/findings.md has a section for each."""


def make_finding(code: str, about: str, evidence: str, fix: str) -> Finding:
    """Return a finding of a known code."""
    return Finding(code, CODES[code], about, evidence, fix)
