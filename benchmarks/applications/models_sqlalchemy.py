"""The harbour office's models on SQLAlchemy."""

from __future__ import annotations

from sqlalchemy import ForeignKey, String, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


class Base(DeclarativeBase):
    pass


class Vessel(Base):
    __tablename__ = "vessel"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(50))
    flag: Mapped[str] = mapped_column(String(5))
    log: Mapped[str] = mapped_column(Text)
    calls: Mapped[list[PortCall]] = relationship(back_populates="vessel", order_by="PortCall.id")


class Tug(Base):
    __tablename__ = "tug"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(50))


class PortCall(Base):
    __tablename__ = "port_call"
    id: Mapped[int] = mapped_column(primary_key=True)
    vessel_id: Mapped[int | None] = mapped_column(ForeignKey("vessel.id"))
    status: Mapped[str] = mapped_column(String(20))
    agent: Mapped[str] = mapped_column(String(50))
    vessel: Mapped[Vessel | None] = relationship(back_populates="calls")
    tug_jobs: Mapped[list[TugJob]] = relationship(back_populates="call", order_by="TugJob.id")
    tugs: Mapped[list[Tug]] = relationship(secondary="tug_job", viewonly=True, order_by="Tug.id")


class TugJob(Base):
    __tablename__ = "tug_job"
    id: Mapped[int] = mapped_column(primary_key=True)
    port_call_id: Mapped[int] = mapped_column(ForeignKey("port_call.id"))
    tug_id: Mapped[int] = mapped_column(ForeignKey("tug.id"))
    call: Mapped[PortCall] = relationship(back_populates="tug_jobs")
    tug: Mapped[Tug] = relationship()


METADATA = Base.metadata
