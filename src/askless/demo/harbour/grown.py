"""The pages as they grew. Each asks too much, in a way of its own."""

from __future__ import annotations

from typing import Any

from models import STATUSES, Berth, Inspection, PortCall, Tariff, Vessel
from sqlalchemy import func, select
from sqlalchemy.orm import Session


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
        calls = session.scalar(select(func.count()).select_from(PortCall).where(PortCall.berth_id == berth.id))
        board.append((berth, calls or 0))
    return board


def statistics(session: Session) -> dict[str, int]:
    # One count for each status, one after the other.
    found = {}
    for status in STATUSES:
        calls = select(func.count()).select_from(PortCall).where(PortCall.status == status)
        found[status] = session.scalar(calls) or 0
    return found


def inspections(session: Session) -> list[Inspection]:
    # The list shows no report, but each one comes along.
    return list(session.scalars(select(Inspection).order_by(Inspection.inspected_at.desc()).limit(50)))


def vessels(session: Session, after: int) -> list[Vessel]:
    # The page shows fifty; the rest is cut off in Python.
    everything = list(session.scalars(select(Vessel).order_by(Vessel.id)))
    return [vessel for vessel in everything if vessel.id > after][:50]


def vessel(session: Session, call_sign: str) -> dict[str, Any]:
    found = session.scalars(select(Vessel).where(Vessel.call_sign == call_sign)).one()
    latest = select(PortCall).where(PortCall.vessel_id == found.id).order_by(PortCall.eta.desc()).limit(5)
    return {"vessel": found, "calls": list(session.scalars(latest))}
