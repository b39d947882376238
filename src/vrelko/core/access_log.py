"""Readers from web access logs in Common or Combined Log Format: how deep, how long, how often.

A visit is one client's requests (host and user agent) to the listing's path with pauses under half
an hour. Depth is the page number that a request asks for: by a page number, by a row offset, or by
a cursor, where each further cursor of a visit is one page deeper.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from statistics import fmean
from typing import Literal
from urllib.parse import parse_qs, urlsplit

from vrelko.core.workload import Depth, Readers
from vrelko.errors import PageError

Means = Literal["page", "offset", "cursor"]
MEANS: tuple[Means, ...] = ("page", "offset", "cursor")

# Common Log Format, and what Combined adds behind it. A user's name may hold spaces, so the time is
# found by its bracket.
_LINE = re.compile(
    r'(?P<host>\S+) \S+ .*?\[(?P<time>[^\]]+)\] "(?P<method>[A-Z]+) (?P<target>\S+)[^"]*" '
    r'(?P<status>\d{3}) \S+(?: "[^"]*" "(?P<agent>[^"]*)")?'
)
# A client that comes back after half an hour has begun anew: the usual bound of web statistics.
_PAUSE_S = 1_800.0
_MOST_PAGES = 1_000
_USUAL_DWELL_S = 10.0
_LEAST_DWELL_S = 0.5  # logs tell whole seconds


@dataclass(frozen=True, slots=True)
class LogQuestion:
    """What to look for: requests whose path ends in `path`, whose `parameter` `means` a place.

    `size`: rows a page, for offsets. `first`: the number of the first page.
    """

    parameter: str = "page"
    means: Means = "page"
    path: str = ""
    size: int = 25
    first: int = 1

    def __post_init__(self) -> None:
        if self.means not in MEANS:
            raise PageError(
                f"{self.means!r} is not one of {', '.join(MEANS)}", "Give one of them", "log-means"
            )
        if self.size < 1:
            raise PageError(
                f"page size must be at least 1, got {self.size}",
                "Give the rows per page",
                "log-means",
            )


@dataclass(frozen=True, slots=True)
class LogReaders:
    """What a log says of readers: `readers` to plan with, and what it was drawn from.

    `malformed` lines are in no format that is read here; `other` ones are of other paths or did
    not succeed; `odd` ones ask for what is no page.
    """

    readers: Readers
    visits: int
    requests: int
    malformed: int
    other: int
    odd: int


@dataclass(slots=True)
class _Visit:
    begin: float
    last: float
    pages: list[int]
    dwells: list[float]
    cursors: dict[str, int]


def readers_from_log(
    lines: Iterable[str], question: LogQuestion, usual: Readers | None = None
) -> LogReaders:
    """Return the readers of a listing, from the lines of an access log.

    The dwell is the mean time between a page and the next one: what repeats depend on. What no log
    tells, such as the round trip, is that of `usual`.
    Lines that are in neither format are counted, not fatal. Raises PageError where no line is a
    request for the listing, and for one text in place of lines.
    """
    if isinstance(lines, (str, bytes)):
        raise PageError(
            "a log is given as lines, got one text",
            "Open the file and pass it, or pass text.splitlines()",
            "log-lines",
        )
    tally = _Tally(question)
    for line in lines:
        tally.take(line)
    # A visit that began with a request for no page may have none.
    visits = [visit for visit in tally.visits if visit.pages]
    if not visits:
        raise PageError(
            f"no line of the log is a request for {question.path or 'any page'!r}: "
            f"{tally.malformed:,} malformed, {tally.other:,} others, {tally.odd:,} of no page",
            "Say which path and parameter carry the page",
            "log-empty",
        )
    return LogReaders(
        readers=_readers_of(visits, tally.span_s, usual or Readers()),
        visits=len(visits),
        requests=sum(len(visit.pages) for visit in visits),
        malformed=tally.malformed,
        other=tally.other,
        odd=tally.odd,
    )


class _Tally:
    """The visits of a log, line by line, and the lines that are of none."""

    def __init__(self, question: LogQuestion) -> None:
        self._question = question
        self._open: dict[tuple[str, str], _Visit] = {}
        self._first, self._last = float("inf"), float("-inf")
        self.visits: list[_Visit] = []
        self.malformed = self.other = self.odd = 0

    @property
    def span_s(self) -> float:
        """Seconds from the first page to the last, a minute at least."""
        return max(self._last - self._first, 60.0)

    def take(self, line: str) -> None:
        """Take one line."""
        found = _LINE.match(line)
        moment = None if found is None else _moment(found["time"])
        if found is None or moment is None:
            # Empty lines between two files that were joined are no fault of either.
            self.malformed += bool(line.strip())
            return
        target, path = urlsplit(found["target"]), self._question.path.rstrip("/")
        # Redirects and "not modified" are readers as well; errors and bots that post are not.
        served = found["status"][0] in "23" and found["method"] in ("GET", "HEAD")
        if not served or not target.path.rstrip("/").endswith(path):
            self.other += 1
            return
        # Behind one address there may be a whole office: its browsers tell readers apart.
        client = found["host"], found["agent"] or ""
        # Only the last visit of each client is open, so memory grows with clients, not with
        # requests.
        visit = self._open.get(client)
        if visit is None or moment - visit.last > _PAUSE_S:
            visit = self._open[client] = _Visit(moment, moment, [], [], {})
            self.visits.append(visit)
        page = _page_of(target.query, self._question, visit)
        if page is None:
            self.odd += 1
            return
        # Only a step to the next page tells how long the one before was looked at.
        if visit.pages and page == visit.pages[-1] + 1:
            visit.dwells.append(moment - visit.last)
        visit.pages.append(page)
        visit.last = moment
        # Logs of several servers that were joined need not be in the order of time.
        self._first, self._last = min(self._first, moment), max(self._last, moment)


def _readers_of(visits: list[_Visit], span_s: float, usual: Readers) -> Readers:
    """Return rates, depth, jumps and dwell of visits over a span of time."""
    requests = sum(len(visit.pages) for visit in visits)
    dwells = [dwell for visit in visits for dwell in visit.dwells]
    dwell = max(fmean(dwells), _LEAST_DWELL_S) if dwells else _USUAL_DWELL_S
    jumps = walked = 0
    counts = [0] * _MOST_PAGES
    for visit in visits:
        before = 0
        for page in visit.pages:
            # Neither the next page nor the one before, nor the same once more: a jump.
            if abs(page - before) > 1:
                jumps += 1
            else:
                walked += 1
                counts[min(page, _MOST_PAGES) - 1] += 1
            before = page
    # Depths that nobody reached would only make the shares longer.
    while len(counts) > 1 and not counts[-1]:
        counts.pop()
    total = sum(counts)
    if not total:  # every request jumped
        counts, total = [1], 1
    shares = tuple(count / total for count in counts)
    mean = max(requests / len(visits), 1.0)
    # Readers at once on the mean: the time that all spend, over the time that passed (Little 1961).
    inside = sum(visit.last - visit.begin + dwell for visit in visits) / span_s
    depth = Depth(mean, jumps / requests, "measured", shares)
    return replace(
        usual,
        pages_per_minute=requests / span_s * 60,
        users=max(round(inside), 1),
        dwell_s=dwell,
        depth=depth,
    )


def _page_of(query: str, question: LogQuestion, visit: _Visit) -> int | None:
    """Return the page that a request asks for, from 1; None where it asks for none."""
    # Of a parameter that comes twice most frameworks take the last.
    value = parse_qs(query).get(question.parameter, [""])[-1]
    if question.means == "cursor":
        if not value:
            return 1
        # A cursor says nothing of its page: the order in which a visitor met them does.
        if value not in visit.cursors:
            visit.cursors[value] = (visit.pages[-1] if visit.pages else 1) + 1
        return visit.cursors[value]
    if not value:
        return 1
    # Longer numbers are attacks or accidents, not depths that anybody reads.
    if not value.isdecimal() or len(value) > 12:
        return None
    number = int(value)
    page = (
        number // question.size + 1 if question.means == "offset" else number - question.first + 1
    )
    return page if page >= 1 else None


def _moment(text: str) -> float | None:
    try:
        return datetime.strptime(text, "%d/%b/%Y:%H:%M:%S %z").timestamp()
    except ValueError:
        return None
