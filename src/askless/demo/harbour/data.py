"""Fills a database with a made-up harbour: the same rows for the same seed."""

from __future__ import annotations

import random
from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Any

import models
from sqlalchemy import Engine, insert

NOW = datetime(2026, 11, 23, 6, 0)
STATUSES = ("due", "berthed", "departed", "cancelled")
FIRST = [
    "North",
    "South",
    "East",
    "West",
    "Grey",
    "White",
    "Silver",
    "Amber",
    "Distant",
    "Quiet",
    "Bright",
    "Steady",
]
SECOND = [
    "Heron",
    "Tern",
    "Petrel",
    "Gull",
    "Osprey",
    "Plover",
    "Curlew",
    "Dunlin",
    "Skua",
    "Fulmar",
    "Gannet",
    "Avocet",
]
FLAGS = ["NO", "DK", "SE", "FI", "NL", "DE", "PT", "GR", "MT", "PA", "LR"]
GOODS = [
    "timber",
    "grain",
    "steel",
    "coils",
    "paper",
    "pulp",
    "containers",
    "fertiliser",
    "salt",
    "machinery",
    "fish",
    "citrus",
]
SENTENCES = (
    "Lifeboat davits were swung out and held.",
    "Oil record book entries agreed with the tank soundings.",
    "Two fire dampers on the upper deck were found stiff and freed.",
    "Crew hours of rest were in order.",
    "The emergency generator started at the first attempt.",
    "Mooring lines aft show wear and are to be renewed.",
)


def rows(
    model: type[models.Base], count: int, dice: random.Random, scale: int
) -> Iterator[dict[str, Any]]:
    """The rows of one table, ids from 1."""
    vessels, calls = 4000 * scale // 10, 30000 * scale // 10
    for number in range(1, count + 1):
        yield {"id": number, **MAKERS[model](number, dice, vessels, calls)}
    for more in range(EXTRA.get(model, 0)):
        yield {"id": count + 1 + more, **LARGE[model](more, calls)}


def _vessel(number: int, dice: random.Random, vessels: int, calls: int) -> dict[str, Any]:
    name = f"{dice.choice(FIRST)} {dice.choice(SECOND)} {number}"
    return {
        "name": name,
        "call_sign": f"H{number:05d}",
        "flag": dice.choice(FLAGS),
        "length_m": dice.uniform(60, 330),
        "gross_tonnage": dice.randint(900, 90000),
        "owner": f"{dice.choice(SECOND)} Shipping {dice.randint(1, 300)}",
    }


def _call(number: int, dice: random.Random, vessels: int, calls: int) -> dict[str, Any]:
    # The newest calls are due, a few lie at a berth, the others have left.
    age = calls - number
    status = (
        "due"
        if age < 60
        else "berthed"
        if age < 90
        else "cancelled"
        if dice.random() < 0.03
        else "departed"
    )
    eta = NOW + timedelta(minutes=(60 - age) * 47)
    return {
        "vessel_id": dice.randint(1, vessels),
        "berth_id": dice.choice([None, *range(1, 23)]),
        "eta": eta,
        "etd": eta + timedelta(hours=dice.randint(6, 70)),
        "status": status,
        "draught_m": dice.uniform(3, 16),
        "agent": f"{dice.choice(FIRST)} Agency",
    }


def _job(number: int, dice: random.Random, vessels: int, calls: int) -> dict[str, Any]:
    return {
        "port_call_id": 1 + (number * 2 // 3 - 1) % calls,
        "tug_id": dice.randint(1, 16),
        "pilot_id": dice.randint(1, 30),
        "starts_at": NOW + timedelta(minutes=number - 40000),
        "minutes": dice.randint(20, 150),
    }


def _inspection(number: int, dice: random.Random, vessels: int, calls: int) -> dict[str, Any]:
    return {
        "port_call_id": dice.randint(1, calls),
        "inspected_at": NOW - timedelta(minutes=number * 31),
        "inspector": f"{dice.choice(FIRST)} {dice.choice('ABCDEFGH')}.",
        "verdict": dice.choice(["clear", "detained", "noted"]),
        "report": " ".join(dice.choices(SENTENCES, k=60)),
    }


def _log(number: int, dice: random.Random, vessels: int, calls: int) -> dict[str, Any]:
    kind, last = (("vessel", vessels), ("tug", 16), ("pilot", 30), ("berth", 24))[number * 7 % 4]
    return {
        "subject_type": kind,
        "subject_id": 1 + number * 13 % last,
        "written_at": NOW - timedelta(minutes=number),
        "text": SENTENCES[number % len(SENTENCES)],
    }


# Some calls are larger than others: forty that left lately had more tugs, and carry much.
LARGE: dict[type[models.Base], Any] = {
    models.TugJob: lambda n, c: {
        "port_call_id": c - 100 - n % 40,
        "tug_id": 1 + n % 16,
        "pilot_id": 1 + n % 30,
        "starts_at": NOW - timedelta(minutes=n),
        "minutes": 20 + n % 100,
    },
    models.ManifestLine: lambda n, c: {
        "port_call_id": c - 100 - n % 40,
        "goods": GOODS[n % len(GOODS)],
        "weight_kg": 100 + n,
        "hazard": None,
    },
}
EXTRA = {models.TugJob: 40 * 3, models.ManifestLine: 40 * 12}

MAKERS: dict[type[models.Base], Any] = {
    models.Vessel: _vessel,
    models.Berth: lambda n, dice, v, c: {
        "name": f"Quay {n}",
        "length_m": dice.uniform(90, 400),
        "depth_m": dice.uniform(5, 17),
    },
    models.PortCall: _call,
    models.Pilot: lambda n, dice, v, c: {
        "name": f"Pilot {dice.choice(SECOND)} {n}",
        "licence": f"L{n:03d}",
    },
    models.Tug: lambda n, dice, v, c: {
        "name": f"{dice.choice(FIRST)} Tug {n}",
        "bollard_pull_t": dice.randint(30, 90),
    },
    models.TugJob: _job,
    models.ManifestLine: lambda n, dice, v, c: {
        "port_call_id": 1 + n % c,
        "goods": dice.choice(GOODS),
        "weight_kg": dice.randint(100, 90000),
        "hazard": dice.choice([None, None, None, "flammable"]),
    },
    models.Inspection: _inspection,
    models.Tariff: lambda n, dice, v, c: {
        "name": ["anchorage", "pilotage", "towage", "quay dues"][n - 1],
        "rate": n * 12.5,
    },
    models.LogEntry: _log,
    models.Clearance: lambda n, dice, v, c: {
        "port_call_id": dice.randint(1, c),
        "state": dice.choice(["asked", "granted"]),
        "requested_at": NOW,
    },
}

SIZES = {
    models.Vessel: 4000, models.Berth: 24, models.PortCall: 30000, models.Pilot: 30, models.Tug: 16,
    models.TugJob: 45000, models.ManifestLine: 60000, models.Inspection: 3000, models.Tariff: 4,
    models.Clearance: 2000, models.LogEntry: 400,
}  # fmt: skip
FIXED = {models.Berth, models.Pilot, models.Tug, models.Tariff, models.LogEntry}


def fill(engine: Engine, scale: int = 10, seed: int = 1123) -> None:
    """Create the tables and fill them. `scale` is in tenths of the full size."""
    models.Base.metadata.create_all(engine)
    dice = random.Random(seed)
    with engine.begin() as connection:
        for model, size in SIZES.items():
            count = size if model in FIXED else size * scale // 10
            created = list(rows(model, count, dice, scale))
            for start in range(0, len(created), 5000):
                connection.execute(insert(model), created[start : start + 5000])
