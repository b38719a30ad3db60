"""Sends the statements of four applications again as other languages' ORMs write them, and compares
what is found.

    python benchmarks/styles.py                                    all, in some three minutes
    python benchmarks/styles.py --only django --on sqlite          one application on one database
    python benchmarks/styles.py --verbose                          and which page differs, and how
    python benchmarks/styles.py --capture calls.jsonl              what an application of yours asked

The applications are those of `benchmarks/advice.py`. Each runs once, recorded. What it asked is
then written again, in every style below and every form in which a statement may come (bound, with
its literals, under a comment, prepared), and analysed without a word of an ORM: as a server's log,
a relay or another language would give it. The same patterns must be found on the same pages as
where the statements stand as they were sent. Exit code 1 where they are not.
"""

from __future__ import annotations

import argparse
import re
import sys
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import sqlglot
from sqlglot import exp

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "benchmarks")]
from advice import APPLICATIONS, SYSTEMS, benches  # noqa: E402

from askless.capture.reading import read  # noqa: E402
from askless.core.analysis.pipeline import findings_of, summarise  # noqa: E402
from askless.core.records.model import Request  # noqa: E402
from askless.core.records.request_builder import LiveRequestBuilder  # noqa: E402
from askless.core.records.traffic import QuerySeen, RequestBegan, RequestEnded  # noqa: E402
from askless.core.sql.slots import Value  # noqa: E402

DIALECTS = {"postgresql": "postgres", "mariadb": "mysql", "mysql": "mysql", "sqlite": "sqlite"}
FORMS = ("bound", "literals", "commented", "prepared")
MARK = re.compile(r"(?::p|%\(p)(\d+)(?:\)s)?")  # as the dialects write `:p0`
Tree = exp.Expression
Found = Counter[tuple[str, str, str]]


# What a style does to a statement. Each takes a SELECT, an INSERT, an UPDATE or a DELETE, and
# leaves what it returns alone.


def as_sent(tree: Tree, rows: int) -> None:
    """As it is."""


def _renamed(tree: Tree, name: Callable[[str, int], str]) -> None:
    """Give each table of a SELECT another alias, and each column its table's."""
    if not isinstance(tree, exp.Select):
        return
    tables = [table for table in tree.find_all(exp.Table) if table.name]
    new: dict[str, str] = {}
    for number, table in enumerate(tables):
        new.setdefault(table.alias_or_name, name(table.name, number))
    known = {cte.alias for cte in tree.find_all(exp.CTE)}
    for column in tree.find_all(exp.Column):
        select = column.find_ancestor(exp.Select)
        if column.table in new and column.table not in known:
            column.set("table", exp.to_identifier(new[column.table]))
        elif not column.table and select is not None and not select.args.get("joins"):
            source = select.args.get("from_") or select.args.get("from")
            if (
                source is not None
                and isinstance(source.this, exp.Table)
                and source.this.name not in known
            ):
                column.set("table", exp.to_identifier(new[source.this.alias_or_name]))
    for table in tables:
        if table.name not in known:
            table.set("alias", exp.TableAlias(this=exp.to_identifier(new[table.alias_or_name])))


def short_aliases(tree: Tree, rows: int) -> None:
    """`select v1_0.id from vessel v1_0`, and columns by a number."""
    _renamed(tree, lambda table, number: f"{table[0]}{number + 1}_0")
    if isinstance(tree, exp.Select) and not tree.find(exp.Star):
        for number, item in enumerate(tree.expressions):
            tree.expressions[number].replace(exp.alias_(item.unalias(), f"col_{number}_0_"))


def named_aliases(tree: Tree, rows: int) -> None:
    """`SELECT "Vessel"."id" AS "Vessel_id" FROM "vessel" "Vessel"`."""
    _renamed(
        tree,
        lambda table, number: table.title().replace("_", "") + (f"__{number}" if number else ""),
    )
    if isinstance(tree, exp.Select):
        for item in tree.expressions:
            if isinstance(item, exp.Column) and not isinstance(item.this, exp.Star):
                item.replace(exp.alias_(item.copy(), f"{item.table}_{item.name}"))


