"""What changed since an earlier plan: rows, paths, costs, verdicts, findings."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from vrelko.cli.tables import console
from vrelko.core.number_format import render_count, render_ms
from vrelko.errors import FactsError


def read_plans(path: str) -> list[dict[str, Any]]:
    """Return the plans that `vrelko plan --json` once wrote. Raises FactsError."""
    try:
        found = json.loads(Path(path).read_text(encoding="utf-8"))
        # Of any version: a plan saved by an earlier release is what is most worth comparing with.
        if not all(str(one["schema"]).startswith("vrelko.plan/") for one in found):
            raise ValueError("it holds no plans")
    except (OSError, ValueError, TypeError, KeyError) as error:
        raise FactsError(
            f"the earlier plan {path!r} cannot be read: {error}",
            "Write one with `vrelko plan PAGES --json > old.json`",
            "plan-unreadable",
        ) from error
    return list(found)


def find_changes(
    before: Sequence[Mapping[str, Any]], now: Sequence[Mapping[str, Any]]
) -> list[dict[str, Any]]:
    """Return for each listing what changed, as sentences; none for one that stayed as it was."""
    old = {one["listing"]: one for one in before}
    found = [
        {"listing": one["listing"], "changes": list(_changes(old.get(one["listing"]), one))}
        for one in now
    ]
    gone = sorted(set(old) - {one["listing"] for one in now})
    return found + [
        {"listing": name, "changes": ["it was planned, and is not now"]} for name in gone
    ]


def show_changes(changes: Sequence[Mapping[str, Any]]) -> None:
    """Print changes listing by listing."""
    out = console()
    for one in changes:
        out.print(f"[bold]{one['listing']}[/]")
        for line in one["changes"] or ["as before"]:
            out.print(f"  {line}")


def _changes(old: Mapping[str, Any] | None, new: Mapping[str, Any]) -> Iterator[str]:
    if old is None:
        yield "it is new"
        return
    # Statistics waver by a little each time.
    if abs(new["rows"] - old["rows"]) > 0.01 * max(old["rows"], 1):
        yield f"rows: {render_count(old['rows'])} → {render_count(new['rows'])}"
    if old["path"] != new["path"]:
        yield f"path: {old['path']} → {new['path']}"
    was, is_ = old["verdict"]["strategy"], new["verdict"]["strategy"]
    if was != is_:
        yield f"verdict: {was} → {is_}"
    if old.get("switch") != new.get("switch") and new.get("switch") is not None:
        yield f"by offset the server now takes another path from row {new['switch']:,.0f} on"
    earlier = {one["strategy"]: one for one in old["candidates"]}
    for candidate in new["candidates"]:
        once = earlier.get(candidate["strategy"])
        if once is None:
            continue
        deep, deep_once = candidate["ladder"][-1]["time"], once["ladder"][-1]["time"]
        for name, one, other in (
            ("a page", once["burden"]["mean"]["ms"], candidate["burden"]["mean"]["ms"]),
            ("the last page", deep_once["ms"], deep["ms"]),
        ):
            # Times of the same plan on the same machine differ by less than that.
            if max(one, other) > 1.25 * min(one, other):
                yield (
                    f"{candidate['strategy']}, {name}: {render_ms(one)} → {render_ms(other)} ms "
                    f"({other / max(one, 1e-9):.2f}×)"
                )
    codes = {(f["code"], f["about"]) for f in old["findings"]}
    for finding in new["findings"]:
        if (finding["code"], finding["about"]) not in codes:
            yield f"new finding {finding['code']}, {finding['about']}: {finding['evidence']}"
