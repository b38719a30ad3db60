"""MB a second of each reader of logs, over reading the file's lines alone; all in one run.

The logs are made of lines as servers write them: lookups by key with their parameters, in
transactions.
"""

from __future__ import annotations

import argparse
import resource
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from askless.core.records.traffic import QuerySeen
from askless.sources.logs import LogMessage, format_of
from askless.sources.logs.reader import lines_of as decoded

AIM = 5.0
SIZE_MB = 50


def postgresql(turn: int) -> str:
    """A page of three statements."""
    at = f"2026-11-27 {turn // 3600 % 24:02}:{turn // 60 % 60:02}:{turn % 60:02}.{turn % 1000:03} UTC [{4000 + turn % 7}] harbour@office/pages "
    look_up = "SELECT vessel.id, vessel.name, vessel.call_sign, vessel.flag, vessel.owner\n\tFROM vessel WHERE vessel.id = $1"
    return (
        f"{at}LOG:  duration: 0.041 ms  statement: BEGIN\n{at}LOG:  duration: 0.0{turn % 90 + 10} ms  execute s_1: {look_up}\n"
        f"{at}DETAIL:  parameters: $1 = '{turn}'\n{at}LOG:  duration: 0.020 ms  statement: COMMIT\n"
    )


def csvlog(turn: int) -> str:
    """The same as csvlog writes it."""
    at = f"2026-11-27 {turn // 3600 % 24:02}:{turn // 60 % 60:02}:{turn % 60:02}.{turn % 1000:03} UTC"
    row = f'{at},"harbour","office",{4000 + turn % 7},"127.0.0.1:5{turn % 1000:03}",6928b1a5.{turn % 7:x},{turn},"SELECT",{at},3/{turn},0,LOG,00000'
    return (
        f'{row},"duration: 0.041 ms  execute s_1: SELECT vessel.id, vessel.name, vessel.call_sign\nFROM vessel WHERE vessel.id = $1",'
        f'"parameters: $1 = \'{turn}\'",,,,,,,,"pages","client backend",,0\n'
    )


def jsonlog(turn: int) -> str:
    """The same as jsonlog writes it."""
    at = f"2026-11-27 {turn // 3600 % 24:02}:{turn // 60 % 60:02}:{turn % 60:02}.{turn % 1000:03} UTC"
    return (
        f'{{"timestamp":"{at}","user":"harbour","dbname":"office","pid":{4000 + turn % 7},"session_id":"6928b1a5.{turn % 7:x}","vxid":"3/{turn}",'
        f'"error_severity":"LOG","message":"duration: 0.041 ms  execute s_1: SELECT vessel.id, vessel.name\\nFROM vessel WHERE vessel.id = $1",'
        f'"detail":"parameters: $1 = \'{turn}\'","application_name":"pages","backend_type":"client backend"}}\n'
    )


def slow(turn: int) -> str:
    """A lookup as MariaDB's slow log says it."""
    return (
        f"# User@Host: harbour[harbour] @ localhost [127.0.0.1]\n# Thread_id: {turn % 7}  Schema: office  QC_hit: No\n"
        "# Query_time: 0.000069  Lock_time: 0.000000  Rows_sent: 1  Rows_examined: 1\n# Rows_affected: 0  Bytes_sent: 91\n"
        f"SET timestamp={1795820505 + turn // 100};\nSELECT id, name, call_sign, flag, owner FROM vessel WHERE id = {turn};\n"
    )


def general(turn: int) -> str:
    """A lookup as MariaDB's general log says it."""
    return f"\t\t    {turn % 7 + 5} Query\tSELECT id, name, call_sign, flag, owner FROM vessel WHERE id = {turn}\n"


KINDS = {
    "postgresql": postgresql,
    "postgresql-csv": csvlog,
    "postgresql-json": jsonlog,
    "mariadb-slow": slow,
    "mariadb-general": general,
}


def lines_of(path: Path) -> Iterator[str]:
    """The lines of a file and nothing more."""
    with path.open(encoding="utf-8") as stream:
        yield from stream


def main() -> None:
    """Measure each reader, and say what was aimed at."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--mb", type=int, default=SIZE_MB)
    size = parser.parse_args().mb * 1_000_000
    for name, make in KINDS.items():
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "made.log"
            with path.open("w", encoding="utf-8") as stream:
                written = turn = 0
                while written < size:
                    written += stream.write(make(turn))
                    turn += 1
            began_s = time.process_time()
            for _ in lines_of(path):
                pass
            alone_s = time.process_time() - began_s
            reading, count, began_s = (
                format_of(name).reading("%m [%p] %u@%d/%a "),
                0,
                time.process_time(),
            )
            for line in decoded(path):
                for said in reading.take(line):
                    count += said.query is not None
            taken_s = time.process_time() - began_s
            began_s = time.process_time()
            for turn in range(count):  # what is reported of each query, if reading it cost nothing
                LogMessage(
                    "7",
                    turn,
                    QuerySeen("SELECT 1", start_ns=turn, duration_ns=turn, rows=1),
                    "pages",
                    False,
                    "pier",
                )
            told_s = time.process_time() - began_s
            mib = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
            print(
                f"{name}: {written / taken_s / 1e6:.0f} MB a second, {count:,} queries, {taken_s / alone_s:.1f} times the lines alone "
                f"(aim: {AIM:.0f}; the records of the queries alone: {told_s / alone_s:.1f}), {mib:.0f} MiB"
            )


if __name__ == "__main__":
    main()
