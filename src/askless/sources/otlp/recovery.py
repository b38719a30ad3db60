"""Puts into a capture what a receiver had acknowledged and had not written when it was killed, or
when its disk was full.
"""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path

import msgspec

from askless.capture.events import Close
from askless.capture.reading import Reader, header_of
from askless.core.errors import AskLessError
from askless.core.json_encoding import encoded
from askless.core.records.sampling import SamplingRules
from askless.sources.attribution.grouper import GroupingOptions
from askless.sources.otlp import journal
from askless.sources.otlp.decoding import Malformed, Spans, spans_of_json, spans_of_protobuf
from askless.sources.otlp.services import Services
from askless.sources.otlp.trace_assembly import Traces

_QUIET = 1_000  # payloads after which a trace is put together of which none came


class _Options(msgspec.Struct, array_like=True):
    """As `Apart` is written: files that named requests were read when the receiver ended, and are
    not read again.
    """

    way: str
    pause_ms: float
    visits: bool
    marks: str
    log: str
    sparing: SamplingRules


def recover(folder: Path) -> int:
    """Add what journals hold, and remove them; the number of spans. Nothing is added twice.

    Raises AskLessError not-recovered, if what they hold can't be written: they stay as they are
    then.
    """
    return sum(_recover(folder, segments) for segments in journal.left_in(folder))


def _recover(folder: Path, segments: Sequence[Path]) -> int:
    done: set[bytes] = set()
    sizes: dict[str, int] = {}
    options = _Options(*GroupingOptions())
    try:
        for kind, data in journal.records(segments):
            if kind == journal.STATE:
                state = msgspec.json.decode(data, type=journal.State)
                done |= set(map(bytes.fromhex, state.traces))
                sizes = state.sizes
            elif kind == journal.OPTIONS:
                options = msgspec.json.decode(data, type=_Options)
        _cut(folder, segments, sizes)
        apart = GroupingOptions(options.way, options.pause_ms, False, "", "", options.sparing)
        services = Services(folder, apart, f"recovered-{segments[0].name.split('-')[1]}-")
        traces = Traces(services.target, _QUIET, _QUIET)
        for number, (kind, data) in enumerate(journal.records(segments)):
            if kind in (journal.PROTOBUF, journal.JSON):
                spans = _spans(kind, data)
                traces.add([span for span in spans.spans if span.trace not in done], number, number)
                traces.settle(number)
        traces.close()
        services.close(traces)
        for name in sizes:
            _end(folder / name)
    except (OSError, msgspec.DecodeError, ValueError) as error:
        raise AskLessError(
            "not-recovered",
            f"{segments[0]}: spans that a killed receiver had acknowledged can't be added to the "
            f"capture: {error}",
            "free disk space and read it again, or delete the file to give up these spans",
        ) from None
    for path in segments:
        path.unlink(missing_ok=True)
    return traces.spans


def _spans(kind: bytes, data: bytes) -> Spans:
    try:
        return spans_of_protobuf(data) if kind == journal.PROTOBUF else spans_of_json(data)
    except Malformed:
        return Spans([])


def _cut(folder: Path, segments: Sequence[Path], sizes: dict[str, int]) -> None:
    """Take from the receiver's files what was written after it last noted their sizes, and files
    that are newer.
    """
    process = segments[0].name.split("-")[1]
    for path in folder.glob(f"recovered-{process}-*.jsonl"):
        path.unlink()  # of a recovery that was itself ended
    turns = dict(map(_turn_of, sizes))
    for path in folder.glob("*.askless.jsonl"):
        service, turn = _turn_of(path.name)
        if path.name in sizes:
            if path.stat().st_size > sizes[path.name]:
                os.truncate(path, sizes[path.name])
        elif turn > turns.get(service, -1) and _is_of(path, int(process)):
            path.unlink()


def _end(path: Path) -> None:
    """Write the last line of a file that was cut: nothing of it is missing now."""
    if not path.is_file():
        return
    reader = Reader(path)
    for _ in reader:
        pass
    if not reader.report.closed:
        with open(os.open(path, os.O_WRONLY | os.O_APPEND | os.O_NOFOLLOW), "ab") as file:
            file.write(encoded(Close(reader.report.requests, reader.report.queries)) + b"\n")


def _turn_of(name: str) -> tuple[str, int]:
    """The service that a file is of, and which of its files it is."""
    stem = name.removesuffix(".askless.jsonl")
    match = re.fullmatch(r"(.*)-(\d{6})", stem)
    return (match[1], int(match[2])) if match else (stem, 0)


def _is_of(path: Path, process: int) -> bool:
    """Whether a file is one that this receiver has written."""
    header = header_of(path)
    return header is None or (header.pid == process and header.recorder == "traces")
