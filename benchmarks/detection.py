"""How much of a labelled corpus is found, and how much of what is found is true: precision and
recall.

    python benchmarks/detection.py                       the written corpus, in half a minute
    python benchmarks/detection.py --verbose             and which case is missed, or found and should not be
    python benchmarks/detection.py --captured            and four applications on three databases, recorded for real
    python benchmarks/detection.py --captured --on sqlite --repeats 10 --load 4     again and again, on a busy machine

The written corpus (`benchmarks/corpus.py`) is rendered in the styles in which ORMs of PHP, Ruby,
Java, C#, JavaScript, Go and Python write statements, for PostgreSQL, MySQL, SQLite, SQL Server and
Oracle, and analysed without a word of an ORM. With `--captured` the labelled pages of
`benchmarks/advice.py` are recorded, and judged with all that the recorder knows. Printed: precision
and recall by pattern and variant, and what the findings' evidence is. Exit code 1 where one is
missed or false.
"""

from __future__ import annotations

import argparse
import multiprocessing
import re
import sys
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from zlib import crc32

import msgspec
import sqlglot
from sqlglot import exp

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "benchmarks")]
from advice import APPLICATIONS, SYSTEMS, benches  # noqa: E402
from corpus import PROBLEMS, TABLES, TRAPS, Ask, Case, One  # noqa: E402
from styles import as_sent, guarded, literal, named_aliases, not_null, short_aliases, whole_rows  # noqa: E402

from askless.capture.reading import read  # noqa: E402
from askless.core.analysis.pipeline import findings_of, summarise  # noqa: E402
from askless.core.findings.finding import Finding  # noqa: E402
from askless.core.records.model import CallSite, Request  # noqa: E402
from askless.core.records.request_builder import LiveRequestBuilder  # noqa: E402
from askless.core.records.schema import Schema  # noqa: E402
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded  # noqa: E402

DIALECTS = {
    "postgresql": "postgres",
    "mysql": "mysql",
    "sqlite": "sqlite",
    "mssql": "tsql",
    "oracle": "oracle",
}
MARKS = {"postgresql": "${}", "mysql": "?", "sqlite": "?", "mssql": "@p{}", "oracle": ":{}"}
MARK = re.compile(r"(?<![:\w])[:@]p(\d+)\b|%\(p(\d+)\)s|\$p(\d+)")


SCANS = "each scans its table"
# where values may be seen to flow
LOOPS = ("n-plus-one", "already-loaded", "duplicate", "find-or-create")


class Style(msgspec.Struct, frozen=True):
    """How the ORMs of a language write: what they do to a statement, whether they quote names,
    whether they bind values.
    """

    change: Callable[[exp.Expression, int], None]
    quotes: bool
    binds: bool
    systems: tuple[str, ...]


STYLES = {
    "PHP": Style(whole_rows, True, True, ("mysql", "postgresql", "sqlite")),
    "PHP, values in the text": Style(as_sent, True, False, ("mysql",)),
    "Ruby": Style(whole_rows, True, True, ("postgresql", "mysql", "sqlite")),
    "Java": Style(short_aliases, False, True, ("postgresql", "oracle", "mysql")),
    "C#": Style(named_aliases, True, True, ("mssql", "postgresql")),
    "JavaScript": Style(named_aliases, True, True, ("postgresql", "mysql", "mssql")),
    "Go": Style(guarded, True, True, ("postgresql", "mysql")),
    "Python": Style(as_sent, False, True, ("postgresql", "sqlite", "oracle")),
    "Python, quoted": Style(not_null, True, True, ("postgresql", "sqlite", "mysql")),
}


