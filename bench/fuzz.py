"""Requests that nobody should send, by the hundred thousand: none may end in a plain failure.

    python bench/fuzz.py [--tries 1000000] [--seed 1] [--seconds 0]

Numbers, sizes, cursors (whole, cut, exchanged, of other listings), filters, orders, headers and
bodies are drawn from a grammar and by changing good ones, and asked of the application and of the
demo's, in process. Every answer must be below 500; prints a Markdown table of what came.
"""

from __future__ import annotations

import argparse
import asyncio
import collections
import random
import sys
import tempfile
import time
from pathlib import Path
from urllib.parse import quote, urlencode

from sqlalchemy import bindparam, create_engine, select

import vrelko
from vrelko import Search, Sizes
from vrelko.larkmere.generate import build
from vrelko.larkmere.schema import capture
from vrelko.web import make_app
from vrelko.web.demo.live import Live
from vrelko.web.demo.site import make_demo

c = capture.c
ODD = [
    "",
    "0",
    "-0",
    "-1",
    "1",
    "2",
    "00",
    "1e3",
    "1.5",
    "٣",
    "１",
    "NaN",
    "inf",
    "-inf",
    "1_000",
    "9" * 19,
    "9" * 20,
    "9" * 400,
    "-" + "9" * 30,
    "0x10",
    "null",
    "None",
    "true",
    "'",
    '"',
    "\\",
    "%",
    "%00",
    "\x00",
    "a\nb",
    "🐦",
    "é" * 500,
    "../..",
    "<script>",
    "' OR 1=1 --",
    "2020-13-45",
    "2020-01-01",
    "2020-01-01T00:00:00",
    "0001-01-01",
    "9999-12-31T23:59:59.999999",
    "+1",
    " 1 ",
    ",",
    ",,,",
    "-",
    "--",
    "caught_at",
    "-caught_at,",
    "id,id",
    "-id",
    ":nulls-last",
]
BODIES = [
    "",
    "{}",
    "[]",
    "x",
    "null",
    "1",
    '{"rate":%s}',
    '{"species_id":%s}',
    '{"station_id":%s}',
    '{"rate":{"a":[]}}',
    "[" * 5_000,
    '{"a":' * 2_000,
    '"' + "x" * 70_000 + '"',
]
NAMES = [
    "page",
    "size",
    "cursor",
    "sort",
    "station",
    "since",
    "species",
    "search",
    "format",
    "status",
    "x",
]


def make_listings():
    grid = vrelko.Listing(
        select(c.id, c.ring, c.weight_g).where(c.station_id == bindparam("station")),
        name="grid",
        orders=["-caught_at", "weight_g:nulls-first"],
        total="exact",
        sizes=Sizes(10, max=50),
        filters={
            "since": c.caught_at >= bindparam("since"),
            "species": c.species_id.in_(bindparam("species", expanding=True)),
        },
        search=Search(["ring"]),
        expose=True,
        max_offset=5_000,
    )
    feed = vrelko.Listing(
        select(c.id, c.ring),
        name="feed",
        kind="feed",
        orders="-caught_at",
        sizes=Sizes(10),
        secrets=[b"a secret of sixteen"],
        expose=True,
    )
    return {"grid": grid, "feed": feed}


class Caller:
    """Calls an ASGI application without a server; keeps cursors that it gave.

    `names`: what paths begin with there instead.
    """

    def __init__(self, app, names=()):
        self.app, self.cursors, self.counts = app, [], collections.Counter()
        self.names = dict(names)

    async def ask(self, method, path, query, headers, body):
        status, told, sent = 0, b"", False
        for name, other in self.names.items():
            path = path.replace(name, other, 1) if path.startswith(name) else path

        async def receive():
            nonlocal sent
            if sent:  # a client that waits for the answer
                await asyncio.sleep(3_600)
            sent = True
            return {"type": "http.request", "body": body, "more_body": False}

        async def send(message):
            nonlocal status, told
            if message["type"] == "http.response.start":
                status = message["status"]
            else:
                told += message.get("body", b"")

        scope = {
            "type": "http",
            "asgi": {"version": "3.0"},
            "http_version": "1.1",
            "method": method,
            "path": path,
            "raw_path": quote(path).encode(),
            "root_path": "",
            "scheme": "http",
            "query_string": query.encode("ascii", "ignore"),
            "headers": headers,
            "client": ("127.0.0.1", 1),
            "server": ("localhost", 80),
            "state": {},
        }
        await self.app(scope, receive, send)
        self.counts[status] += 1
        if status == 200 and b"cursor=" in told:
            found = told.split(b"cursor=", 1)[1].split(b'"', 1)[0].decode("ascii", "ignore")
            self.cursors = [*self.cursors[-200:], found]
        return status, told