def whole_rows(tree: Tree, rows: int) -> None:
    """`SELECT vessel.* FROM vessel`, where more than two columns of one table are read; lookups by
    id end in LIMIT 1.
    """
    if isinstance(tree, exp.Select):
        items = [item.unalias() for item in tree.expressions]
        plain = all(
            isinstance(item, exp.Column) and not isinstance(item.this, exp.Star) for item in items
        )
        tables = {item.table for item in items if isinstance(item, exp.Column)}
        if plain and len(items) > 2 and len(tables) == 1 and "" not in tables:
            tree.set(
                "expressions", [exp.Column(this=exp.Star(), table=exp.to_identifier(tables.pop()))]
            )
    if isinstance(tree, exp.Select) and _is_look_up(tree):
        tree.limit(1, copy=False)


def guarded(tree: Tree, rows: int) -> None:
    """`WHERE ("harbour"."vessel"."id" = $1 AND 1=1) LIMIT $2 OFFSET $3`."""
    where = tree.args.get("where")
    if isinstance(tree, exp.Select) and where is not None:
        where.set("this", exp.paren(exp.and_(where.this.copy(), sqlglot.condition("1 = 1"))))


def lists_of_one(tree: Tree, rows: int) -> None:
    """`WHERE vessel.id IN ($1)`."""
    where = tree.args.get("where")
    if isinstance(tree, exp.Select) and where is not None:
        for equal in list(where.find_all(exp.EQ)):
            if isinstance(equal.this, exp.Column) and isinstance(equal.expression, exp.Placeholder):
                equal.replace(exp.In(this=equal.this.copy(), expressions=[equal.expression.copy()]))


def not_null(tree: Tree, rows: int) -> None:
    """`WHERE tug_job.port_call_id = ? AND tug_job.port_call_id IS NOT NULL`."""
    where = tree.args.get("where")
    if isinstance(tree, exp.Select) and where is not None:
        for equal in list(where.find_all(exp.EQ)):
            column = equal.this
            if (
                isinstance(column, exp.Column)
                and column.name.endswith("_id")
                and _is_given(equal.expression)
            ):
                equal.replace(
                    exp.and_(
                        equal.copy(),
                        exp.Not(this=exp.Is(this=column.copy(), expression=exp.null())),
                    )
                )


def by_the_parent(tree: Tree, rows: int) -> None:
    """`SELECT tug_job.* FROM tug_job JOIN port_call p ON p.id = tug_job.port_call_id WHERE p.id =
    ?`.
    """
    where = tree.args.get("where")
    if (
        not isinstance(tree, exp.Select)
        or where is None
        or len(list(tree.find_all(exp.Select))) > 1
    ):
        return
    for equal in list(where.find_all(exp.EQ)):
        column = equal.this
        if (
            isinstance(column, exp.Column)
            and column.name.endswith("_id")
            and _is_given(equal.expression)
            and column.table
        ):
            parent = exp.column("id", table="p")
            tree.join(
                exp.Table(
                    this=exp.to_identifier(column.name[:-3]),
                    alias=exp.TableAlias(this=exp.to_identifier("p")),
                ),
                on=parent.eq(column.copy()),
                copy=False,
            )
            equal.set("this", parent.copy())
            return


def counts_of_one(tree: Tree, rows: int) -> None:
    """`SELECT COUNT(1) FROM (SELECT 1 FROM tug_job WHERE …) AS _w` where nothing but rows is
    counted.
    """
    if not isinstance(tree, exp.Select) or len(tree.expressions) != 1 or tree.args.get("group"):
        return
    counted = tree.expressions[0].unalias()
    if (
        isinstance(counted, exp.Count)
        and isinstance(counted.this, (exp.Star, exp.Column))
        and rows == 1
    ):
        if isinstance(counted.this, exp.Column) and not counted.this.name.endswith("id"):
            return
        inner = tree.copy()
        inner.set("expressions", [exp.Literal.number(1)])
        outer = exp.select("COUNT(1)").from_(inner.subquery("_w"))
        tree.replace(outer)
        tree.args.clear()
        for key, value in outer.args.items():
            tree.set(key, value)


def written_out(tree: Tree, rows: int) -> None:
    """`select exists(select * from tug_job where …) as "exists"` for `SELECT 1 … LIMIT 1`."""
    if not isinstance(tree, exp.Select) or len(tree.expressions) != 1 or not tree.args.get("limit"):
        return
    if isinstance(tree.expressions[0].unalias(), (exp.Literal, exp.Placeholder)):
        inner = tree.copy()
        inner.set("expressions", [exp.Star()])
        inner.set("limit", None)
        inner.set("order", None)
        tree.args.clear()
        tree.set("expressions", [exp.alias_(exp.Exists(this=inner), "exists")])


