"""The document side of the survey: field reports in five shapes, and notices."""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Callable
from typing import Any

from nimble_otter.demo.survey import END, FIRST, LAST, PLACES, SEED

REPORTS = 8412
NOTICES = 640
_SPECIES = ["otter", "kingfisher", "heron", "eel", "crayfish", "mayfly", "dipper"]
_PARTS = ["float", "logger", "mast", "battery", "board"]


def make_collections() -> dict[str, list[dict[str, object]]]:
    """Documents by collection, each with an ObjectId made from its number: the same every time."""
    from bson import ObjectId

    rng = random.Random(SEED)
    makers: list[tuple[float, Callable[[random.Random], dict[str, Any]]]] = [
        (0.31, _flood_watch),
        (0.28, _sighting),
        (0.21, _clarity_check),
        (0.16, _fault_ticket),
        (0.04, _one_off),
    ]
    reports = []
    for number in range(REPORTS):
        make = rng.choices([m for _, m in makers], [w for w, _ in makers])[0]
        body = make(rng)
        at = END - dt.timedelta(minutes=rng.randrange(60 * 24 * 60))
        head: dict[str, Any] = {
            "_id": ObjectId(f"{0x66F0_0000 + number:08x}{'0' * 16}"),
            "kind": body.pop("kind"),
            "at": at,
        }
        if rng.random() > 0.02:
            head["place"] = rng.choice(PLACES)
        reports.append(head | body)
    notices = []
    for number in range(NOTICES):
        notice: dict[str, Any] = {
            "_id": ObjectId(f"{0x67F0_0000 + number:08x}{'0' * 16}"),
            "title": rng.choice(["Path closed", "Flood warning", "Volunteers wanted", "Gauge down"]),
            "from": END - dt.timedelta(days=rng.randrange(300)),
        }
        if number % 3:
            notice["report"] = reports[rng.randrange(len(reports))]["_id"]
            notice |= {"places": rng.sample(PLACES, 2), "until": notice["from"] + dt.timedelta(days=14)}
        notices.append(notice)
    return {"report": reports, "notice": notices}


def _person(rng: random.Random) -> str:
    return f"{rng.choice(FIRST)} {rng.choice(LAST)}"


def _flood_watch(rng: random.Random) -> dict[str, object]:
    level = round(rng.uniform(1.2, 4.6), 2)
    readings = [
        {"minute": 15 * n, "level_m": round(level - 0.16 + 0.08 * n, 2), "by": rng.choice(["gauge", "hand"])}
        for n in range(rng.randint(2, 6))
    ]
    flood = {"level": level, "trend": rng.choice(["rising", "steady", "falling"]), "roads": rng.randint(0, 3)}
    flood["warned"] = rng.random() < 0.4
    return {"kind": "flood watch", "flood": flood, "readings": readings}


def _sighting(rng: random.Random) -> dict[str, object]:
    count: Any = rng.randint(1, 9)
    if rng.random() < 0.08:
        count = rng.choice(["several", "a pair"])
    return {
        "kind": "sighting",
        "detail": {"species": rng.choice(_SPECIES), "count": count, "note": rng.choice(["", "on the far bank", None])},
    }


def _clarity_check(rng: random.Random) -> dict[str, object]:
    readings = [{"minute": 2 * n, "clarity_cm": rng.randint(8, 110)} for n in range(rng.randint(3, 8))]
    return {"kind": "clarity check", "readings": readings, "by": _person(rng)}


def _fault_ticket(rng: random.Random) -> dict[str, object]:
    opened = END - dt.timedelta(days=rng.randrange(90))
    detail = {
        "part": rng.choice(_PARTS),
        "serial": f"HB-{rng.randint(100, 999)}",
        "opened": opened,
        "closed": None if rng.random() < 0.3 else opened + dt.timedelta(days=rng.randint(1, 20)),
        "cost": round(rng.uniform(4, 180), 2),
    }
    return {"kind": "fault ticket", "detail": detail, "urgent": rng.random() < 0.2, "reported_by": _person(rng)}


def _one_off(rng: random.Random) -> dict[str, object]:
    names = [
        "weather",
        "bank",
        "litter",
        "boats",
        "fish_pass",
        "access",
        "signs",
        "leaflets",
        "school",
        "anglers",
        "works",
        "lamp",
    ]
    form: dict[str, Any] = {"kind": rng.choice(["open form", "letter", "survey day"])}
    for name in rng.choice([names[n : n + 4] for n in range(0, 12, 1)]):
        form[name] = rng.choice(["fine", "poor", rng.randint(0, 40)])
    return form
