"""The same pages after the advice was taken. What they give is unchanged."""

from __future__ import annotations

from typing import Any

from grown import tariff_rate, vessel
from models import STATUSES, Berth, Inspection, PortCall, TugJob, Vessel
from sqlalchemy import func, select
from sqlalchemy.orm import Session, joinedload, load_only, selectinload

__all__ = ["berth_board", "calls_due", "inspections", "one_call", "statistics", "vessel", "vessels"]


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
    return {"call": call, "bill": {"alongside": hours * rate, "turning": 2 * rate, "surcharge": 0.1 * rate}}


def berth_board(session: Session) -> list[tuple[Berth, int]]:
    # An outer join, so that a berth without calls stays, with 0.
    counted = select(Berth, func.count(PortCall.id)).outerjoin(Berth.calls).group_by(Berth.id).order_by(Berth.id)
    return [(berth, calls) for berth, calls in session.execute(counted)]


def statistics(session: Session) -> dict[str, int]:
    # A status that no call has is missing from the groups: it must stay, with 0.
    counted = select(PortCall.status, func.count()).group_by(PortCall.status)
    found = dict(session.execute(counted).tuples().all())
    return {status: found.get(status, 0) for status in STATUSES}


def inspections(session: Session) -> list[Inspection]:
    latest = select(Inspection).order_by(Inspection.inspected_at.desc()).limit(50)
    wanted = load_only(Inspection.port_call_id, Inspection.inspected_at, Inspection.inspector, Inspection.verdict)
    return list(session.scalars(latest.options(wanted)))


def vessels(session: Session, after: int) -> list[Vessel]:
    return list(session.scalars(select(Vessel).where(Vessel.id > after).order_by(Vessel.id).limit(50)))
