"""The harbour office's models on SQLModel."""

from typing import Optional

from sqlmodel import Column, Field, Relationship, SQLModel, String, Text


class TugJob(SQLModel, table=True):
    __tablename__ = "tug_job"
    id: int = Field(primary_key=True)
    port_call_id: int = Field(foreign_key="port_call.id")
    tug_id: int = Field(foreign_key="tug.id")
    call: "PortCall" = Relationship(back_populates="tug_jobs")
    tug: "Tug" = Relationship()


class Vessel(SQLModel, table=True):
    __tablename__ = "vessel"
    id: int = Field(primary_key=True)
    name: str = Field(sa_column=Column(String(50)))
    flag: str = Field(sa_column=Column(String(5)))
    log: str = Field(sa_column=Column(Text))
    calls: list["PortCall"] = Relationship(
        back_populates="vessel", sa_relationship_kwargs={"order_by": "PortCall.id"}
    )


class Tug(SQLModel, table=True):
    __tablename__ = "tug"
    id: int = Field(primary_key=True)
    name: str = Field(sa_column=Column(String(50)))


class PortCall(SQLModel, table=True):
    __tablename__ = "port_call"
    id: int = Field(primary_key=True)
    vessel_id: Optional[int] = Field(default=None, foreign_key="vessel.id")
    status: str = Field(sa_column=Column(String(20)))
    agent: str = Field(sa_column=Column(String(50)))
    vessel: Optional[Vessel] = Relationship(back_populates="calls")
    tug_jobs: list[TugJob] = Relationship(
        back_populates="call", sa_relationship_kwargs={"order_by": "TugJob.id"}
    )
    tugs: list[Tug] = Relationship(
        sa_relationship_kwargs={
            "secondary": "tug_job",
            "viewonly": True,
            "order_by": "Tug.id",
            "overlaps": "call,tug,tug_jobs",
        }
    )


METADATA = SQLModel.metadata
