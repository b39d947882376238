"""What several commands do: study a listing, write a report, show progress."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn
from sqlalchemy import Engine

from vrelko.cli.files import write_own
from vrelko.cli.needs import needs_extra
from vrelko.engines.registry import database_file
from vrelko.errors import PagesFileError, VrelkoError
from vrelko.measuring.budget import BUDGET_MS
from vrelko.measuring.drift import clean_by_rate, drift
from vrelko.measuring.measure import measure
from vrelko.measuring.replay import Walks, replay
from vrelko.planning.plan import Plan
from vrelko.reporting.study import RATE_FACTORS, Study


def study(
    engine: Engine,
    plan: Plan,
    walks: int,
    seed: int,
    progress: Callable[[int], None] | None = None,
    copy: Engine | None = None,
    budget_ms: float = BUDGET_MS,
) -> Study:
    """Measure a plan and replay its walks, on a copy of the rows in the database of `copy`.

    Without one an SQLite file is copied by itself, and nothing is replayed on a server. A replay
    that fails loses nothing else: the study notes why.
    """
    # Without rows first: it cannot fail for what the database does.
    found = drift(plan, seed=seed)
    measured = measure(engine, plan, budget_ms=budget_ms)
    notes = []
    if copy is None and database_file(engine.url) is None:
        notes.append(
            "No walk was replayed: only an SQLite file is copied by itself. Name a database to "
            "copy the rows to with --copy URL."
        )
    # What was measured before is kept, whatever happens to the replay.
    elif walks:
        try:
            replayed = replay(engine, plan, Walks(walks, seed), progress, copy)
            found = replace(found, replayed=replayed)
        except VrelkoError as error:
            notes.append(f"The replay failed: {error}")
    clean = clean_by_rate(plan, RATE_FACTORS)
    shares = {str(strategy): share for strategy, share in clean.items()}
    return Study(plan, measured, found, shares, tuple(notes))


def check_report(path: Path) -> None:
    """Raise PagesFileError where a report could not be written, before the work for it is done."""
    with needs_extra("report", "a report or figure"):
        # (Only looked for: to import them takes seconds, and the work comes first.)
        for name in ("matplotlib", "jinja2", "pandas"):
            if find_spec(name) is None:
                raise ModuleNotFoundError(name=name)
    # Missing folders are made, so the nearest one that is there decides.
    folder = next((one for one in path.absolute().parents if one.exists()), None)
    if path.is_dir() or folder is None or not os.access(folder, os.W_OK):
        raise PagesFileError(
            f"the report cannot be written to {str(path)!r}",
            "Choose a file in a folder you may write to with -o",
            "not-writable",
        )


def write_report(studies: Sequence[Study], path: Path) -> Path:
    """Write studies as one HTML file and return its full path. Raises PagesFileError."""
    with needs_extra("report", "a report or figure"):
        from vrelko.reporting.html import render_report
    text = render_report(studies)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write_own(path, text)
    except OSError as error:
        raise PagesFileError(
            f"the report cannot be written to {str(path)!r}: {error.strerror}",
            "Choose another place with -o",
            "not-writable",
        ) from error
    return path.resolve()


@contextmanager
def progress_bar(text: str, total: int) -> Iterator[Callable[[int], None]]:
    """Show a progress bar on stderr; the function it lends moves it on."""
    columns: list[Any] = [
        TextColumn("{task.description}"),
        BarColumn(),
        MofNCompleteColumn(),
        TimeElapsedColumn(),
    ]
    with Progress(*columns, console=Console(stderr=True)) as bar:
        task = bar.add_task(text, total=total)
        yield lambda done: bar.advance(task, done)
