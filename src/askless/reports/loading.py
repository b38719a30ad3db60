"""What most reports begin with: a capture added up, and the schema of a database or of a file."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec

from askless.capture.reading import FileReport, read
from askless.core.analysis import summarise
from askless.core.errors import AskLessError
from askless.core.model import Request, Schema
from askless.core.settings import Settings
from askless.core.summary import Summary
from askless.project.file import Project, here
from askless.reports import documents

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.database.servers import Limits


def load(
    path: Path, settings: Settings | None = None, look: bool = True, project: Project | None = None
) -> tuple[Summary, tuple[str, ...]]:
    """A capture added up, and notes on what was odd about it. Without `look`, patterns are not looked for.

    `project` is what counts of the project's file; None reads the one of the working folder.
    """
    project = here() if project is None else project
    files: list[FileReport] = []
    summary = summarise(project.terms().applied(read(path, files)), settings or project.settings(), look)
    return summary, notes_of(files)


def requests_of(path: Path, files: list[FileReport] | None = None) -> Iterator[Request]:
    """The requests of a capture, in the project's own terms. Raises AskLessError: see `read`, and project-file-bad."""
    return here().terms().applied(read(path, files))


def notes_of(files: list[FileReport]) -> tuple[str, ...]:
    """What a reader of a report should know of its capture, each thing once."""
    notes = []
    for file in files:
        notes += [f"{file.path.name}: {note}" for note in file.notes]
        if file.torn:
            notes.append(f"{file.path.name}: the last line is torn (a crash does that); everything before it counts")
        if file.bad_lines:
            line, reason = file.bad_lines[0]
            notes.append(
                f"{file.path.name}: {len(file.bad_lines)} lines can't be read, the first is line {line}: {reason}"
            )
    return tuple(dict.fromkeys(notes))


def text_of(path: Path, slug: str, remedy: str) -> str:
    """The text of a file that somebody named. Raises AskLessError of this slug, with this remedy."""
    try:
        return path.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is no text"
        raise AskLessError(slug, f"can't read {path}: {reason}", remedy) from None


def schema_file(path: Path) -> Schema:
    """The schema in a file. Raises AskLessError schema-unreadable."""
    try:
        document = msgspec.json.decode(path.read_bytes(), type=documents.TablesDocument)
    except OSError as error:
        raise AskLessError("schema-unreadable", f"can't read {path}: {error.strerror}", "check the path") from None
    except msgspec.DecodeError as error:
        raise AskLessError(
            "schema-unreadable", f"{path} holds no tables: {error}", "make it with: askless tables --db URL -o FILE"
        ) from None
    if document.version != 1 or document.format != "askless tables":
        raise AskLessError(
            "schema-unreadable",
            f"{path} is {document.format!r} version {document.version}; this reads 'askless tables' version 1",
            "make it anew with: askless tables --db URL -o FILE",
        )
    return Schema(document.system, document.tables)


def schema_of(database: str | None, file: Path | None, limits: Limits | None = None) -> Schema | None:
    """The schema of a file, or of a database by its URL; None where neither is named."""
    if file is not None:
        return schema_file(file)
    if database is None:
        return None
    from askless.database.connecting import connect, parse_url
    from askless.database.reflecting import reflect

    with connect(parse_url(database), limits) as connection:
        return reflect(connection)
