"""The original pages. Each wastes queries in its own way."""

from __future__ import annotations

from typing import Any

import customs
from models import (
    STATUSES,
    Berth,
    Clearance,
    Inspection,
    LogEntry,
    ManifestLine,
    Pilot,
    PortCall,
    Tariff,
    Tug,
    Vessel,
)
from sqlalchemy import func, select, update
from sqlalchemy.orm import Session, joinedload


def calls_due(session: Session, first: int) -> list[PortCall]:
    # The template goes on to call.vessel, call.tug_jobs and job.tug: one query each, row by row.
    due = select(PortCall).where(PortCall.status == "due").order_by(PortCall.eta).limit(first)
    return list(session.scalars(due))


def tariff_rate(session: Session, name: str) -> float:
    return session.execute(select(Tariff.rate).where(Tariff.name == name)).scalar_one()


def one_call(session: Session, number: int) -> dict[str, Any]:
    call = session.get_one(PortCall, number)
    hours = (call.etd - call.eta).total_seconds() / 3600
    # The same tariff is looked up for each line of the bill.
    bill = {
        "alongside": hours * tariff_rate(session, "quay dues"),
        "turning": 2 * tariff_rate(session, "quay dues"),
        "surcharge": 0.1 * tariff_rate(session, "quay dues"),
    }
    return {"call": call, "bill": bill}


def berth_board(session: Session) -> list[tuple[Berth, int]]:
    board = []
    for berth in session.scalars(select(Berth).order_by(Berth.id)):
        calls = session.scalar(
            select(func.count()).select_from(PortCall).where(PortCall.berth_id == berth.id)
        )
        board.append((berth, calls or 0))
    return board


def statistics(session: Session) -> dict[str, int]:
    # One count for each status, one after the other.
    counts = {}
    for status in STATUSES:
        calls = select(func.count()).select_from(PortCall).where(PortCall.status == status)
        counts[status] = session.scalar(calls) or 0
    return counts


def inspections(session: Session) -> list[Inspection]:
    # The list shows no report, but each one comes along.
    return list(
        session.scalars(select(Inspection).order_by(Inspection.inspected_at.desc()).limit(50))
    )


def vessels(session: Session, after: int) -> list[Vessel]:
    # The page shows fifty; the rest is cut off in Python.
    everything = list(session.scalars(select(Vessel).order_by(Vessel.id)))
    return [vessel for vessel in everything if vessel.id > after][:50]


def vessel(session: Session, call_sign: str) -> dict[str, Any]:
    row = session.scalars(select(Vessel).where(Vessel.call_sign == call_sign)).one()
    latest = (
        select(PortCall).where(PortCall.vessel_id == row.id).order_by(PortCall.eta.desc()).limit(5)
    )
    return {"vessel": row, "calls": list(session.scalars(latest))}


def files(session: Session, first: int, last: int) -> list[PortCall]:
    # Each of a call's tug jobs comes with each line of its manifest.
    calls = select(PortCall).where(PortCall.id.between(first, last)).order_by(PortCall.id)
    both = calls.options(joinedload(PortCall.tug_jobs), joinedload(PortCall.manifest_lines))
    return list(session.scalars(both).unique())


def busiest(session: Session) -> list[tuple[Vessel, int]]:
    # The calls are counted again for each vessel of the list.
    calls = select(func.count()).where(PortCall.vessel_id == Vessel.id).scalar_subquery()
    counted = (
        select(Vessel, calls.label("calls"))
        .where(Vessel.flag == "NO")
        .order_by(Vessel.id)
        .limit(40)
    )
    return [(vessel, calls) for vessel, calls in session.execute(counted)]


def history(session: Session, page: int, after: int) -> list[PortCall]:
    # All rows of the pages before are read and thrown away.
    return list(session.scalars(select(PortCall).order_by(PortCall.id).limit(50).offset(50 * page)))


def clear(session: Session, number: int) -> Clearance:
    # The office's whole database waits while customs think about it.
    session.execute(update(Clearance).where(Clearance.id == number).values(state="asked"))
    answer = customs.ask(number)
    session.execute(update(Clearance).where(Clearance.id == number).values(state=answer))
    session.commit()
    return session.get_one(Clearance, number)


def check_manifest(session: Session, number: int, goods: list[str]) -> int:
    # Looks for each line, and writes those that are missing; nothing is kept, it is only a check.
    missing = 0
    for name in goods:
        line = select(ManifestLine).where(
            ManifestLine.port_call_id == number, ManifestLine.goods == name
        )
        if session.scalars(line.limit(1)).first() is None:
            session.add(ManifestLine(port_call_id=number, goods=name, weight_kg=0, hazard=None))
            session.flush()
            missing += 1
    session.rollback()
    return missing


SUBJECTS: dict[str, Any] = {"vessel": Vessel, "tug": Tug, "pilot": Pilot, "berth": Berth}


def log(session: Session) -> list[tuple[LogEntry, str]]:
    # Whatever an entry is about is looked up by itself.
    entries = session.scalars(select(LogEntry).order_by(LogEntry.id).limit(60))
    return [
        (entry, session.get_one(SUBJECTS[entry.subject_type], entry.subject_id).name)
        for entry in entries
    ]
