"""Writing the relational side of the survey to an SQLite file, in batches so that memory stays flat."""

from __future__ import annotations

import datetime as dt
import os
import sqlite3
import struct
import zlib
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from nimble_otter.stop import NEVER, Progress, StopToken
from nimble_otter.values import Value

VERSION = "1"
SEED = 20310528
BATCH = 50_000
RIVERS = ["Merrow", "Sallow", "Tarnbeck", "Crake", "Ashwater", "Linnet", "Dunlow"]
PLACES = [
    "Otterholt", "Alder Weir", "Upper Merrow", "Sallow Bridge", "Hazel Sluice", "Mere Inlet", "Crake Ford",
    "Lower Tarn",
    "Reed End", "Stone Leat", "Willow Gate", "Heron Pool", "Mill Race", "Quarry Foot", "Gorse Steps", "Tern Bank",
    "Fallow Lock", "Bracken Weir", "Chapel Ford", "Drover Bridge", "Elm Staithe", "Fen Cut", "Gull Hard", "Holm Wath",
    "Iron Wharf", "Jay Wood", "Kiln Sluice", "Long Riffle", "Moss Gill", "Nettle Dub", "Oxbow East", "Pike Run",
    "Quern Brook", "Rush Meadow", "Sedge Drain", "Thorn Beck", "Umber Pool", "Vale Head", "Wren Culvert", "Yew Landing",
    "Ash Spout", "Birch Tail",
]  # fmt: skip
FIRST = ["Ada", "Bram", "Cleo", "Dov", "Edda", "Finn", "Greta", "Hale", "Ilsa", "Jory", "Kit", "Lene", "Moss", "Nell"]
LAST = [
    "Aldane",
    "Brook",
    "Corrie",
    "Dunmere",
    "Esk",
    "Fairlow",
    "Garth",
    "Hollin",
    "Inskip",
    "Jarrow",
    "Kell",
    "Lorne",
]
NOTES = ["gauge board read by hand", "debris on intake", "checked by radio", "ice along the bank", "sensor cleaned"]
END = dt.datetime(2031, 5, 28, 23, 0)

SCHEMA = """
create table river (river_id integer primary key, name text not null unique, length_km real, source_height_m integer);
create table station (
  station_id integer primary key, name text not null, river text not null references river (name),
  opened date, height_m real, active boolean not null default 1);
create table gauge (
  gauge_id integer primary key, station_id integer not null references station, maker text, range_m numeric,
  fitted date);
create table reading (
  reading_id integer primary key, station_id integer not null references station (station_id),
  taken_at timestamp not null, level_m real, flow_m3s real, quality text not null default 'good', note text);
create table volunteer (volunteer_id integer primary key, name text not null, joined date, hours integer, email text);
create table visit (
  visit_id integer primary key, station_id integer not null references station (station_id),
  volunteer_id integer references volunteer (volunteer_id), visited_on date not null, weather text, remark text);
create table visit_photo (
  photo_id integer primary key, visit_id integer not null references visit (visit_id), caption text, picture blob);
create table lab_sample (
  sample_id integer primary key, station_id integer not null references station (station_id),
  drawn_at timestamp, bottle text unique, clarity_cm integer, temperature_c real);
create table assay (
  sample_id integer not null references lab_sample (sample_id), substance text not null, mg_per_l real,
  below_limit boolean,
  primary key (sample_id, substance)) without rowid;
create table loan (
  volunteer_id integer not null references volunteer (volunteer_id), item text not null, lent_on date not null,
  returned_on date, deposit numeric, primary key (volunteer_id, item, lent_on));
create table legacy_note (written text, author text, body text);
create view high_water as
  select s.name as station, r.taken_at, r.level_m
  from reading r join station s using (station_id) where r.level_m > 3.5;
"""


def write_survey(path: Path, readings: int = 61_320, stop: StopToken = NEVER, progress: Progress | None = None) -> None:
    """Write the survey to `path`, over any file there, by way of a temporary file. Raises: Stopped, OSError."""
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    part.unlink(missing_ok=True)
    base = sqlite3.connect(part, isolation_level=None)
    try:
        base.executescript("pragma journal_mode = off; pragma synchronous = off; begin;" + SCHEMA)
        rng = np.random.default_rng(SEED)
        _write_places(base, rng)
        done = 0
        for rows in _readings(rng, readings):
            stop.check()
            base.executemany("insert into reading values (?,?,?,?,?,?,?)", rows)
            done += len(rows)
            if progress is not None:
                progress(done, readings)
        base.execute("create index reading_station on reading (station_id, taken_at)")
        base.execute("commit")
        base.close()
        os.replace(part, path)
    except BaseException:
        base.close()
        part.unlink(missing_ok=True)
        raise


