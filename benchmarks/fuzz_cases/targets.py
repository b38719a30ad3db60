"""Every reader of input, as a function of bytes. What raises AskLessError has refused its input, as
it should.
"""

from __future__ import annotations

import shutil
import socket
from collections.abc import Callable
from functools import partial
from pathlib import Path

from askless.capture import checking
from askless.core.errors import AskLessError
from askless.sources import Reporter
from askless.sources.attribution.grouper import GroupingOptions
from askless.sources.logs import reader as log_reader
from askless.sources.logs.presets import PRESETS
from askless.sources.otlp import runner
from askless.sources.packets import reader as packet_reader

_VOICE = Reporter(lambda _: None, lambda _: None)
Target = Callable[[bytes, Path], object]


def _into(folder: Path) -> Path:
    """A fresh folder for a capture."""
    out = folder / "out"
    shutil.rmtree(out, ignore_errors=True)
    out.mkdir()
    return out


def _read_back(out: Path) -> None:
    """What was recorded can be read, and reported on."""
    files = list(out.glob("*.jsonl"))
    if files:
        checking.check(out)
        _report(out)


def _report(path: Path) -> None:
    from askless.core.analysis.pipeline import judgement_of
    from askless.project.file import Project
    from askless.reports.loading import load

    summary, _ = load(path, project=Project())
    judgement_of(summary, None)


def capture(data: bytes, folder: Path) -> None:
    """A capture file: checked, added up, judged."""
    file = folder / "capture.jsonl"
    file.write_bytes(data)
    checking.check(file)
    _report(file)


def log(name: str, data: bytes, folder: Path) -> None:
    """A log in a format, and what is recorded of it."""
    file = folder / "a.log"
    file.write_bytes(data)
    out = _into(folder)
    wish = log_reader.LogOptions(
        name, "%m [%p] " if name == "postgresql" else "", False, GroupingOptions(), PRESETS
    )
    try:
        log_reader.read([file], wish, out, _VOICE)
    finally:
        _read_back(out)


def otlp(ending: str, data: bytes, folder: Path) -> None:
    """A file of spans, and what is recorded of it."""
    file = folder / f"spans.{ending}"
    file.write_bytes(data)
    out = _into(folder)
    try:
        runner.read([file], out, GroupingOptions(), _VOICE)
    finally:
        _read_back(out)


def packets(system: str, data: bytes, folder: Path) -> None:
    """A file of packets, and what is recorded of it."""
    file = folder / "a.pcap"
    file.write_bytes(data)
    out = _into(folder)
    try:
        packet_reader.read([file], packet_reader.server_of(system), out, GroupingOptions(), _VOICE)
    finally:
        _read_back(out)


def plans(data: bytes, folder: Path) -> None:
    """A saved plan."""
    from askless.reports import plan

    plan.saved(data.decode("utf-8", "replace"), "plan")


def project(data: bytes, folder: Path) -> None:
    """An askless.toml."""
    from askless.project import file

    path = folder / "askless.toml"
    path.write_bytes(data)
    file.read(path)


def schema(data: bytes, folder: Path) -> None:
    """A file of tables."""
    from askless.reports.loading import schema_file

    path = folder / "tables.json"
    path.write_bytes(data)
    schema_file(path)


def sql(data: bytes, folder: Path) -> None:
    """A statement, by every system: its shape, slots, structure, masking, credentials, kind."""
    from askless.core.sql import (
        credentials,
        functions,
        masking,
        shape,
        slots,
        statements,
        structure_store,
    )

    text = data.decode("utf-8", "surrogateescape" if data[:1] == b"\\" else "replace")
    for system in ("postgresql", "mariadb", "sqlite"):
        shape.shape_text(text, system)
        for slot in slots.slots_of(text, system):
            slots.literal_value(slot.text)
        structure_store.structure_of(text, system)
        masking.masked(text, system)
        functions.functions_in(text, system)
        for check in (
            statements.checked_select,
            statements.checked_plannable,
            statements.index_parts,
        ):
            try:
                check(text, system)
            except AskLessError:
                continue
    credentials.cleaned(text)


def parameters(data: bytes, folder: Path) -> None:
    """What --parameters takes, bound to a statement."""
    from askless.database.driver_query import bound
    from askless.reports.statement_selection import parse_parameters

    values, names = parse_parameters(data.decode("utf-8", "replace"))
    bound("SELECT * FROM vessel WHERE id IN (?, ?, ?)", "sqlite", values, names, "qmark")


_getaddrinfo = socket.getaddrinfo


def url(data: bytes, folder: Path) -> None:
    """URLs: of a database, of a relay's server, of a page, of packets' server."""
    from askless.database.connecting import parse_url, shown
    from askless.sources.programs import page_visits
    from askless.sources.relay.options import _server

    text = data.decode("utf-8", "replace").replace("\x00", "")
    # Made-up hosts are encoded as any, and not looked up.
    socket.getaddrinfo = partial(_getaddrinfo, flags=socket.AI_NUMERICHOST)
    for read in (lambda: shown(parse_url(text)), lambda: _server(text), lambda: packet_reader.server_of(text), lambda: page_visits.check_visits({"visit": [text], "program": ["true"], "repeat": 1, "warm_up": None, "files": []})):  # fmt: skip
        try:
            read()
        except AskLessError:
            continue


TARGETS: dict[str, Target] = {
    "capture": capture,
    **{f"log-{name}": partial(log, name) for name in ("postgresql", "postgresql-csv", "postgresql-json", "mariadb-general", "mariadb-slow", "activerecord", "hibernate")},
    "otlp-json": partial(otlp, "jsonl"), "otlp-protobuf": partial(otlp, "pb"), "otlp-gzip": partial(otlp, "gz"),
    "packets-pg": partial(packets, "postgresql://127.0.0.1"), "packets-mysql": partial(packets, "mysql://127.0.0.1"),
    "plans": plans, "project": project, "schema": schema, "sql": sql, "parameters": parameters, "url": url,
}  # fmt: skip