class Score:
    """What was found of what is there, by pattern and variant."""

    def __init__(self) -> None:
        self.hit: Counter[tuple[str, str]] = Counter()
        self.missed: Counter[tuple[str, str]] = Counter()
        self.false: Counter[tuple[str, str]] = Counter()
        self.evidence: Counter[str] = Counter()
        self.loops: Counter[tuple[str, str]] = Counter()  # by evidence and pattern
        self.requests = 0

    def add(
        self, wanted: Sequence[tuple[str, str]], found: Sequence[Finding], where: str, verbose: bool
    ) -> None:
        """One labelled case."""
        there = Counter((one.pattern, one.variant) for one in found)
        expected = Counter(wanted)
        self.hit += there & expected
        self.missed += expected - there
        self.false += there - expected
        self.evidence.update(
            one.evidence for one in found if (one.pattern, one.variant) in expected
        )
        self.loops.update((one.evidence, one.pattern) for one in found if one.pattern in LOOPS)
        if verbose and there != expected:
            print(
                f"  {where}: missed {dict(expected - there) or 'nothing'}, false {dict(there - expected) or 'nothing'}"
            )

    @property
    def wrong(self) -> int:
        """How many were missed or false."""
        return self.missed.total() + self.false.total()

    def show(self) -> None:
        """Print precision and recall by pattern and variant, then of all, and the evidence."""
        print(
            f"{'pattern':18} {'variant':28} {'found':>6} {'missed':>7} {'false':>6} {'precision':>10} {'recall':>7}"
        )
        for name in sorted({*self.hit, *self.missed, *self.false}):
            self._line(name[0], name[1], self.hit[name], self.missed[name], self.false[name])
        self._line("all", "", self.hit.total(), self.missed.total(), self.false.total())
        sure = self.evidence["traced"] + self.evidence["keyed"]
        share = sure / max(self.evidence.total(), 1)
        loops = sum(count for (evidence, _), count in self.loops.items() if evidence != "repeated")
        of_loops = loops / max(self.loops.total(), 1)
        print(
            f"evidence: {dict(self.evidence)}; traced or keyed {share:.2f}, of loops and repeated reads {of_loops:.2f}; "
            f"{self.requests} requests"
        )

    def _line(self, pattern: str, variant: str, hit: int, missed: int, false: int) -> None:
        precision = f"{hit / (hit + false):.2f}" if hit + false else "-"
        recall = f"{hit / (hit + missed):.2f}" if hit + missed else "-"
        print(f"{pattern:18} {variant:28} {hit:6} {missed:7} {false:6} {precision:>10} {recall:>7}")


def rendered(ask: Ask, style: Style, system: str) -> tuple[str, tuple[object, ...]]:
    """A query's text as a style writes it for a system, and what is bound next to it."""
    dialect = DIALECTS[system]
    text = ask.text
    try:
        tree = sqlglot.parse_one(ask.text)
        if isinstance(tree, exp.Select | exp.Insert | exp.Update | exp.Delete):
            style.change(tree, 0)
            text = tree.sql(dialect=dialect, identify=style.quotes)
    except sqlglot.errors.SqlglotError:
        pass
    places = [
        int(next(filter(None, match.groups()))) if any(match.groups()) else 0
        for match in MARK.finditer(text)
    ]
    if not style.binds:
        return MARK.sub(
            lambda match: literal(
                ask.given[int(next(g for g in match.groups() if g is not None))], system
            ),
            text,
        ), ()
    numbers = iter(range(1, 10_000))
    return MARK.sub(lambda _: MARKS[system].format(next(numbers)), text), tuple(
        ask.given[place] for place in places
    )


def requests_of(case: Case, style: Style, system: str) -> list[Request]:
    """A case's requests as a style sends them."""
    results: list[Request] = []
    receiver = LiveRequestBuilder(system, results.append)
    for number, one in enumerate(case.requests, 1):
        start_ns = int(one.at_s * 1e9)
        receiver.request_began(RequestBegan(number, f"GET /{case.name}", start_ns, path=one.path))
        queries = list(_queries(one, style, system, start_ns))
        receiver.queries(number, queries)
        receiver.errands(
            number,
            [msgspec.structs.replace(e, start_ns=e.start_ns + start_ns) for e in one.errands],
        )
        last = queries[-1]
        receiver.request_ended(RequestEnded(number, last.start_ns + last.duration_ns + 2_000_000))
    return results


