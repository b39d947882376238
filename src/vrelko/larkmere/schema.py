"""Tables of the Larkmere ringing scheme."""

from __future__ import annotations

from sqlalchemy import (
    Column,
    DateTime,
    Double,
    ForeignKey,
    Index,
    Integer,
    MetaData,
    SmallInteger,
    String,
    Table,
)

metadata = MetaData()

station = Table(
    "station",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("code", String(8), nullable=False, unique=True),
    Column("name", String(60), nullable=False),
)

species = Table(
    "species",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("code", String(8), nullable=False, unique=True),
    Column("name", String(60), nullable=False),
)

capture = Table(
    "capture",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("ring", String(12), nullable=False),
    Column("species_id", ForeignKey(species.c.id), nullable=False),
    Column("station_id", ForeignKey(station.c.id), nullable=False),
    Column("caught_at", DateTime, nullable=False),
    Column("weight_g", Double),
    Column("wing_mm", Integer),
    Column("age_code", SmallInteger, nullable=False),
    Column("status", SmallInteger, nullable=False),
    Column("looked_at", DateTime),
    Column("note", String(200), nullable=False),
    Index("capture_by_round", "caught_at", "id"),
    Index("capture_by_station", "station_id", "caught_at", "id"),
    Index("capture_by_ring", "ring"),
)

follow = Table(
    "follow",
    metadata,
    Column("visitor_id", Integer, primary_key=True),
    Column("station_id", ForeignKey(station.c.id), primary_key=True),
)