def _readings(rng: np.random.Generator, count: int) -> Iterator[list[tuple[object, ...]]]:
    """Rows in order of time, all stations at each; the last falls on the survey's last evening."""
    stations = len(PLACES)
    ticks = -(-count // stations)
    step_min = max(1, 365 * 24 * 60 // max(1, ticks))
    begin = np.datetime64(END, "m") - np.timedelta64(step_min * (ticks - 1), "m")
    base_level = rng.uniform(0.6, 2.4, stations)
    for start in range(0, count, BATCH):
        ids = np.arange(start, min(start + BATCH, count))
        station, tick = ids % stations, ids // stations
        day = tick * step_min / 1440
        swell = 0.7 * np.sin(2 * np.pi * (day + 60) / 365) + 0.25 * np.sin(day / 3.1 + station)
        level = np.round(np.clip(base_level[station] + swell + rng.gamma(1.6, 0.35, len(ids)) - 0.3, 0.05, 6.4), 2)
        flow = np.round(level**1.7 * (4 + station % 5) + rng.uniform(0, 2, len(ids)), 1)
        quality = np.array(["good", "estimated", "suspect", "void"])[rng.choice(4, len(ids), p=[0.82, 0.1, 0.06, 0.02])]
        note = rng.integers(0, 40, len(ids))
        gone = rng.random(len(ids)) < 0.03
        times = (begin + (tick * step_min).astype("m8[m]")).astype(str)
        yield list(
            zip(
                (ids + 1).tolist(),
                (station + 1).tolist(),
                [t.replace("T", " ") for t in times.tolist()],
                [None if g else v for v, g in zip(level.tolist(), gone.tolist(), strict=True)],
                [None if g else v for v, g in zip(flow.tolist(), gone.tolist(), strict=True)],
                quality.tolist(),
                [NOTES[n] if n < len(NOTES) else None for n in note.tolist()],
                strict=True,
            )
        )


def _write_places(base: sqlite3.Connection, rng: np.random.Generator) -> None:
    def day(back: Value) -> str:
        return (END.date() - dt.timedelta(days=int(back))).isoformat()

    def many(table: str, rows: list[tuple[object, ...]]) -> None:
        base.executemany(f"insert into {table} values ({','.join('?' * len(rows[0]))})", rows)

    many("river", [(i + 1, n, round(18.5 + 7.3 * i, 1), 240 + 31 * i) for i, n in enumerate(RIVERS)])
    many(
        "station",
        [
            (i + 1, n, RIVERS[i // 6], day(9000 - 150 * i), round(12 + 3.7 * i, 1), int(i % 11 != 7))
            for i, n in enumerate(PLACES)
        ],
    )
    makers = ["Halloway", "Brightwell", "Pond & Sons"]
    many(
        "gauge",
        [(i + 1, int(s), makers[i % 3], 4 + i % 3 * 2, day(300 + 97 * i)) for i, s in enumerate([1, 4, 7, 8, 12, 30])],
    )
    people = [f"{FIRST[i % len(FIRST)]} {LAST[(i * 5) % len(LAST)]}" for i in range(64)]
    mail = [None if i % 9 == 0 else f"{n.split()[0].lower()}.{i}@merrow.example" for i, n in enumerate(people)]
    many(
        "volunteer",
        [(i + 1, n, day(rng.integers(30, 3000)), int(rng.integers(2, 400)), mail[i]) for i, n in enumerate(people)],
    )
    weather = ["dry", "rain", "fog", "frost", "bright", None]
    remarks = ["all well", "board needs paint", "path flooded; came by boat", "otter prints by the weir", "", None]
    many(
        "visit",
        [
            (i + 1, int(rng.integers(1, 43)), int(rng.integers(1, 65)) if i % 13 else None, day(rng.integers(0, 700)),
             weather[int(rng.integers(6))], remarks[int(rng.integers(6))])
            for i in range(1904)
        ],
    )  # fmt: skip
    many(
        "visit_photo", [(i + 1, 16 * i + 1, f"view {i + 1}", None if i % 10 == 9 else _picture(i)) for i in range(118)]
    )
    many(
        "lab_sample",
        [
            (i + 1, int(rng.integers(1, 43)), f"{day(rng.integers(0, 365))} {8 + i % 9:02}:{i % 60:02}",
             f"MR-{i + 1:05}", int(rng.integers(5, 120)), None if i % 17 == 0 else round(float(rng.normal(9, 3)), 1))
            for i in range(3870)
        ],
    )  # fmt: skip
    substances = ["nitrate", "phosphate", "chloride"]
    assays = [
        (i + 1, s, round(float(rng.gamma(2, 1.4)), 3), int(rng.random() < 0.1)) for i in range(3870) for s in substances
    ]
    many("assay", sorted(assays))
    items = ["waders", "clarity tube", "hand gauge", "radio"]
    many(
        "loan",
        [
            (1 + i * 7 % 64, items[i % 4], day(400 - i), day(380 - i) if i % 5 else None, 5 + i % 4 * 2.5)
            for i in range(160)
        ],
    )
    many("legacy_note", [(day(4000 + i * 11), people[i % 64], f"Card {i + 1}: {NOTES[i % 5]}.") for i in range(75)])


def _picture(number: int, width: int = 48, height: int = 32) -> bytes:
    """A small PNG of bank, water and sky (PNG specification, third edition)."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    rows = b""
    for y in range(height):
        level = 14 + (number * 7) % 9
        colour = (190, 214, 224) if y < level else ((70, 130 + number % 60, 140) if y < level + 10 else (120, 100, 70))
        rows += b"\0" + bytes(colour) * width
    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(rows)) + chunk(b"IEND", b"")
