"""The same pages after the advice was taken. What they give is unchanged."""

from __future__ import annotations

from typing import Any

import customs
from grown import SUBJECTS, tariff_rate, vessel
from models import (
    STATUSES,
    Berth,
    Clearance,
    Inspection,
    LogEntry,
    ManifestLine,
    PortCall,
    TugJob,
    Vessel,
)
from sqlalchemy import func, insert, select, update
from sqlalchemy.orm import Session, joinedload, load_only, selectinload

__all__ = [
    "berth_board", "busiest", "calls_due", "check_manifest", "clear", "files", "history",
    "inspections", "log", "one_call", "statistics", "vessel", "vessels",
]  # fmt: skip


def calls_due(session: Session, first: int) -> list[PortCall]:
    due = select(PortCall).where(PortCall.status == "due").order_by(PortCall.eta).limit(first)
    due = due.options(
        joinedload(PortCall.vessel),
        selectinload(PortCall.tug_jobs).selectinload(TugJob.tug),
    )
    return list(session.scalars(due))


def one_call(session: Session, number: int) -> dict[str, Any]:
    call = session.get_one(PortCall, number)
    hours = (call.etd - call.eta).total_seconds() / 3600
    rate = tariff_rate(session, "quay dues")
    return {
        "call": call,
        "bill": {"alongside": hours * rate, "turning": 2 * rate, "surcharge": 0.1 * rate},
    }


def berth_board(session: Session) -> list[tuple[Berth, int]]:
    # An outer join, so that a berth without calls stays, with 0.
    counted = (
        select(Berth, func.count(PortCall.id))
        .outerjoin(Berth.calls)
        .group_by(Berth.id)
        .order_by(Berth.id)
    )
    return [(berth, calls) for berth, calls in session.execute(counted)]


def statistics(session: Session) -> dict[str, int]:
    # A status that no call has is missing from the groups: it must stay, with 0.
    counted = select(PortCall.status, func.count()).group_by(PortCall.status)
    counts = dict(session.execute(counted).tuples().all())
    return {status: counts.get(status, 0) for status in STATUSES}


def inspections(session: Session) -> list[Inspection]:
    latest = select(Inspection).order_by(Inspection.inspected_at.desc()).limit(50)
    wanted = load_only(
        Inspection.port_call_id, Inspection.inspected_at, Inspection.inspector, Inspection.verdict
    )
    return list(session.scalars(latest.options(wanted)))


def vessels(session: Session, after: int) -> list[Vessel]:
    return list(
        session.scalars(select(Vessel).where(Vessel.id > after).order_by(Vessel.id).limit(50))
    )


def files(session: Session, first: int, last: int) -> list[PortCall]:
    calls = select(PortCall).where(PortCall.id.between(first, last)).order_by(PortCall.id)
    apart = calls.options(selectinload(PortCall.tug_jobs), selectinload(PortCall.manifest_lines))
    return list(session.scalars(apart))


def busiest(session: Session) -> list[tuple[Vessel, int]]:
    # Counted once for all vessels; those without calls stay, with 0.
    calls = (
        select(PortCall.vessel_id, func.count().label("calls"))
        .group_by(PortCall.vessel_id)
        .subquery()
    )
    counted = select(Vessel, func.coalesce(calls.c.calls, 0)).outerjoin(
        calls, calls.c.vessel_id == Vessel.id
    )
    listed = counted.where(Vessel.flag == "NO").order_by(Vessel.id).limit(40)
    return [(vessel, number) for vessel, number in session.execute(listed)]


def history(session: Session, page: int, after: int) -> list[PortCall]:
    return list(
        session.scalars(select(PortCall).where(PortCall.id > after).order_by(PortCall.id).limit(50))
    )


def clear(session: Session, number: int) -> Clearance:
    # Two short transactions: no one waits while customs think about it.
    session.execute(update(Clearance).where(Clearance.id == number).values(state="asked"))
    session.commit()
    answer = customs.ask(number)
    session.execute(update(Clearance).where(Clearance.id == number).values(state=answer))
    session.commit()
    return session.get_one(Clearance, number)


def check_manifest(session: Session, number: int, goods: list[str]) -> int:
    lines = select(ManifestLine.goods).where(
        ManifestLine.port_call_id == number, ManifestLine.goods.in_(goods)
    )
    known = set(session.scalars(lines))
    missing = [name for name in dict.fromkeys(goods) if name not in known]
    if missing:
        rows = [
            {"port_call_id": number, "goods": name, "weight_kg": 0, "hazard": None}
            for name in missing
        ]
        session.execute(insert(ManifestLine), rows)
    session.rollback()
    return len(missing)


def log(session: Session) -> list[tuple[LogEntry, str]]:
    entries = session.scalars(select(LogEntry).order_by(LogEntry.id).limit(60)).all()
    names: dict[tuple[str, int], str] = {}
    for kind, model in SUBJECTS.items():
        wanted = {entry.subject_id for entry in entries if entry.subject_type == kind}
        rows = session.execute(select(model.id, model.name).where(model.id.in_(wanted)))
        names |= {(kind, key): name for key, name in rows}
    return [(entry, names[entry.subject_type, entry.subject_id]) for entry in entries]
