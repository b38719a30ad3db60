"""`askless trial`: prove advice. On the database an index, a rewritten statement, or a finding's
lookups in one query; on the application itself edits of its code.
"""

from __future__ import annotations

import argparse

from askless.cli.common import (
    add_database,
    add_json,
    add_limits,
    add_lock_budget,
    file,
    limits_of,
    milliseconds_of,
    show,
)
from askless.core.errors import AskLessError

TYPE_CHECKING = False
if TYPE_CHECKING:
    from askless.core.findings.finding import Edit
    from askless.reports import documents

EXAMPLES = """  an index, invisible to other sessions:
    askless trial --db sqlite:///harbour.db --index "CREATE INDEX vessel_call_sign ON vessel (call_sign)" \\
        --sql "SELECT * FROM vessel WHERE call_sign = 'H00042'"
    askless trial calls --db URL --index "CREATE INDEX ..."     for the capture's queries on that table
  a rewritten statement, with the capture's values:
    askless trial calls --db URL --before old.sql --after new.sql
  a finding: its lookups one by one, against one batched query:
    askless trial calls --db URL --finding 1 --network-latency 0.5ms
  edits of the code, on the program itself, whose files stay as they are:
    askless trial calls --edit 1 --visit http://127.0.0.1:8000/calls/due -- python app.py
    askless trial calls --all-edits --visit URL --visit URL --patch proven.patch -- python app.py"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "capture",
        metavar="CAPTURE",
        type=file,
        nargs="?",
        help="a capture, for statements and values",
    )
    parser.add_argument("--index", metavar="DDL", help="one CREATE INDEX statement")
    parser.add_argument(
        "--sql",
        metavar="STATEMENT",
        action="append",
        default=[],
        help="a SELECT to measure; may be repeated",
    )
    parser.add_argument("--before", metavar="FILE", type=file, help="the original statement")
    parser.add_argument("--after", metavar="FILE", type=file, help="the rewritten statement")
    parser.add_argument(
        "--synthetic-rows",
        action="store_true",
        help="with --before and --after: also compare on private copies with synthetic rows (no "
        "children, NULL, ties, empty tables)",
    )
    parser.add_argument(
        "--use-copies",
        action="store_true",
        help="with --index on PostgreSQL: use temporary copies of the tables, which locks nothing "
        "(other databases always do)",
    )
    parser.add_argument(
        "--finding",
        metavar="FINDING",
        help="the finding to replay (n-plus-one or sibling-filters), by name or list number",
    )
    parser.add_argument(
        "--parameters",
        metavar="JSON",
        action="append",
        default=[],
        help="placeholder values: for each --sql in turn, or one set for --before and --after",
    )
    parser.add_argument(
        "--network-latency",
        metavar="TIME",
        default="",
        help="with --finding: network latency to add per query, e.g. 0.5ms",
    )
    parser.add_argument(
        "--top",
        metavar="N",
        type=int,
        default=5,
        help="with --index and a capture: number of shapes to measure (default: 5)",
    )
    parser.add_argument(
        "--values",
        action="store_true",
        help="show literals and rows from the capture; they may be private",
    )
    _declare_edits(parser)
    add_database(parser)
    add_limits(parser, trial=True)
    add_lock_budget(parser)
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Try and print; exit code 1 where a result changed."""
    if options.edit or options.all_edits:
        return _edits(options)
    if options.db is None:
        raise AskLessError(
            "no-database", "this trial needs a database", "name it with --db, or try --edit"
        )
    ways = {
        _index: options.index is not None,
        _rewrite: options.before is not None or options.after is not None,
        _finding: options.finding is not None,
    }
    wanted = [way for way, named in ways.items() if named]
    if len(wanted) != 1:
        raise AskLessError(
            "what-to-try",
            "name one thing to test: --index, --before with --after, --finding, or --edit",
            "see: askless trial --help",
        )
    if options.synthetic_rows and wanted[0] is not _rewrite:
        raise AskLessError(
            "what-to-try",
            "--synthetic-rows compares two statements",
            "give both: --before old.sql --after new.sql",
        )
    return 0 if wanted[0](options) else 1


def _declare_edits(parser: argparse.ArgumentParser) -> None:
    """The options of a trial of edits."""
    parser.add_argument(
        "--edit",
        metavar="FINDING",
        action="append",
        default=[],
        help="try the edit that fixes this finding, by name or list number; may be repeated",
    )
    parser.add_argument("--all-edits", action="store_true", help="try all edits that are calls")
    parser.add_argument(
        "--visit",
        metavar="URL",
        action="append",
        default=[],
        help="with edits: a page of the program to request; may be repeated",
    )
    parser.add_argument(
        "--visit-header",
        metavar="NAME:VALUE",
        action="append",
        default=[],
        help="with edits: send this header with each visit; env:NAME or file:PATH as its value "
        "reads it from there; may be repeated",
    )
    parser.add_argument(
        "--rounds",
        metavar="N",
        type=int,
        default=5,
        help="with edits: runs of the program with and without them (default: 5)",
    )
    parser.add_argument(
        "--repeat",
        metavar="N",
        type=int,
        default=5,
        help="with edits: visits per page and run after one warm-up visit (default: 5)",
    )
    parser.add_argument(
        "--startup-timeout",
        metavar="SECONDS",
        type=float,
        default=30.0,
        help="with edits: time limit for the first page to answer (default: 30)",
    )
    parser.add_argument(
        "--track-use",
        action="store_true",
        help="with edits: record which loaded objects and columns are read",
    )
    parser.add_argument(
        "--patch", metavar="FILE", help="with edits: write those that are proven as a patch"
    )
    parser.add_argument(
        "--keep",
        metavar="DIR",
        help="with edits: keep both captures in DIR/before and DIR/after",
    )


