"""Files as earlier code wrote them, which later code must read or refuse with a way out.

    python tests/kept.py FOLDER      writes tests/kept/FOLDER with the code as it is

A folder that is there is never written again: what it holds is in somebody's hands. For a new
format write a folder beside it.
"""

from __future__ import annotations

import hashlib
import json
import re
import shutil
import subprocess
import sys
import tempfile
from datetime import datetime, timedelta
from pathlib import Path

from sqlalchemy import (
    Column,
    DateTime,
    Float,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    create_engine,
    insert,
    select,
)

import vrelko
from vrelko import Sizes, Steady
from vrelko.serving.steady.frozen import FrozenIds

KEPT = Path(__file__).parent / "kept"
SECRET = b"a secret that cursors were signed with"
ROWS, SIZE, EVERY = 400, 10, 20
UNFOLDED = 7
"""Rows that the log still holds."""

metadata = MetaData()
Sighting = Table(
    "Ring sighting",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("site", Integer, nullable=False),
    Column("Seen at", DateTime),
    Column("ring", String(12), nullable=False),
    Column("grams", Float),
    Index("sighting_seen", "site", "Seen at", "id"),
)
s = Sighting.c

PAGES = """\
[source]
url = "sqlite:///kept.db"

[listing.sightings]
table   = "Ring sighting"
columns = ["id", "ring", "Seen at"]
where   = { site = ":site" }
filters = { grams = { ge = ":least" } }
orders  = ["-Seen at:nulls-last", "ring"]
sizes   = { default = 10, max = 100 }
total   = "exact"
jumps   = "anchors"
params  = { site = [1] }

[listing.sightings.readers]
pages_per_minute = 40
users    = 30
dwell_s  = 30
depth    = { kind = "geometric", mean = 6, jumps = 0.2 }
[listing.sightings.writers]
inserts_per_minute = 12
deletes_per_minute = 4
lands              = { kind = "late", mean_s = 1800 }
[listing.sightings.needs]
jump    = true
repeats = 0
"""


def row(i):
    """Row i: ties, NULLs, two sites."""
    seen = datetime(2026, 3, 1) + timedelta(hours=i * 7 % 311)
    return {
        "id": i,
        "site": i % 2,
        "Seen at": None if i % 13 == 0 else seen,
        "ring": f"L{i * 7919 % 1000:04d}",
        "grams": None if i % 5 == 0 else i % 40 / 4,
    }


def listing(**settings):
    """The listing that cursors, lists and anchors are of."""
    usual = {
        "name": "sightings",
        "orders": ["-Seen at:nulls-last"],
        "sizes": Sizes(SIZE, max=100),
        "total": "exact",
        "expose": True,
    }
    chosen = select(s.id, s.ring).where(s.site == bindparam("site"))
    return vrelko.Listing(chosen, **{**usual, **settings})


KINDS = {
    "unsigned": {},
    "signed": {"secrets": [SECRET]},
    "sealed": {"secrets": [SECRET], "expose": False},
    "expiring": {"secrets": [SECRET], "expires_s": 10**10},
    "offset": {"strategy": "offset"},
    "counted once": {"count": "once"},
    "ceiling": {"strategy": "offset", "orders": ["-id"], "steady": Steady(ceiling=True)},
}
"""Settings of listings whose cursors are kept."""


def frozen_listing(engine):
    """The listing whose rows are frozen, with lists that do not expire."""
    lists = FrozenIds(engine, expires_s=10**10)
    return listing(strategy="frozen-ids", steady=Steady(frozen=lists))


def jumping():
    """The listing that jumps by anchors."""
    return listing(jumps="anchors")


def ids(page):
    """The ids of a page's rows."""
    return [one.id for one in page]


def fill(engine):
    """Make the table with its anchors, and some changes that are not folded yet."""
    metadata.create_all(engine)
    with engine.begin() as connection:
        connection.execute(insert(Sighting), [row(i) for i in range(1, ROWS - UNFOLDED + 1)])
    jumping().counted_anchors(engine, every=EVERY).build()
    with engine.begin() as connection:
        new = [row(i) for i in range(ROWS - UNFOLDED + 1, ROWS + 1)]
        connection.execute(insert(Sighting), new)


