"""The harbour office's tables, as SQLAlchemy models."""

from __future__ import annotations

from datetime import datetime
from typing import ClassVar

from sqlalchemy import ForeignKey, String, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


class Base(DeclarativeBase):
    # MariaDB wants to know how long a text may be.
    type_annotation_map: ClassVar = {str: String(120)}


STATUSES = ("due", "berthed", "departed", "cancelled", "waiting")


class Vessel(Base):
    __tablename__ = "vessel"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    call_sign: Mapped[str]
    flag: Mapped[str]
    length_m: Mapped[float]
    gross_tonnage: Mapped[int]
    owner: Mapped[str]
    calls: Mapped[list[PortCall]] = relationship(back_populates="vessel")


class Berth(Base):
    __tablename__ = "berth"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    length_m: Mapped[float]
    depth_m: Mapped[float]
    calls: Mapped[list[PortCall]] = relationship(back_populates="berth")


class PortCall(Base):
    __tablename__ = "port_call"

    id: Mapped[int] = mapped_column(primary_key=True)
    vessel_id: Mapped[int] = mapped_column(ForeignKey("vessel.id"))
    berth_id: Mapped[int | None] = mapped_column(ForeignKey("berth.id"), index=True)
    eta: Mapped[datetime]
    etd: Mapped[datetime]
    status: Mapped[str]
    draught_m: Mapped[float]
    agent: Mapped[str]
    vessel: Mapped[Vessel] = relationship(back_populates="calls")
    berth: Mapped[Berth | None] = relationship(back_populates="calls")
    tug_jobs: Mapped[list[TugJob]] = relationship(back_populates="port_call", order_by="TugJob.id")
    manifest_lines: Mapped[list[ManifestLine]] = relationship(order_by="ManifestLine.id")


class Pilot(Base):
    __tablename__ = "pilot"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    licence: Mapped[str]


class Tug(Base):
    __tablename__ = "tug"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    bollard_pull_t: Mapped[int]


class TugJob(Base):
    __tablename__ = "tug_job"

    id: Mapped[int] = mapped_column(primary_key=True)
    port_call_id: Mapped[int] = mapped_column(ForeignKey("port_call.id"), index=True)
    tug_id: Mapped[int] = mapped_column(ForeignKey("tug.id"))
    pilot_id: Mapped[int] = mapped_column(ForeignKey("pilot.id"))
    starts_at: Mapped[datetime]
    minutes: Mapped[int]
    port_call: Mapped[PortCall] = relationship(back_populates="tug_jobs")
    tug: Mapped[Tug] = relationship()
    pilot: Mapped[Pilot] = relationship()


class ManifestLine(Base):
    __tablename__ = "manifest_line"

    id: Mapped[int] = mapped_column(primary_key=True)
    port_call_id: Mapped[int] = mapped_column(ForeignKey("port_call.id"), index=True)
    goods: Mapped[str]
    weight_kg: Mapped[int]
    hazard: Mapped[str | None]


class Inspection(Base):
    __tablename__ = "inspection"

    id: Mapped[int] = mapped_column(primary_key=True)
    port_call_id: Mapped[int] = mapped_column(ForeignKey("port_call.id"), index=True)
    inspected_at: Mapped[datetime] = mapped_column(index=True)
    inspector: Mapped[str]
    verdict: Mapped[str]
    report: Mapped[str] = mapped_column(Text)


class Tariff(Base):
    __tablename__ = "tariff"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    rate: Mapped[float]


class Clearance(Base):
    __tablename__ = "clearance"

    id: Mapped[int] = mapped_column(primary_key=True)
    port_call_id: Mapped[int] = mapped_column(ForeignKey("port_call.id"), index=True)
    state: Mapped[str]
    requested_at: Mapped[datetime]


class LogEntry(Base):
    """A line of the office's log. Which table `subject_id` refers to, `subject_type` tells."""

    __tablename__ = "log_entry"

    id: Mapped[int] = mapped_column(primary_key=True)
    subject_type: Mapped[str]
    subject_id: Mapped[int]
    written_at: Mapped[datetime]
    text: Mapped[str]
