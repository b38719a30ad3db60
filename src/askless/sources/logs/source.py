"""The source `log`: what database servers write into their logs."""

from __future__ import annotations

from askless.core.errors import AskLessError
from askless.sources import Option, RecordingResult
from askless.sources.attribution.options import TELLING_APART

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path
    from typing import Any

    from askless.sources import Reporter
    from askless.sources.logs.layouts import Layout


def layouts() -> dict[str, Layout]:
    """The layouts of applications' logs: those of ORMs, and the project's own. Raises AskLessError:
    bad-layout, project-file-bad.
    """
    import msgspec

    from askless.project.file import here
    from askless.sources.logs.layouts import Layout, checked
    from askless.sources.logs.presets import PRESETS

    own = {}
    project = here()
    for name, given in project.logs.items():
        where = f"{project.path}, [logs.{name}],"
        try:
            own[name] = checked(msgspec.convert(given, Layout), where)
        except msgspec.ValidationError as error:
            raise AskLessError(
                "bad-layout", f"{where} is invalid: {error}", "see docs/logs.md"
            ) from None
    return {**PRESETS, **own}


class Log:
    """See the module."""

    name = "log"
    help = "read logs of PostgreSQL, MariaDB, MySQL or an application"
    examples = """  askless capture log /var/log/postgresql/postgresql.log -o calls
  askless capture log /var/log/postgresql/postgresql.log -o calls --follow            until Ctrl-C
  askless capture log calls.log calls.log.1.gz -o calls --prefix '%m [%p] %u@%d '     the value of log_line_prefix
  askless capture log slow.log -o calls --format mariadb-slow
  askless capture log development.log -o calls --format activerecord --system mysql"""
    nothing = (
        "the log contains no statements: does the server log them? (log_min_duration_statement, "
        "long_query_time)"
    )
    options = (
        Option(
            "--format",
            "the log's format: postgresql, postgresql-csv, postgresql-json, mariadb-general, "
            "mariadb-slow, an ORM (django, activerecord, hibernate, sequelize and others: "
            "docs/logs.md), or a layout from askless.toml (default: detected from the first lines)",
            "FORMAT",
            default="",
        ),
        Option(
            "--system",
            "the database system of an application's log (default: from its layout)",
            "NAME",
            default="",
        ),
        Option(
            "--prefix",
            "PostgreSQL's log_line_prefix (default: detected from the first lines)",
            "PREFIX",
            default="",
        ),
        Option(
            "--follow",
            "keep reading what is written to the last file, even after log rotation",
            bare=True,
        ),
        *TELLING_APART,
        Option("files", "log files in chronological order; may be .gz", "FILE", many=True),
    )

    def check(self, values: Mapping[str, Any]) -> None:
        """Raises AskLessError: bad-format, bad-prefix, bad-system, bad-request-by."""
        from difflib import get_close_matches

        from askless.core import systems
        from askless.core.systems import called
        from askless.sources import logs
        from askless.sources.attribution.grouper import apart_of
        from askless.sources.logs.prefixes import pattern_of

        apart_of(values)
        wanted = values["format"]
        known = [*logs.REGISTRY, *layouts()]
        if wanted and wanted not in known:
            near = get_close_matches(wanted, known, 1, 0.4)
            remedy = f"did you mean {near[0]}?" if near else "formats: " + ", ".join(known)
            raise AskLessError("bad-format", f"there is no format {wanted!r}", remedy)
        if values["system"] and called(values["system"]) is None:
            raise AskLessError(
                "bad-system",
                f"there is no system {values['system']!r}",
                "systems: " + ", ".join(systems.REGISTRY),
            )
        try:
            pattern_of(values["prefix"])
        except logs.UnreadLine as error:
            raise AskLessError("bad-prefix", error.why, f"it has {error.expected}") from None

    def run(self, values: Mapping[str, Any], folder: Path, voice: Reporter) -> RecordingResult:
        """Read the logs. Raises AskLessError: log-missing, log-unreadable."""
        from pathlib import Path

        from askless.sources.attribution.grouper import apart_of
        from askless.sources.logs import reader

        wish = reader.LogOptions(
            values["format"],
            values["prefix"],
            values["follow"],
            apart_of(values),
            layouts(),
            values["system"],
        )
        reader.read(list(map(Path, values["files"])), wish, folder, voice)
        return RecordingResult()


SOURCE = Log()
