"""The source `packets`: files of packets that were recorded on the way between a program and its
database server.
"""

from __future__ import annotations

from askless.sources import Option, RecordingResult
from askless.sources.attribution.options import TELLING_APART

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Mapping
    from pathlib import Path
    from typing import Any

    from askless.sources import Reporter


class Packets:
    """See the module."""

    name = "packets"
    help = "read packets that were recorded between a program and its database"
    examples = """  tcpdump -i any -w calls.pcap port 5432                        on a host that sees the traffic
  askless capture packets -o calls --server 10.0.0.7:5432 calls.pcap
  askless capture packets -o calls --server mysql://10.0.0.7:13306 monday.pcapng tuesday.pcapng.gz"""
    nothing = "no readable statement was found"
    options = (
        Option(
            "--server",
            "the database server: HOST:PORT, with postgresql:// or mysql:// if the "
            "port is not the default",
            "HOST:PORT",
        ),
        *TELLING_APART,
        Option(
            "files",
            "packet files in chronological order (pcap or pcapng; may be .gz)",
            "FILE",
            many=True,
        ),
    )

    def check(self, values: Mapping[str, Any]) -> None:
        """Raises AskLessError: no-server, bad-server, bad-request-by."""
        from askless.sources.attribution.grouper import apart_of
        from askless.sources.packets import reader

        reader.server_of(values["server"])
        apart_of(values)

    def run(self, values: Mapping[str, Any], folder: Path, voice: Reporter) -> RecordingResult:
        """Read the files. Raises AskLessError: packets-missing, packets-unreadable,
        nothing-passed.
        """
        from pathlib import Path

        from askless.sources.attribution.grouper import apart_of
        from askless.sources.packets import reader

        server = reader.server_of(values["server"])
        reader.read(list(map(Path, values["files"])), server, folder, apart_of(values), voice)
        return RecordingResult()


SOURCE = Packets()