def _is_given(node: Tree) -> bool:
    return isinstance(node, (exp.Placeholder, exp.Literal))


def _is_look_up(tree: exp.Select) -> bool:
    where = tree.args.get("where")
    condition = where.this if where is not None else None
    return (
        isinstance(condition, exp.EQ)
        and isinstance(condition.this, exp.Column)
        and condition.this.name == "id"
        and _is_given(condition.expression)
        and not tree.args.get("limit")
    )


STYLES: dict[
    str, tuple[Callable[[Tree, int], None], bool]
] = {  # what it does, and whether it quotes every name
    "as sent": (as_sent, False),
    "quoted": (as_sent, True),
    "short aliases": (short_aliases, False),
    "named aliases": (named_aliases, True),
    "whole rows": (whole_rows, True),
    "guarded": (guarded, True),
    "lists of one": (lists_of_one, True),
    "not null": (not_null, False),
    "by the parent": (by_the_parent, True),
    "counts of one": (counts_of_one, False),
    "exists written out": (written_out, True),
    "control traffic": (as_sent, False),
}
# what clients send next to queries
BETWEEN = ("BEGIN", "SET NAMES 'utf8'", "SELECT 1", "DEALLOCATE handle_{}", "COMMIT")


def literal(value: Value, system: str) -> str:
    """A value as a client writes it into a statement."""
    if isinstance(value, tuple):
        kind, text = value
        if kind in ("Decimal", "int", "float"):
            return text
        return f"x'{text}'" if kind == "bytes" else f"'{text}'"
    if isinstance(value, str):
        return "'" + value.replace("'", "''") + "'"
    if isinstance(value, bool) or value is None:
        return {
            None: "NULL",
            True: "1" if system == "sqlite" else "TRUE",
            False: "0" if system == "sqlite" else "FALSE",
        }[value]
    return str(value)


class Writer:
    """Writes the statements of one capture in one style."""

    def __init__(self, system: str, style: str) -> None:
        self.system, self.style = system, style
        self.dialect = DIALECTS[system]
        self.change, self.quotes = STYLES[style]
        self.known: dict[tuple[str, bool], str] = {}
        self.changed = 0

    def marked(self, request: Request, i: int) -> str:
        """The text of query i in this style, with `:p0`, `:p1` … for what it was given."""
        statement = request.statement(i)
        one = request.rows[i] == 1
        key = (statement.text, one)
        if key not in self.known:
            self.known[key] = self._anew(statement.text, statement.slots, one)
        return self.known[key]

    def _anew(self, text: str, slots: Sequence[Any], one: bool) -> str:
        pieces, last = [], 0
        for number, slot in enumerate(slots):
            # A literal that belongs to the statement stays: a LIMIT, a status, the 1 of an EXISTS.
            if slot.placeholder:
                pieces += [text[last : slot.start], f":p{number}"]
                last = slot.end
        marked = "".join([*pieces, text[last:]])
        try:
            tree = sqlglot.parse_one(marked, dialect=self.dialect)
        except sqlglot.errors.SqlglotError:
            return marked
        if not isinstance(tree, (exp.Select, exp.Insert, exp.Update, exp.Delete)):
            return marked
        before = tree.sql(dialect=self.dialect)
        self.change(tree, int(one))
        after = tree.sql(dialect=self.dialect, identify=self.quotes)
        self.changed += before != after
        return after


def in_form(
    marked: str, values: Sequence[Value], form: str, system: str, turn: int
) -> tuple[str, tuple[Value, ...]]:
    """A marked text as it is sent in a form, and what is bound next to it."""
    given = [values[int(match[1])] for match in MARK.finditer(marked)]
    if form == "bound":
        return MARK.sub("?", marked), tuple(given)
    if form == "prepared":
        numbers = iter(range(1, 10_000))
        return MARK.sub(
            lambda _: f"${next(numbers)}" if system == "postgresql" else "?", marked
        ), tuple(given)
    text = MARK.sub(lambda match: literal(values[int(match[1])], system), marked)
    return (f"{text} /* page:calls trace:{turn:032x} */" if form == "commented" else text), ()


def sent_again(requests: Sequence[Request], writer: Writer, form: str) -> list[Request]:
    """Requests with their statements in a style and a form, and without a word of an ORM."""
    results: list[Request] = []
    receiver = LiveRequestBuilder(writer.system, results.append)
    for request in requests:
        receiver.request_began(
            RequestBegan(request.number, request.route, request.start_ns, request.kind)
        )
        receiver.queries(request.number, list(_queries(request, writer, form)))
        receiver.request_ended(RequestEnded(request.number, request.end_ns))
    return results