def changed(rng, text):
    """A text with a character changed, cut, doubled or added."""
    if not text:
        return rng.choice(ODD)
    at = rng.randrange(len(text))
    other = text[:at] + chr(rng.randrange(32, 127)) + text[at + 1 :]
    return rng.choice(
        [text[:at], text[at:], text + text[:at], other, text[::-1], text + rng.choice(ODD)]
    )


def draw(rng, cursors):
    """A request: method, path, query, headers, body."""
    pairs = [("station", "3")] if rng.random() < 0.8 else []
    for _ in range(rng.randrange(4)):
        name = rng.choice(NAMES)
        value = rng.choice(ODD)
        if name == "cursor" and cursors:
            value = rng.choice(cursors)
            value = value if rng.random() < 0.3 else changed(rng, value)
        elif rng.random() < 0.3:
            value = changed(rng, rng.choice(ODD))
        pairs.append((name, value))
    query = urlencode(pairs, errors="replace") if rng.random() < 0.95 else rng.choice(ODD)
    paths = [
        "/grid",
        "/feed",
        "/grid/export",
        "/",
        "/healthz",
        "/openapi.json",
        "/metrics",
        "/nowhere",
        "/grid/" + rng.choice(ODD),
        "/captures",
        "/live",
        "/new",
        "/walks/x/keyset",
        "/data/grid",
        "/captures/" + rng.choice(["1", "0", "9" * 22, "x"]),
    ]
    path = rng.choices(paths, [20, 20, 0.1, *[1] * 12])[0]
    method = "GET"
    body = b""
    if path.startswith(("/captures", "/live", "/walks")) or rng.random() < 0.03:
        method = rng.choice(["POST", "DELETE", "PUT", "GET", "HEAD", "OPTIONS", "BREW"])
        text = rng.choice(BODIES)
        body = (text % rng.choice(ODD[:24]) if "%s" in text else text).encode()
    headers = [
        (b"host", rng.choice([b"localhost", b"localhost:80", b"", b"evil", b"[", b"\xff"]))
        if rng.random() < 0.1
        else (b"host", b"localhost")
    ]
    if rng.random() < 0.2:
        name = rng.choice([b"accept", b"if-none-match", b"origin", b"page-part", b"content-length"])
        value = rng.choice(
            [b"text/html", b"*/*;q=0", b"a/b", b"q=x;;,", b"null", b"*", b"-1", b"\xff"]
        )
        headers.append((name, value))
    return method, path, query, headers, body


async def fuzz(callers, rng, tries, until):
    worst = []
    done = 0
    while done < tries and time.monotonic() < until:
        caller = callers[done % len(callers)]
        request = draw(rng, caller.cursors)
        try:
            status, told = await caller.ask(*request)
        except Exception as error:
            status, told = 500, repr(error).encode()
        if status >= 500 or status == 0:
            worst.append((status, request, told[:200]))
        done += 1
    return done, worst


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--tries", type=int, default=1_000_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--seconds", type=float, default=0)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="vrelko-fuzz-") as folder:
        path = Path(folder) / "larkmere.db"
        engine = create_engine(f"sqlite:///{path}")
        build(engine, captures=20_000)
        live = Live(path)
        callers = [
            Caller(make_app(make_listings(), engine, hosts=["localhost"])),
            Caller(
                make_demo(live, ["localhost"]),
                {"/grid": "/data/captures", "/feed": "/data/arrivals"},
            ),
        ]
        until = time.monotonic() + given.seconds if given.seconds else float("inf")
        done, worst = asyncio.run(fuzz(callers, random.Random(given.seed), given.tries, until))
        live.close()
        engine.dispose()
    print("| application | " + "requests by status |\n|---|---|")
    for name, caller in zip(("listings", "demo"), callers, strict=True):
        told = ", ".join(f"{many:,} × {status}" for status, many in sorted(caller.counts.items()))
        print(f"| {name} | {told} |")
    print(f"\n{done:,} tries, {len(worst)} failures")
    for status, request, told in worst[:20]:
        print(status, str(request)[:300], told)
    sys.exit(bool(worst))


if __name__ == "__main__":
    main()
