"""Exports: a listing's rows as a stream, resumable, no faster than allowed."""

from __future__ import annotations

import asyncio
import csv
import io
import time
from collections.abc import AsyncIterator, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from vrelko.errors import PageError, VrelkoError
from vrelko.web.bodies import rows_of, to_json, to_utf8
from vrelko.web.problems import problem_of

if TYPE_CHECKING:
    from vrelko.serving.pages.page import Page
    from vrelko.web.http_options import HttpOptions

FORMATS = {"ndjson": "application/x-ndjson", "csv": "text/csv; charset=utf-8"}
# rows: small enough to hold many at once, large enough that the way to the server hardly counts
BATCH = 1_000

_DONE = object()


def check_format(text: str | None) -> str:
    """Return the format asked for. Raises PageError."""
    if not text:
        return "ndjson"
    if text not in FORMATS:
        raise PageError(
            f"an export cannot be written as {text[:40]!r}",
            f"Ask for {' or '.join(FORMATS)}",
            "web-format",
        )
    return str(text)


async def stream_rows(
    pages: Iterator[Page],
    kind: str,
    http: HttpOptions,
    in_thread: Any,
    names: Sequence[str],
    state: Any,
) -> AsyncIterator[bytes]:
    """Yield an export's text, a batch at a time.

    NDJSON: a row a line; after each batch a line {"resume": cursor}, at the end {"end": true}, and
    where the database fails {"problem": …}, so that a broken export is never taken for a whole
    one. `in_thread` runs a blocking call in a thread; `names` are those of the columns, for the
    first line of CSV; `state` is told how many rows and statements it took.
    """
    began, sent, rows_s = time.monotonic(), 0, http.export_rows_s
    head = kind == "csv"
    while True:
        try:
            page = await in_thread(next, pages, _DONE)
        # The answer began with 200 long ago; what failed can be told in its text alone.
        except VrelkoError as error:
            # CSV has no place for a message: the connection breaks, which a client does notice.
            if kind == "csv":
                raise
            yield (to_json({"problem": problem_of(error)}) + "\n").encode()
            return
        if page is _DONE:
            break
        rows = rows_of(page)
        if kind == "csv":
            # As the rows have them, which may be entities with names of their own.
            names = list(rows[0]) if head and rows else names
            text = _csv(([names] if head else []), rows, http.defuse)
            head = False
        else:
            text = "".join(to_json(row) + "\n" for row in rows)
            # At the end there is nothing to resume, and the last line says so.
            if page.next is not None:
                text += to_json({"resume": page.next}) + "\n"
        sent += len(rows)
        state.vrelko_rows = sent
        state.vrelko_statements = getattr(state, "vrelko_statements", 0) + len(page.statements)
        yield to_utf8(text)
        # Behind the batch: the first one is sent at once.
        if rows_s:
            await asyncio.sleep(max(began + sent / rows_s - time.monotonic(), 0))
    if kind == "ndjson":
        yield b'{"end":true}\n'


def _csv(head: Sequence[Sequence[str]], rows: Sequence[dict[str, Any]], defuse: bool) -> str:
    out = io.StringIO()
    # (A writer a batch: its text is sent on, and nothing is kept.)
    writer = csv.writer(out, lineterminator="\r\n")  # RFC 4180
    writer.writerows(head)
    for row in rows:
        writer.writerow([_cell(value, defuse) for value in row.values()])
    return out.getvalue()


_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def _cell(value: Any, defuse: bool) -> Any:
    if isinstance(value, str):
        # A spreadsheet would run the text as a formula of whoever opens the file.
        return f"'{value}" if defuse and value.startswith(_FORMULA) else value
    if value is None or (isinstance(value, int) and not isinstance(value, bool)):
        return value
    # Moments and decimals as in JSON, so that both formats say the same.
    return to_json(value).strip('"')
