"""What most reports begin with: a capture added up, and the schema of a database or of a file."""

from __future__ import annotations

import gc
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, nullcontext
from pathlib import Path

import msgspec

from askless import executors
from askless.capture.partitions import Piece, pieces_of, read_piece, together
from askless.capture.reading import FileReport, read
from askless.core.aggregation.aggregator import SHAPES_MOST
from askless.core.aggregation.summary import TOTALS_MOST, Summary
from askless.core.analysis.pipeline import aggregator_of
from askless.core.errors import AskLessError
from askless.core.formatting import plural
from askless.core.records.model import LOOKED_MOST, Request
from askless.core.records.sampling import Counts, Evicted, untold
from askless.core.records.schema import Schema
from askless.core.settings import Settings
from askless.core.sql.structure_store import structure_of
from askless.project.file import Project, here
from askless.project.structure_cache import cached_structures
from askless.reports import documents
from askless.reports.document import VERSION

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.database.servers import Limits


def load(
    path: Path, settings: Settings | None = None, look: bool = True, project: Project | None = None
) -> tuple[Summary, tuple[str, ...]]:
    """A capture added up, and notes on what was odd about it. Without `look`, patterns are not
    looked for.

    `project` is what counts of the project's file; None reads the one of the working folder.
    """
    project = here() if project is None else project
    settings = settings or project.settings()
    pieces = pieces_of(path)
    job = _Job(project, settings.for_pieces(len(pieces)), look)
    files: list[FileReport] = []
    whole: Summary | None = None
    with cached_structures() if look else nullcontext():
        for summary, reports in executors.over(job.sum_up, pieces):
            files += reports
            if whole is None:
                whole = summary
            else:
                whole.merge(summary)
    assert whole is not None
    whole.settings = settings
    whole_files = together(files)
    whole.damage = damage_of(whole_files)
    return whole, (*notes_of(whole_files), *_lumped(whole))


def damage_of(files: Sequence[FileReport]) -> str:
    """What of a capture can't be read or was lost, and where it begins; '' where it is sound."""
    parts = []
    for file in files:
        if file.bad_lines:
            line, reason = file.bad_lines[0]
            more = f" of {plural(file.lines, 'line')} can't be read, the first is line {line}"
            parts.append(f"{file.path}: {len(file.bad_lines)}{more} ({reason})")
        if file.is_cut_short:
            parts.append(f"{file.path}: its reader ended before its input")
        parts += [f"{file.path}: {one.count} {one.what} lost ({one.reason})" for one in file.lost]
    return "; ".join(parts)


def refuse_damage(damage: str) -> None:
    """Raise AskLessError capture-damaged if there is some: what can't be read can't be judged."""
    if damage:
        raise AskLessError(
            "capture-damaged",
            f"not judged, the capture is incomplete: {damage}",
            "record again; or judge what can be read with --allow-damaged",
        )


def _lumped(summary: Summary) -> list[str]:
    """What is not distinguished in a summary, there being too much of it."""
    if not summary.lumped:
        return []
    return [
        f"{plural(summary.lumped, 'query')} of statements beyond the first {SHAPES_MOST:,} of a "
        f"route, or {TOTALS_MOST:,} of all routes, are added up together: nothing is found in "
        "them. Values in table names or in routes make so many"
    ]


# requests between two looks; parsed statements after which there is garbage
_COLLECT_EVERY, _PARSED_MOST = 64, 100


class _Job:
    """How partitions are added up, wherever that is."""

    def __init__(self, project: Project, settings: Settings, look: bool) -> None:
        self._project = project
        self._settings = settings
        self._look = look

    def sum_up(self, piece: Piece) -> tuple[Summary, list[FileReport]]:
        """The summary of a partition, and a report for each of its files. Raises AskLessError: see
        `read`.
        """
        reports: list[FileReport] = []
        aggregator = aggregator_of(self._settings, self._look)
        parsed = structure_of.cache_info().misses
        with cached_structures() if self._look else nullcontext(), _without_collector():
            for turn, request in enumerate(
                self._project.terms().applied(read_piece(piece, reports)), 1
            ):
                aggregator.add(request)
                if (
                    turn % _COLLECT_EVERY == 0
                    and structure_of.cache_info().misses - parsed > _PARSED_MOST
                ):
                    parsed = structure_of.cache_info().misses
                    gc.collect(1)
            return aggregator.finish(), reports


@contextmanager
def _without_collector() -> Iterator[None]:
    """Streams of short-lived containers trigger the cycle collector all the time and contain no
    cycles; parse trees do.
    """
    was_enabled = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_enabled:
            gc.enable()


def requests_of(path: Path, files: list[FileReport] | None = None) -> Iterator[Request]:
    """The requests of a capture, in the project's own terms. Raises AskLessError: see `read`, and
    project-file-bad.
    """
    return here().terms().applied(read(path, files))


def notes_of(files: list[FileReport]) -> tuple[str, ...]:
    """What a reader of a report should know of its capture, each thing once."""
    damage = damage_of(files)
    notes = [f"incomplete: {damage}"] if damage else []
    for file in files:
        notes += [f"{file.path.name}: {note}" for note in file.notes]
        if file.torn:
            notes.append(
                f"{file.path.name}: the last line is torn (a crash does that); everything before "
                "it counts"
            )
    return (*dict.fromkeys(notes), *left_out_of(files))


