"""A capture for other programs: Parquet files, spans of OpenTelemetry. One reading, in memory that
does not grow with it.
"""

from __future__ import annotations

import http.client
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from askless.core.errors import AskLessError
from askless.core.findings.finding import Finding
from askless.core.formatting import plural
from askless.core.progress import Progress, quiet
from askless.output.columnar import ParquetFolder
from askless.reports import columns
from askless.reports.columns import TimedRequest

_TELL_EVERY = 2_000  # requests


def parquet(
    capture: Path, folder: Path, values: bool = False, progress: Progress = quiet
) -> dict[str, int]:
    """Write requests, queries, shapes and call sites into a folder; how many rows of each.

    The files are in the folder once all are whole. Raises AskLessError: columns-extra-missing,
    file-unwritable, and see the reading of captures.
    """
    totals = columns.Totals(values)
    counts = dict.fromkeys(("requests", "queries", "shapes", "call_sites"), 0)
    kinds: tuple[type[msgspec.Struct], ...] = (
        columns.RequestRecord,
        columns.QueryRecord,
        columns.ShapeRecord,
        columns.CallSiteRecord,
    )
    with ParquetFolder(folder) as target:
        for name, kind in zip(counts, kinds, strict=True):
            target.open(name, kind)
        for one in columns.arrived(capture):
            target.add("requests", [columns.request_record(one, values)])
            target.add("queries", columns.query_records(one.request, values))
            totals.add(one.request)
            counts["requests"] += 1
            counts["queries"] += len(one.request)
            if counts["requests"] % _TELL_EVERY == 0:
                progress(f"wrote {plural(counts['requests'], 'request')}")
        shapes, places = list(totals.shapes()), list(totals.places())
        target.add("shapes", shapes)
        target.add("call_sites", places)
        counts |= {"shapes": len(shapes), "call_sites": len(places)}
    return counts


_TOGETHER = 40  # requests of one payload
_TRIES, _WAIT_S = 5, 1.0
_WAIT_MOST_S = 60.0


def otlp(capture: Path, target: str, values: bool = False, progress: Progress = quiet) -> int:
    """Write a capture as spans, findings as events: into a file of JSON lines, or to an endpoint of
    OTLP/HTTP. How many requests.

    A file is whole, or as it was before. Raises AskLessError: file-unwritable, endpoint-refused,
    and see the reading of captures.
    """
    from askless.output.otlp import payload
    from askless.reports.findings import findings

    by_route: dict[str, list[Finding]] = {}
    for finding in findings(capture, values=values).findings:
        by_route.setdefault(finding.route, []).append(finding)
    count = 0
    is_endpoint = target.startswith(("http://", "https://"))
    with _posted(target) if is_endpoint else _written(Path(target)) as give:
        for together in _batches(columns.arrived(capture)):
            give(payload(together, by_route, together[0].program or capture.name, values))
            count += len(together)
            progress(f"wrote {plural(count, 'request')}")
    return count


def _batches(arriving: Iterable[TimedRequest]) -> Iterator[list[TimedRequest]]:
    """Requests of one program, some at a time."""
    together: list[TimedRequest] = []
    for one in arriving:
        if together and (len(together) >= _TOGETHER or one.program != together[0].program):
            yield together
            together = []
        together.append(one)
    if together:
        yield together


@contextmanager
def _written(path: Path) -> Iterator[Callable[[bytes], None]]:
    from askless.output.delivery import whole_file

    with whole_file(path) as stream:

        def give(content: bytes) -> None:
            stream.write(content + b"\n")

        yield give


@contextmanager
def _posted(url: str) -> Iterator[Callable[[bytes], None]]:
    address = url if url.rstrip("/").endswith("/v1/traces") else url.rstrip("/") + "/v1/traces"

    def give(content: bytes) -> None:
        for turn in range(1, _TRIES + 1):
            try:
                request = urllib.request.Request(
                    address, content, {"Content-Type": "application/json"}
                )
                with urllib.request.urlopen(request, timeout=30):
                    return
            except urllib.error.HTTPError as error:
                if error.code not in (429, 502, 503, 504) or turn == _TRIES:
                    raise _refused(address, f"it answered {error.code} {error.reason}") from None
                time.sleep(_wait_s(error.headers.get("Retry-After")))
            except (OSError, http.client.HTTPException, ValueError) as error:
                raise _refused(address, str(getattr(error, "reason", error))) from None

    yield give


def _wait_s(header: str | None) -> float:
    """How long to wait, as a server asks for it: seconds, within reason; a date is not read."""
    return (
        min(float(header), _WAIT_MOST_S)
        if header and header.isascii() and header.isdigit()
        else _WAIT_S
    )


def _refused(address: str, why: str) -> AskLessError:
    return AskLessError(
        "endpoint-refused",
        f"{address} does not accept spans: {why}",
        "name an OTLP/HTTP endpoint such as http://127.0.0.1:4318, or a file",
    )
