"""The source `otlp`: what an application that is traced with OpenTelemetry sends already, received
or read from files.
"""

from __future__ import annotations

from askless.core.errors import AskLessError
from askless.sources import Option, RecordingResult
from askless.sources.attribution.options import TELLING_APART
from askless.sources.programs.page_visits import (
    VISITING,
    check_program,
    check_visits,
    recorded,
    visits_of,
)

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path
    from typing import Any

    from askless.sources import Reporter


class Otlp:
    """See the module."""

    name = "otlp"
    help = "receive spans from OpenTelemetry exporters, or read them from files"
    examples = """  askless capture otlp -o calls                               OTLP/HTTP on 4318 and gRPC on 4317, until Ctrl-C
  askless capture otlp -o calls -- opentelemetry-instrument python app.py     with the exporter configured
  askless capture otlp spans.jsonl more.json.gz -o calls      files written by a collector"""
    nothing = "no database span arrived: is the driver or the ORM instrumented?"
    options = (
        Option(
            "--listen",
            "address for OTLP/HTTP (default: 127.0.0.1:4318; with a program, a free port)",
            "HOST:PORT",
        ),
        Option("--grpc", "address for OTLP/gRPC (default: 127.0.0.1:4317), or off", "HOST:PORT"),
        Option("--allow-remote", "allow non-loopback addresses", bare=True),
        Option(
            "--max-payload",
            "maximum decompressed size of a payload (default: 64MiB)",
            "SIZE",
            default="",
        ),
        *TELLING_APART,
        *VISITING,
        Option(
            "files", "span files: JSON, JSON lines or protobuf dumps; may be .gz", "FILE", many=True
        ),
        Option(
            "program",
            "a program to start with the exporter configured, and its arguments",
            "-- PROGRAM ...",
        ),
    )

    def check(self, values: Mapping[str, Any]) -> None:
        """Raises AskLessError: bad-listen, bad-request-by, files-and-program, otlp-extra-missing,
        and what visits raise.
        """
        from askless.sources.attribution.grouper import apart_of
        from askless.sources.otlp import runner
        from askless.sources.otlp.decoding import check_installed

        apart_of(values)
        check_visits(values)
        check_installed()
        if values["files"] and values["program"]:
            raise AskLessError(
                "files-and-program",
                "name either files or a program after --",
                "see: askless capture otlp --help",
            )
        check_program(values, "node app.js")
        runner.wish_of(values)

    def run(self, values: Mapping[str, Any], folder: Path, voice: Reporter) -> RecordingResult:
        """Read the files, or receive until the program ends or someone stops it. Raises
        AskLessError.
        """
        from pathlib import Path

        from askless.sources.attribution.grouper import apart_of
        from askless.sources.otlp import runner

        apart = apart_of(values)
        if values["files"]:
            runner.read(
                list(map(Path, values["files"])), folder, apart, voice, runner.objects_of(values)
            )
            return RecordingResult()
        ended = runner.receive(
            runner.wish_of(values), values["program"], visits_of(values), folder, apart, voice
        )
        return recorded(ended, voice)


SOURCE = Otlp()
