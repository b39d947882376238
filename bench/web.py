"""Pages over HTTP under load: throughput, p95, errors and memory, beside hand-written routes.

    python bench/web.py [SECONDS]

Serves a grid and a feed of the sample table on PostgreSQL twice, each with one uvicorn worker of
its own: by `make_app`, and by Starlette routes with the same SQL written by hand. 64 clients ask
each of them for SECONDS, in turns of a few seconds, so that both meet the same machine.
"""

from __future__ import annotations

import asyncio
import json
import multiprocessing
import random
import sys
import time
from datetime import datetime

from sqlalchemy import bindparam, create_engine, func, inspect, select, text, tuple_

import vrelko
from vrelko.larkmere.generate import build
from vrelko.larkmere.schema import capture, metadata
from vrelko.web import make_app

URL = "postgresql+psycopg://postgres@127.0.0.1/vrelko_bench"
CLIENTS, TURN_S = 64, 5.0
c = capture.c
ROWS = select(c.id, c.ring, c.caught_at, c.weight_g)
GRID = vrelko.Listing(
    ROWS.where(c.station_id == bindparam("station")),
    name="grid",
    orders="-caught_at",
    total="exact",
    sizes=vrelko.Sizes(25, max=100),
    secrets=[b"sixteen bytes or more"],
)
FEED = vrelko.Listing(
    ROWS, name="feed", kind="feed", orders="-caught_at", secrets=[b"sixteen bytes or more"]
)


def open_engine():
    return create_engine(URL, pool_size=16, max_overflow=0)


def ours():
    return make_app({"grid": GRID, "feed": FEED}, open_engine())


def by_hand():
    """The same statements, and answers with rows, total and the next link."""
    from starlette.applications import Starlette
    from starlette.responses import Response
    from starlette.routing import Route

    engine = open_engine()
    grid = (
        ROWS.where(c.station_id == bindparam("station"))
        .order_by(c.caught_at.desc(), c.id.desc())
        .limit(26)
        .offset(bindparam("skip"))
    )
    total = select(func.count()).select_from(capture).where(c.station_id == bindparam("station"))
    feed = ROWS.order_by(c.caught_at.desc(), c.id.desc()).limit(26)
    onward = feed.where(tuple_(c.caught_at, c.id) < tuple_(bindparam("at"), bindparam("id")))

    def answer(rows, more):
        body = {"rows": [dict(row._mapping) for row in rows[:25]], **more}
        return Response(json.dumps(body, default=datetime.isoformat), media_type="application/json")

    def read_grid(request):
        page = int(request.query_params.get("page", 1))
        station = int(request.query_params["station"])
        with engine.connect() as connection:
            rows = connection.execute(grid, {"station": station, "skip": (page - 1) * 25}).all()
            known = connection.execute(total, {"station": station}).scalar()
        following = f"/grid?station={station}&page={page + 1}" if len(rows) > 25 else None
        return answer(rows, {"total": known, "links": {"next": following}})

    def read_feed(request):
        asked = request.query_params
        with engine.connect() as connection:
            if "at" in asked:
                given = {"at": datetime.fromisoformat(asked["at"]), "id": int(asked["id"])}
                rows = connection.execute(onward, given).all()
            else:
                rows = connection.execute(feed).all()
        last = rows[24] if len(rows) > 25 else None
        following = f"/feed?at={last.caught_at.isoformat()}&id={last.id}" if last else None
        return answer(rows, {"links": {"next": following}})

    return Starlette(routes=[Route("/grid", read_grid), Route("/feed", read_feed)])


APPS = {"make_app": (ours, 8_911), "by hand": (by_hand, 8_912)}


def serve(name):
    import uvicorn

    make, port = APPS[name]
    uvicorn.run(make(), port=port, log_level="error", access_log=False)


class Tally:
    def __init__(self):
        self.times, self.errors, self.seconds = [], 0, 0.0


async def fetch(reader, writer, path):
    writer.write(f"GET {path} HTTP/1.1\r\nHost: x\r\nAccept: application/json\r\n\r\n".encode())
    head = await reader.readuntil(b"\r\n\r\n")
    length = int(head.lower().split(b"content-length:")[1].split(b"\r\n")[0])
    body = await reader.readexactly(length)
    return head[9:12], body


async def client(port, kind, until, tally, seed):
    rng = random.Random(seed)
    reader, writer = await asyncio.open_connection("127.0.0.1", port, limit=2**20)
    path = "/feed"
    while time.monotonic() < until:
        if kind == "grid":
            path = f"/grid?station={rng.randrange(1, 6)}&page={rng.randrange(1, 40)}"
        began = time.monotonic()
        status, body = await fetch(reader, writer, path)
        tally.times.append(time.monotonic() - began)
        tally.errors += status != b"200"
        if kind == "feed":
            path = json.loads(body)["links"]["next"] or "/feed"
            if rng.random() < 0.05:
                path = "/feed"
    writer.close()


async def turn(port, kind, seconds, tally, seed):
    began = time.monotonic()
    until = began + seconds
    await asyncio.gather(
        *(client(port, kind, until, tally, seed * 1_000 + i) for i in range(CLIENTS))
    )
    tally.seconds += time.monotonic() - began


def memory(process):
    with open(f"/proc/{process.pid}/status") as file:
        return next(int(line.split()[1]) / 1e3 for line in file if line.startswith("VmRSS"))


def main(seconds):
    engine = create_engine(URL)
    if not inspect(engine).has_table("capture"):
        build(engine, 200_000)
        with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            connection.execute(text("VACUUM ANALYZE capture"))
    processes = {
        name: multiprocessing.Process(target=serve, args=(name,), daemon=True) for name in APPS
    }
    for process in processes.values():
        process.start()
    time.sleep(4)
    print(f"{CLIENTS} clients, {seconds:g} s each; PostgreSQL, 200,000 rows, one worker")
    for kind in ("grid", "feed"):
        for name in APPS:
            asyncio.run(turn(APPS[name][1], kind, 2, Tally(), 0))
        tallies = {name: Tally() for name in APPS}
        before = {name: memory(one) for name, one in processes.items()}
        for number in range(1, max(round(seconds / TURN_S), 1) + 1):
            for name in APPS:
                asyncio.run(turn(APPS[name][1], kind, TURN_S, tallies[name], number))
        rates = {name: len(one.times) / one.seconds for name, one in tallies.items()}
        for name, one in tallies.items():
            ordered = sorted(one.times)
            print(
                f"  {kind:<5} {name:<9} {rates[name]:>6,.0f} requests/s, p95 "
                f"{ordered[int(len(ordered) * 0.95)] * 1e3:,.0f} ms, {one.errors} errors, "
                f"{before[name]:.0f} → {memory(processes[name]):.0f} MB"
            )
        print(f"  {kind:<5} make_app takes {rates['by hand'] / rates['make_app']:.2f}× the time")
    for process in processes.values():
        process.terminate()
    metadata.drop_all(engine)


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 30.0)