def _queries(request: Request, writer: Writer, form: str) -> Iterator[QuerySeen]:
    for i in range(len(request)):
        statement = request.statement(i)
        text, given = in_form(writer.marked(request, i), request.values(i), form, writer.system, i)
        if writer.style == "control traffic":
            before_ns = request.starts_ns[i] - 10
            yield QuerySeen(
                BETWEEN[i % len(BETWEEN)].format(i), before_ns, 1, connection=request.connections[i]
            )
        yield QuerySeen(
            text, request.starts_ns[i], request.durations_ns[i], request.rows[i], request.bytes[i], request.digests[i],
            request.tables.places.get(request.places[i]), None, request.connections[i], bool(request.in_transaction[i]),
            request.threads[i], given, (), statement.columns, statement.sampled, request.samples[i],
            tuple(request.widths.get(i, ())), request.errors.get(i, ""), request.batches.get(i, 0),
        )  # fmt: skip


def found(requests: Sequence[Request], widened: bool) -> Found:
    """How often each pattern and variant is found on each page. Where a style reads whole rows,
    that it does is not a matter.
    """
    findings = findings_of(summarise(requests))
    return Counter(
        (f.route, f.pattern, f.variant) for f in findings if not (widened and f.variant == "star")
    )


def compare(requests: Sequence[Request], system: str, verbose: bool) -> int:
    """Print what differs in each style and form; how many findings do."""
    expected = found(sent_again(requests, Writer(system, "as sent"), "bound"), False)
    differing = 0
    for style in STYLES:
        writer = Writer(system, style)
        for form in FORMS:
            results = found(sent_again(requests, writer, form), style == "whole rows")
            missed, new = expected - results, results - expected
            differing += missed.total() + new.total()
            words = f"{writer.changed} of {len(writer.known)} statements differ"
            print(
                f"  {style:20} {form:10} {words:30} {results.total():4} found, {missed.total():3} missed, {new.total():3} new"
            )
            if verbose:
                for title, which in (("missed", missed), ("new", new)):
                    for (route, pattern, variant), count in sorted(which.items()):
                        print(
                            f"      {title} {route}: {pattern} {variant} {f'x{count}' if count > 1 else ''}"
                        )
    return differing


def held_to_labels(
    requests: Sequence[Request], system: str, labels: dict[str, str]
) -> tuple[list[str], list[str]]:
    """What a page is labelled with and is not found without an ORM's words; what is found on a page
    that is labelled clean.
    """
    results = found(sent_again(requests, Writer(system, "as sent"), "literals"), False)
    there: dict[str, set[str]] = {}
    for route, pattern, _ in results:
        there.setdefault(route, set()).add(pattern)
    missed = [
        f"{page}: {name}"
        for page, label in labels.items()
        for name in set(label.split()) - there.get(page, set())
    ]
    false = [
        f"{page}: {name}"
        for page, label in labels.items()
        if not label
        for name in there.get(page, ())
    ]
    return sorted(missed), sorted(false)


def main() -> int:
    """Run what was asked for."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--only", choices=list(APPLICATIONS), action="append")
    parser.add_argument("--on", choices=SYSTEMS, action="append")
    parser.add_argument("--verbose", action="store_true")
    parser.add_argument("--capture", type=Path)
    options = parser.parse_args()
    if options.capture is not None:
        requests = list(read(options.capture))
        systems = {one.system for request in requests for one in request.tables.statements.values()}
        differing = sum(
            compare(requests, system, options.verbose) for system in systems & set(DIALECTS)
        )
        print(f"{differing} findings differ")
        return int(differing > 0)
    differing = 0
    for bench in benches(options.only, options.on):
        gave, _ = bench.run({}, True)
        print(f"{bench.name} on {bench.system}")
        requests = [
            request for request in read(bench.folder / "1.capture") if request.kind == "marked"
        ]
        missed, false = held_to_labels(requests, bench.system, gave["labels"])
        print(
            f"  without an ORM's words: missed {', '.join(missed) or 'nothing'}; false {', '.join(false) or 'nothing'}"
        )
        differing += len(false)
        differing += compare(requests, bench.system, options.verbose)
    print(f"{differing} findings differ")
    return int(differing > 0)


if __name__ == "__main__":
    sys.exit(main())