def _queries(one: One, style: Style, system: str, start_ns: int) -> Iterator[QuerySeen]:
    at_ns = start_ns
    for ask in one.asks:
        at_ns += int(ask.gap_ms * 1e6)
        text, given = rendered(ask, style, system)
        rows = len(ask.rows) if ask.count < 0 else ask.count
        size = sum(ask.widths) or 12 * max(len(ask.names), 1) * rows
        sampled = tuple(range(len(ask.rows[0]))) if ask.rows else ()
        yield QuerySeen(
            text, at_ns, int(ask.ms * 1e6), rows, size, ask.digest or crc32(repr((ask.rows, ask.given)).encode()) or 1,
            CallSite("/app/pages.py", ask.line, "page"), None, ask.connection, ask.inside, ask.thread, given,  # type: ignore[arg-type]
            columns=ask.names, sampled=sampled, sample=tuple(ask.rows[:32]) or None, widths=ask.widths, error=ask.error,
            batch=ask.batch,
        )  # fmt: skip


def written(verbose: bool, with_schema: bool) -> Score:
    """The written corpus, in every style and dialect; judged with the schema of its tables, or
    without.
    """
    score = Score()
    for name, style in STYLES.items():
        for system in style.systems:
            for case in (*PROBLEMS, *TRAPS):
                if case.systems and system not in case.systems:
                    continue
                requests = requests_of(case, style, system)
                score.requests += len(requests)
                wanted = case.whole if case.whole and style.change is whole_rows else case.found
                schema = Schema(system, TABLES) if with_schema else None
                if with_schema:  # which says that no index finds the rows
                    wanted = tuple(
                        (p, v or SCANS) if p == "subquery-per-row" else (p, v) for p, v in wanted
                    )
                found = findings_of(summarise(requests), schema)
                score.add(wanted, found, f"{case.name}, {name} on {system}", verbose)
    return score


@contextmanager
def load(processes: int) -> Iterator[None]:
    """So many processes that keep the machine busy."""
    busy = [multiprocessing.Process(target=_spin, daemon=True) for _ in range(processes)]
    for process in busy:
        process.start()
    try:
        yield
    finally:
        for process in busy:
            process.kill()


def _spin() -> None:
    while True:
        sum(range(100_000))


def captured(
    only: Sequence[str] | None, on: Sequence[str] | None, repeats: int, verbose: bool
) -> tuple[Score, int]:
    """The recorded applications; how many repeats gave other findings than the first."""
    score = Score()
    differing = 0
    for bench in benches(only, on):
        first: set[tuple[str, str, str]] | None = None
        for turn in range(1, repeats + 1):
            gave, _ = bench.run({}, True)
            requests = [
                request
                for request in read(bench.folder / f"{turn}.capture")
                if request.kind == "marked"
            ]
            found = findings_of(summarise(requests))
            told = {(one.route, one.pattern, one.variant) for one in found}
            if first is None:
                first = told
                score.requests += len(requests)
                for page, label in gave["labels"].items():
                    mine = [one for one in found if one.route == page]
                    names = {one.pattern for one in mine}
                    wanted = [(name, "") for name in label.split()]
                    once = [
                        msgspec.structs.replace(next(f for f in mine if f.pattern == n), variant="")
                        for n in sorted(names)
                    ]
                    score.add(wanted, once, f"{page}, {bench.name} on {bench.system}", verbose)
            elif told != first:
                differing += 1
                print(f"  {bench.name} on {bench.system}, repeat {turn}: {sorted(told ^ first)}")
    return score, differing


def main() -> int:
    """Run what was asked for."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--verbose", action="store_true")
    parser.add_argument("--captured", action="store_true", help="record the applications too")
    parser.add_argument("--only", choices=list(APPLICATIONS), action="append")
    parser.add_argument("--on", choices=SYSTEMS, action="append")
    parser.add_argument("--repeats", type=int, default=1)
    parser.add_argument("--load", type=int, default=0, metavar="PROCESSES")
    options = parser.parse_args()
    wrong = 0
    for with_schema in (False, True):
        score = written(options.verbose, with_schema)
        styles = sum(len(style.systems) for style in STYLES.values())
        known = "with" if with_schema else "without"
        print(
            f"written: {len(PROBLEMS)} problems and {len(TRAPS)} traps in {styles} styles, {known} the schema"
        )
        score.show()
        wrong += score.wrong
    if options.captured:
        with load(options.load):
            recorded, differing = captured(
                options.only, options.on, options.repeats, options.verbose
            )
        print(
            f"recorded: {options.repeats} repeats, {differing} with other findings than the first"
        )
        recorded.show()
        wrong += recorded.wrong + differing
    return int(wrong > 0)


if __name__ == "__main__":
    sys.exit(main())