def second_pages(engine):
    """Each kind of cursor behind the first page, with the rows that follow."""
    found = {}
    frozen = frozen_listing(engine)
    frozen.settings.steady.frozen.create()
    kinds = {name: listing(**settings) for name, settings in KINDS.items()}
    for name, one in {**kinds, "frozen": frozen}.items():
        first = one.read(engine, params={"site": 1})
        second = one.read(engine, first.next, params={"site": 1})
        found[name] = {"next": first.next, "ids": ids(second), "prev": second.prev}
    return found


def dump(engine):
    """The statements that make a server's database again."""
    url = engine.url
    place = ["-h", str(url.host), "-u" if "maria" in url.drivername else "-U", str(url.username)]
    if engine.dialect.name == "postgresql":
        tool = [
            "pg_dump",
            *place,
            "-p",
            str(url.port),
            "--no-owner",
            "--no-privileges",
            "--inserts",
        ]
        text = run_tool([*tool, str(url.database)])
        lines = [line for line in text.splitlines() if not line.startswith(("--", "\\"))]
        return ["\n".join(line for line in lines if line.strip())]
    tool = ["mariadb-dump", *place, "-P", str(url.port), "--skip-comments", "--compact"]
    text = run_tool([*tool, str(url.database)])
    text = re.sub(r"/\*!\d+ DEFINER=\S+?\*/ ?", "", text)
    found, mark, statement = [], ";", ""
    for line in text.splitlines():
        if line.startswith("DELIMITER "):
            mark = line.split()[1]
        elif line.startswith("/*M!"):
            continue
        elif line.rstrip().endswith(mark):
            found.append(f"{statement}{line.rstrip().removesuffix(mark)}")
            statement = ""
        else:
            statement += f"{line}\n"
    return found


def run_tool(command):
    """What a server's own tool prints."""
    return subprocess.run(command, capture_output=True, text=True, check=True).stdout


def digests(folder):
    """The digest of each file of a folder but the list of them."""
    files = sorted(path for path in folder.iterdir() if path.name != "digests.json")
    return {path.name: hashlib.sha256(path.read_bytes()).hexdigest() for path in files}


def write(folder):
    """Write a folder."""
    from servers import open_server

    folder.mkdir(parents=True)
    database = folder / "kept.db"
    engine = create_engine(f"sqlite:///{database}")
    fill(engine)
    (folder / "cursors.json").write_text(json.dumps(second_pages(engine), indent=1) + "\n")
    filed = jumping().changed(anchor_file=folder / "anchors.json")
    filed.counted_anchors(engine, every=EVERY).build()
    (folder / "pages.toml").write_text(PAGES)
    with tempfile.TemporaryDirectory() as copy:  # a plan and a replay leave the file as it is
        shutil.copy(database, copy)
        shutil.copy(folder / "pages.toml", copy)
        pages = vrelko.load(Path(copy) / "pages.toml")
        one = pages["sightings"]
        facts = vrelko.survey(pages.engine, one)
        plan = vrelko.plan(one, facts, engine=pages.engine)
        drift = vrelko.drift(plan, pages.engine, walks=2, simulations=20)
        pages.engine.dispose()
    (folder / "facts.json").write_text(facts.to_json() + "\n")
    (folder / "plan.json").write_text(f"[{plan.to_json()}]\n")
    (folder / "drift.json").write_text(f"[{drift.to_json()}]\n")
    engine.dispose()
    for name in ("postgresql", "mariadb"):
        with open_server(name) as server:
            fill(server)
            statements = json.dumps(dump(server), indent=1, ensure_ascii=False)
            (folder / f"{name}.json").write_text(f"{statements}\n")
    (folder / "digests.json").write_text(json.dumps(digests(folder), indent=1) + "\n")


if __name__ == "__main__":
    write(KEPT / sys.argv[1])