def _edits(options: argparse.Namespace) -> int:
    """Try edits on the program; exit code 1 where one is not proven."""
    from pathlib import Path

    from askless.api.captures import read
    from askless.api.edit_trial import Wish, edit_trial
    from askless.output import delivery, notices
    from askless.project.project_root import root
    from askless.sources.programs.page_visits import check_visits, headers_of

    if options.capture is None or not options.visit or not options.behind:
        raise AskLessError(
            "what-to-try",
            "a trial of edits needs a capture, pages and the program",
            "as in: askless trial calls --all-edits --visit http://127.0.0.1:8000/ -- python app.py",
        )
    check_visits({"visit": options.visit, "repeat": options.repeat, "sizes": ""})
    document = read(options.capture).findings().document
    edits = _edits_named(document, options)
    wish = Wish(
        command=tuple(options.behind),
        urls=tuple(dict.fromkeys(options.visit)),
        rounds=options.rounds,
        repeat=options.repeat,
        wait_s=options.startup_timeout,
        track_use=options.track_use,
        headers=headers_of(options.visit_header),
        keep=Path(options.keep) if options.keep is not None else None,
    )
    result, patch = edit_trial(document, edits, wish, root(), notices.progress)
    if options.patch is not None:
        delivery.bytes_to_file(patch, Path(options.patch))
    show(result, options.json)
    return int(not all(edit.proven for edit in result.edits))


def _edits_named(document: documents.FindingsDocument, options: argparse.Namespace) -> list[Edit]:
    """The edits that the options name. Raises AskLessError no-finding."""
    from askless.core.formatting import plural
    from askless.output import notices
    from askless.reports import name_lookup

    if options.all_edits:
        calls = [edit for edit in document.edits if edit.is_call]
        if words := len(document.edits) - len(calls):
            notices.note(f"note: not tried: {plural(words, 'edit')} that no call describes")
        return calls
    listed = [finding.key for finding in document.findings if finding.key not in document.accepted]
    results = []
    for word in options.edit:
        key = name_lookup.finding_name(options.capture, word, listed)
        edit = next((one for one in document.edits if key in one.findings), None)
        if edit is None:
            raise AskLessError(
                "no-finding",
                f"no listed finding is called {word}",
                f"list them: askless findings {options.capture}",
            )
        if edit not in results:
            results.append(edit)
    return results


def _index(options: argparse.Namespace) -> bool:
    from askless.output import notices
    from askless.reports import index_trial

    limits = limits_of(
        options.timeout,
        options.allow_large,
        options.allow_busy,
        options.trust_function,
        options.lock_budget,
        on_copies=options.use_copies,
    )
    if options.sql:
        statements = index_trial.typed(options.sql, options.parameters)
    elif options.capture is not None:
        statements, notes = index_trial.captured(
            options.capture, options.index, options.db, options.top
        )
        notices.notes(notes)
    else:
        raise AskLessError(
            "what-to-try",
            "--index needs statements to measure",
            "name a SELECT with --sql, or a capture",
        )
    values = options.values or options.capture is None
    document = index_trial.index_trial(
        options.db, options.index, statements, values, limits, notices.progress
    )
    show(document, options.json)
    return all(row.same_result for row in document.statements)


def _rewrite(options: argparse.Namespace) -> bool:
    from askless.output import notices
    from askless.reports import rewrite_trial

    if options.before is None or options.after is None:
        raise AskLessError(
            "what-to-try",
            "a rewrite needs two statements",
            "give both: --before old.sql --after new.sql",
        )
    limits = limits_of(
        options.timeout,
        options.allow_large,
        options.allow_busy,
        options.trust_function,
        harder=options.synthetic_rows,
    )
    before, after = (
        rewrite_trial.statement_in(options.before),
        rewrite_trial.statement_in(options.after),
    )
    values = rewrite_trial.given_values(options.parameters)
    if not values and options.capture is not None:
        values = rewrite_trial.captured_values(options.capture, before, after, options.db)
    rows_shown = options.capture is None or options.values
    document = rewrite_trial.rewrite_trial(
        options.db, before, after, values, rows_shown, limits, notices.progress
    )
    show(document, options.json)
    return document.same_result


def _finding(options: argparse.Namespace) -> bool:
    from askless.output import notices
    from askless.reports import name_lookup
    from askless.reports.finding_trial import finding_trial

    if options.capture is None:
        raise AskLessError(
            "what-to-try",
            "--finding needs a capture",
            "name it: askless trial CAPTURE --finding 1 --db URL",
        )
    network_latency_ms = milliseconds_of(options.network_latency)
    limits = limits_of(
        options.timeout, options.allow_large, options.allow_busy, options.trust_function
    )
    key = name_lookup.finding_name(options.capture, options.finding)
    document = finding_trial(
        options.db,
        options.capture,
        key,
        network_latency_ms,
        options.values,
        limits,
        notices.progress,
    )
    show(document, options.json)
    return all(alternative.same_result for alternative in document.alternatives)