def _may_omit_more(file: FileReport) -> bool:
    """Whether requests may have been left out of which nothing is known yet."""
    return not file.closed and file.header is not None and file.header.omits


def _by_options(files: list[FileReport], counts: Counts) -> Iterator[str]:
    """What --sample, --min-duration and --max-queries omitted."""
    headers = [file.header for file in files if file.header is not None]
    rates = sorted({header.sample for header in headers if header.sample > 1})
    if rates:
        share = " or ".join(f"1 of {rate:,}" for rate in rates)
        yield (
            f"{share} requests was kept, by chance; {plural(counts.by_chance, 'other')} counted. "
            "Totals over the capture are "
            "scaled up to all of them: askless requests gives their error"
        )
    slower_ns = max((header.slower_ns for header in headers), default=0)
    if slower_ns:
        yield (
            f"{plural(counts.quick, 'request')} that took less than {slower_ns / 1e6:g} ms left "
            f"out, with {plural(counts.quick_queries, 'query')} of {counts.quick_ns / 1e6:,.0f} "
            "ms: counted in totals; all else is of the slow ones"
        )
    unclosed = sum(map(_may_omit_more, files))
    if unclosed:
        yield f"{plural(unclosed, 'recorder')} still at work, or killed: {untold()}"
    more = sum(file.more for file in files)
    if more:
        most = max(header.at_most for header in headers)
        yield (
            f"{plural(most, 'query')} of a request are kept at most: {plural(more, 'query')} "
            "beyond that counted"
        )


def _evicted(files: list[FileReport]) -> Evicted:
    """What was dropped for the limit of size. Each file of a process counts all of its earlier
    ones.
    """
    total = Evicted()
    by_process: dict[tuple[int, str], Evicted] = {}
    for file in files:
        process = (file.header.pid, file.header.program) if file.header is not None else (0, "")
        known = by_process.get(process, total)
        by_process[process] = max(known, file.dropped, key=lambda one: one.files)
    for one in by_process.values():
        total = total.plus(one)
    return total


def left_out_of(files: list[FileReport]) -> list[str]:
    """What a recording omitted, and what that makes of totals."""
    counts = Counts()
    for file in files:
        counts = counts.plus(file.left_out)
    notes = [*_by_options(files, counts)]
    beyond = sum(file.beyond for file in files)
    if beyond:
        notes.append(
            f"patterns are looked for in the first {LOOKED_MOST:,} queries of a request: "
            f"{plural(beyond, 'query')} beyond that only added up"
        )
    if counts.stopped:
        notes.append(
            f"{plural(counts.stopped, 'request')} came while recording was paused or the disk was "
            "full: nothing is known of them"
        )
    dropped = _evicted(files)
    if dropped.files:
        notes.append(
            f"the capture is limited in size: {plural(dropped.files, 'file')} of its oldest gone, "
            f"with {plural(dropped.requests, 'request')} and {plural(dropped.queries, 'query')}"
        )
    return notes


def text_of(path: Path, slug: str, remedy: str) -> str:
    """The text of a file that someone named. Raises AskLessError of this slug, with this remedy."""
    try:
        return decoded(path.read_bytes())
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not text"
        raise AskLessError(slug, f"can't read {path}: {reason}", remedy) from None


def decoded(data: bytes) -> str:
    """A text in UTF-8 or UTF-16, which Windows shells write; line ends become plain. Raises
    UnicodeDecodeError.
    """
    encoding = "utf-8-sig"
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        encoding = "utf-16"
    elif b"\0" in data[:2]:  # without a mark: the zero is the upper half of an ASCII letter
        encoding = "utf-16-be" if data[0] == 0 else "utf-16-le"
    return data.decode(encoding).replace("\r\n", "\n").replace("\r", "\n")


def schema_file(path: Path) -> Schema:
    """The schema in a file. Raises AskLessError schema-unreadable."""
    try:
        document = msgspec.json.decode(path.read_bytes(), type=documents.TablesDocument)
    except OSError as error:
        raise AskLessError(
            "schema-unreadable", f"can't read {path}: {error.strerror}", "check the path"
        ) from None
    except msgspec.DecodeError as error:
        raise AskLessError(
            "schema-unreadable",
            f"{path} contains no tables: {error}",
            "create it with: askless tables --db URL -o FILE",
        ) from None
    if not 1 <= document.version <= VERSION or document.format != "askless tables":
        raise AskLessError(
            "schema-unreadable",
            f"{path} is {document.format!r} version {document.version}; this reads 'askless "
            f"tables' up to version {VERSION}",
            "make it again with: askless tables --db URL -o FILE",
        )
    return Schema(document.system, document.tables)


def schema_of(
    database: str | None, file: Path | None, limits: Limits | None = None
) -> Schema | None:
    """The schema of a file, or of a database by its URL; None if neither is named."""
    if file is not None:
        return schema_file(file)
    if database is None:
        return None
    from askless.database.connecting import connect, parse_url
    from askless.database.reflecting import reflect

    with connect(parse_url(database), limits) as connection:
        return reflect(connection)
