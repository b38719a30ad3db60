"""Which mistakes the tests notice: a fixed, reviewed list of small ones is planted, one at a time.

`python benchmarks/mutants.py [TEXT ...]` plants those whose file or code contains a TEXT (default:
all) in a copy of the sources, runs the tests that are there for that file, and prints the
survivors. A known survivor is in LEFT, with its reason. Exit code 1 where another one survives, or
where a mutant no longer fits the code.
"""

from __future__ import annotations

import itertools
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parent.parent
JOBS = os.cpu_count() or 1


class Mutant(NamedTuple):
    """One change of one line of a file below `core`, or of one whose path begins with `./` and the
    name of another package.
    """

    file: str
    old: str
    new: str


NUMBERS = ("tests/test_numbers.py",)
PATTERNS = (
    "tests/test_numbers.py",
    "tests/core/test_thresholds.py",
    "tests/core/test_styles.py",
    "tests/test_patterns.py",
    "tests/test_traffic.py",
    "tests/test_use.py",
)
PAGES = ("tests/cli/test_reports.py", "tests/test_advice.py")
# File -> the tests that are there for it, the quickest first.
USE, TRIALS = ("tests/test_use.py",), ("tests/database/test_trials.py",)
SAFETY, TRUST = ("tests/database/test_safety.py",), ("tests/test_trust.py",)
TESTS: dict[str, Sequence[str]] = {
    "records/sampling.py": NUMBERS,
    "./capture/sampling.py": NUMBERS,
    "./database/connecting.py": NUMBERS,
    "./database/timing.py": NUMBERS,
    "./probe/inject/askless_probe/sampling.py": NUMBERS,
    "./sources/attribution/boundaries.py": (*NUMBERS, "tests/wire/test_requesting.py"),
    "./sources/attribution/time_windows.py": ("tests/wire/test_known_times.py",),
    "./sources/packets/frames.py": ("tests/wire/test_packets.py",),
    "./sources/packets/tcp_streams.py": ("tests/wire/test_packets.py",),
    "./sources/logs/postgresql_records.py": ("tests/logs/test_logs.py",),
    "./sources/logs/mariadb.py": ("tests/logs/test_logs.py",),
    "./sources/otlp/trace_assembly.py": ("tests/traces/test_putting_together.py",),
    "./output/registry.py": ("tests/test_seams.py",),
    "./output/csv_text.py": ("tests/output/test_formats.py",),
    "./output/gate_text.py": ("tests/test_gate.py",),
    "./output/text.py": ("tests/output/test_terminal.py", "tests/output/test_formats.py"),
    "./reports/gate.py": ("tests/test_gate.py", *TRUST),
    "./reports/findings.py": ("tests/cli/test_seen.py", "tests/test_gate.py"),
    "./cli/renamed_options.py": ("tests/cli/test_bad_input.py",),
    "./capture/lines.py": ("tests/test_sound_captures.py",),
    "./capture/reading.py": ("tests/test_sound_captures.py",),
    "./project/summary_cache.py": ("tests/cli/test_seen.py",),
    "errors.py": ("tests/core/test_errors.py",),
    "./database/preflight.py": SAFETY,
    "./database/servers/postgresql.py": SAFETY,
    "./database/servers/postgresql_dependencies.py": SAFETY,
    "./database/servers/mariadb.py": SAFETY,
    "./database/servers/mariadb_dependencies.py": SAFETY,
    "./database/servers/sqlite.py": SAFETY,
    "./sources/otlp/receiver.py": ("tests/traces/test_receiving.py",),
    "./sources/otlp/recovery.py": ("tests/traces/test_receiving.py",),
    "./sources/otlp/size_limits.py": ("tests/traces/test_receiving.py",),
    "./sources/logs/reader.py": TRUST,
    "./sources/capture_folder.py": TRUST,
    "./project/user_files.py": TRUST,
    "./executors/processes.py": TRUST,
    "./cli/unexpected_errors.py": TRUST,
    "./reports/loading.py": (*TRUST, "tests/probe/test_sampling.py"),
    "./sources/wire/postgresql/handshake.py": ("tests/wire/test_passwords.py",),
    "./probe/inject/askless_probe/object_use.py": USE,
    "./probe/inject/askless_probe/orm/django_use.py": USE,
    "./probe/inject/askless_probe/orm/sqlalchemy_orm.py": USE,
    "./probe/inject/askless_probe/stack.py": ("tests/probe/test_places.py",),
    "./probe/inject/askless_probe/writing.py": (
        "tests/probe/test_writing.py",
        "tests/probe/test_recorder.py",
    ),
    "./probe/inject/askless_probe/drivers/dbapi.py": (
        "tests/probe/test_recorder.py",
        "tests/probe/test_drivers.py",
    ),
    "./sources/wire/mysql/handshake.py": ("tests/wire/test_mysql.py", "tests/wire/test_packets.py"),
    "./capture/crash_recovery.py": ("tests/probe/test_recorder.py", "tests/probe/test_writing.py"),
    "./capture/writing.py": (*TRUST, "tests/output/test_canary.py"),
    "./database/finding_trial.py": TRIALS,
    "./database/rewrite_trial.py": TRIALS,
    "./database/index_set_trial.py": ("tests/database/test_proving.py",),
    "./output/junit.py": ("tests/output/test_formats.py", "tests/test_gate.py"),
    "./output/terminal/requests.py": ("tests/output/test_terminal.py",),
    "sql/credentials.py": ("tests/core/test_credentials.py",),
    "analysis/edits.py": (
        "tests/test_unlike_pages.py",
        "tests/test_advice.py",
        "tests/test_where_built.py",
        "tests/test_row_multiplication.py",
    ),
    "advice/shared_lines.py": ("tests/core/test_shared_lines.py",),
    "inference/shared_lines.py": ("tests/core/test_shared_lines.py", "tests/test_where_built.py"),
    "inference/context.py": ("tests/test_where_built.py",),
    "comparison/uncovered.py": ("tests/test_fixes.py",),
    "patterns/slow_query.py": ("tests/test_slow_queries.py",),
    "findings/unavailable_fields.py": ("tests/test_unseen_results.py",),
    "sql/masking.py": ("tests/output/test_canary.py",),
    "formatting.py": TRUST,
    "sql/structure_reader.py": ("tests/core/test_parsing.py", "tests/core/test_structure.py"),
    "sql/conditions.py": ("tests/core/test_parsing.py", "tests/core/test_structure.py"),
    "sql/names.py": ("tests/core/test_parsing.py", "tests/core/test_structure.py"),
    "sql/parsing.py": ("tests/core/test_parsing.py", "tests/core/test_parts.py"),
    "sql/structure.py": PATTERNS,
    "sql/shape.py": ("tests/core/test_shape.py",),
    "sql/tokens.py": ("tests/core/test_shape.py",),
    "sql/slots.py": (
        "tests/core/test_shape.py",
        "tests/core/test_structure.py",
        "tests/core/test_sending.py",
    ),
    "sql/clauses.py": ("tests/core/test_parts.py",),
    "sql/guarantees.py": ("tests/core/test_results.py",),
    "sql/statements.py": ("tests/core/test_statements.py",),
    "trials/result_comparison.py": ("tests/core/test_results.py", "tests/core/test_thresholds.py"),
    "statistics.py": ("tests/core/test_statistics.py", "tests/core/test_thresholds.py"),
    "inference/lineage.py": (
        "tests/core/test_lineage.py",
        "tests/core/test_thresholds.py",
        "tests/core/test_styles.py",
        "tests/core/test_paths.py",
    ),
    "inference/relation_paths.py": ("tests/core/test_paths.py",),
    "sql/value_equality.py": ("tests/core/test_styles.py",),
    "plans/mysql.py": ("tests/core/test_thresholds.py", "tests/database/test_mariadb_plans.py"),
    "plans/mysql_tree.py": ("tests/core/test_plans_mysql_tree.py",),
    "plans/sqlite.py": ("tests/core/test_plans.py",),
    "plans/observations.py": ("tests/core/test_plans.py",),
    "plans/runtime_observations.py": (
        "tests/core/test_measured.py",
        "tests/core/test_plans_mysql_tree.py",
        "tests/database/test_postgresql_plans.py",
    ),
    "plans/wall_time.py": ("tests/core/test_measured.py",),
    "advice/rewriting/statements.py": (
        "tests/core/test_parsing.py",
        "tests/core/test_structure.py",
        "tests/core/test_thresholds.py",
        "tests/test_advice.py",
    ),
    "indexing/advisor.py": ("tests/core/test_thresholds.py", "tests/core/test_indexing.py"),
    "indexing/cost.py": ("tests/core/test_thresholds.py", "tests/core/test_indexing.py"),
    "indexing/needs.py": ("tests/core/test_thresholds.py", "tests/core/test_indexing.py"),
    "indexing/candidates.py": ("tests/core/test_indexing.py",),
    "records/request_builder.py": ("tests/test_sound_captures.py", "tests/test_seams.py"),
    "records/interning.py": ("tests/test_seams.py", "tests/probe/test_writing.py"),
    "aggregation/aggregator.py": (*PATTERNS, *PAGES),
    "aggregation/summary.py": PAGES,
    "aggregation/shape_stats.py": ("tests/core/test_styles.py", *PAGES),
    "comparison/captures.py": ("tests/core/test_thresholds.py", "tests/cli/test_reports.py"),
    "verdicts.py": ("tests/cli/test_verdicts.py",),
    "findings/acceptance.py": ("tests/test_names.py", "tests/test_stopping.py"),
    "findings/finding.py": ("tests/cli/test_reports.py",),
    "analysis/pipeline.py": ("tests/cli/test_reports.py", "tests/test_patterns.py"),
    "trials/replay.py": ("tests/database/test_trials.py",),
    "aggregation/route_rows.py": ("tests/cli/test_reports.py",),
    "patterns/held_transaction.py": ("tests/test_held_transaction.py",),
    "inference/transactions.py": ("tests/test_held_transaction.py",),
    "patterns/failing.py": ("tests/test_failing.py",),
    "inference/failures.py": ("tests/test_failing.py",),
    "patterns/find_or_create.py": ("tests/test_find_or_create.py",),
    "patterns/row_multiplication.py": ("tests/test_row_multiplication.py",),
    "inference/joined_rows.py": ("tests/test_row_multiplication.py",),
    "patterns/subquery_per_row.py": ("tests/test_subquery_per_row.py",),
    "patterns/stable_read.py": ("tests/test_stable_read.py",),
    "patterns/literal_churn.py": ("tests/test_literal_churn.py",),
    "patterns/polymorphic.py": ("tests/test_polymorphic.py",),
    "patterns/one_column.py": ("tests/test_use.py",),
    "patterns/deep_offset.py": ("tests/test_deep_offset.py",),
    "growth/by_rows.py": ("tests/test_growth.py",),
    "growth/over_time.py": ("tests/test_growth.py",),
    "comparison/baseline.py": ("tests/test_gate.py",),
    "comparison/budgets.py": ("tests/test_gate.py",),
}

MUTANTS = [
    # what must hold before a statement is sent, and what is never lost, left or judged unread
    Mutant("./database/preflight.py", "    (checked_select if runs else checked_plannable)(query.text, query.system)", "    pass"),
    Mutant("./database/preflight.py", "    if not routines:\n        return", "    return"),
    Mutant("./database/servers/postgresql.py", "super()._execute_send(query, force_extended=True, binary=binary)", "super()._execute_send(query, force_extended=False, binary=binary)"),
    Mutant("./database/servers/postgresql.py", ' + ("" if write else " READ ONLY"))', ")"),
    Mutant("./database/servers/postgresql.py", '            connection.exec_driver_sql("SELECT 1")', "            pass"),
    Mutant("./database/servers/postgresql_dependencies.py", '        self._note("operator", map(int, _OPERATORS.findall(tree)))', "        pass"),
    Mutant("./database/servers/postgresql_dependencies.py", "    if oid < _FIRST_USER_OID and language", "    if language"),
    Mutant("./database/servers/postgresql_dependencies.py", "            if states:  # an aggregate has no code of its own", "            if states and False:"),
    Mutant("./database/servers/postgresql_dependencies.py", "                for tree in self._texts(_DOMAIN_CHECKS, types):\n                    self.add_tree(tree)", "                pass"),
    Mutant("./database/servers/postgresql_dependencies.py", "        if not checked:\n            return \"\"", "        return \"\""),
    Mutant("./database/servers/postgresql_dependencies.py", "WHERE c.oid = ANY (%(oids)s::oid[]) AND c.relrowsecurity AND q.tree IS NOT NULL", "WHERE false AND c.oid = ANY (%(oids)s::oid[])"),
    Mutant("./database/servers/mariadb.py", '"client_flag": 0', '"client_flag": 65536'),
    Mutant("./sources/otlp/receiver.py", "                number = self._journal.append(kind, payload)", "                number = 1"),
    Mutant("./sources/otlp/receiver.py", "        if self.failed.is_set():\n            raise ReaderGone", "        if False:\n            raise ReaderGone"),
    Mutant("./sources/otlp/receiver.py", "                await asyncio.wait_for(self._read(receive, parts), BODY_S)", "                await self._read(receive, parts)"),
    Mutant("./sources/otlp/recovery.py", "            if path.stat().st_size > sizes[path.name]:", "            if False:"),
    Mutant("./sources/otlp/size_limits.py", "    if len(payload) > SMALL_BYTES:\n        _walk(payload, objects_most)", "    pass"),
    Mutant("./sources/logs/reader.py", "    if failed:\n        raise failed[0]", "    pass"),
    Mutant("./sources/capture_folder.py", "        if _is_shared(folder):", "        if False:"),
    Mutant("./project/user_files.py", "    if digest != _digest(data):", "    if False:"),
    Mutant("./project/user_files.py", "status.st_uid != os.geteuid() or status.st_mode & 0o077", "status.st_uid != os.geteuid()"),
    Mutant("./executors/processes.py", "    os._exit(1)", "    pass"),
    Mutant("./cli/unexpected_errors.py", "            signal.pthread_kill(threading.main_thread().ident or 0, self.number)", "            pass"),
    Mutant("./cli/unexpected_errors.py", "EXIT_CODE = 70", "EXIT_CODE = 1"),
    Mutant("./reports/loading.py", "    if damage:\n        raise AskLessError(", "    if False:\n        raise AskLessError("),
    Mutant("./sources/wire/postgresql/handshake.py", 'if not name.endswith(_BINDING)]', "]"),
    Mutant("sql/credentials.py", '    if "\\\\" not in text:', "    if True:"),
    Mutant("sql/credentials.py", "_without_literals(_without_comments(text))", "_without_literals(text)"),
    Mutant("sql/masking.py", '        if token.kind == "comment":', '        if token.kind == "none":'),
    Mutant("formatting.py", '.replace("\\n", "\\\\n")', ""),
    # reading a statement
    Mutant("sql/conditions.py", '_MIRRORED = {">": "<",', '_MIRRORED = {">": ">",'),
    Mutant("sql/conditions.py", "        operator = _MIRRORED.get(operator, operator)", "        pass"),
    Mutant("sql/conditions.py", '        operator = "not " + operator', "        pass"),
    Mutant("sql/conditions.py", '"not between" if negated else "between"', '"between"'),
    Mutant("sql/conditions.py", '"not in" if negated else "in"', '"in"'),
    Mutant("sql/conditions.py", '"is not null" if negated else "is null"', '"is null"'),
    Mutant("sql/conditions.py", "        negated = not negated", "        pass"),
    Mutant("sql/structure_reader.py", 'outer = bool(join.side)', 'outer = False'),
    Mutant("sql/conditions.py", "for one in _predicate(inner, names, False))", "for one in _predicate(inner, names, True))"),
    Mutant("sql/structure_reader.py", "    while isinstance(aggregate, _WRAPPERS):", "    while False:"),
    Mutant("sql/structure_reader.py", 'isinstance(node, exp.Copy) and not node.args.get("kind")', "False"),
    Mutant("sql/structure_reader.py", "predicates = [msgspec.structs.replace(one, required=False) for one in predicates]", "pass"),
    Mutant("sql/structure_reader.py", "locks=result.locks or bool(_LOCKING.search(text))", "locks=result.locks"),
    Mutant("sql/structure_reader.py", '"insert" if kind == "replace" else kind', "kind"),
    Mutant("sql/names.py", "return having[0] if len(having) == 1 and len(derived) == len(sources) else None", "return having[0] if having else None"),
    Mutant("sql/names.py", "        if len(sources) == 1:\n            return self._in(sources[0], name)", "        if sources:\n            return self._in(sources[0], name)"),
    Mutant("sql/names.py", "around = around.parent if around.is_subquery or around.is_correlated_subquery else None", "around = None"),
    Mutant("sql/parsing.py", "            waiting += [part.right, part.left]", "            waiting += [part.left, part.right]"),
    Mutant("sql/parsing.py", "or _depth(text) > DEPTH_MOST", "or _depth(text) > 15"),
    Mutant("sql/parsing.py", "    while isinstance(node, exp.Cast | exp.Neg | exp.Paren):", "    while isinstance(node, exp.Paren):"),
    # shapes and slots
    Mutant("sql/shape.py", '(("in(",), _IN_LIST, "in(?)"),', ""),
    Mutant("sql/shape.py", '(("values(",), _ROWS, "values(?)"),', ""),
    Mutant("sql/shape.py", '(("::",), _CAST, "?"),', ""),
    Mutant("sql/shape.py", r'(("-", "+"), _SIGNED, r"\1?"),', ""),
    Mutant("sql/shape.py", '(("= null", "= true", "= false"), _NULL_VALUE, "?"),', ""),
    Mutant("sql/shape.py", "noise.match(shape) or catalogs.search(shape)", "noise.match(shape)"),
    Mutant("sql/slots.py", "return text[1:].removesuffix(quote).replace(quote * 2, quote)", "return text[1:].removesuffix(quote)"),
    Mutant("sql/slots.py", "values.append(parameters[place - 1] if 0 < place <= len(parameters) else None)", "values.append(parameters[place - 2] if 0 < place <= len(parameters) else None)"),
    Mutant("sql/clauses.py", '    if name == "limit":\n        tree.set("offset", None)', "    pass"),
    Mutant("sql/clauses.py", "return None  # a column without its table's name may belong to what goes", "pass"),
    Mutant("sql/guarantees.py", "return place - 1 if 0 < place <= len(names)", "return place if 0 < place <= len(names)"),
    Mutant("sql/guarantees.py", "if not join.side)", "if join.side)"),
    Mutant("sql/statements.py", ' or " into " in f" {shape_text(text, system)} "', ""),
    Mutant("sql/statements.py", '    if any(select.args.get("locks") for select in parsed[0].find_all(exp.Select)):', "    if False:"),
    # equal or not
    Mutant("trials/result_comparison.py", "if a != b and not _nearly(a, b):", "if a != b:"),
    Mutant("trials/result_comparison.py", "            if not _nearly(row, other):\n                continue", "            pass"),
    Mutant("trials/result_comparison.py", "DIGITS = 12", "DIGITS = 3"),
    Mutant("trials/result_comparison.py", "    if question.order is None or (not question.order and question.order_kept):\n        return None", "    if not question.order:\n        return None"),
    Mutant("trials/result_comparison.py", '        return ("bool", value)', "        return int(value)"),
    Mutant("trials/result_comparison.py", "            same = min(lost[row], gained[other])", "            same = max(lost[row], gained[other])"),
    # statistics
    Mutant("statistics.py", "rounds: int = 2000, confidence: float = 0.95,", "rounds: int = 2000, confidence: float = 0.90,"),
    Mutant("statistics.py", "return self.low > SAME_WITHIN or self.high < 1 / SAME_WITHIN", "return self.low > 1"),
    Mutant("statistics.py", "    edge = (1 - confidence) / 2", "    edge = 1 - confidence"),
    Mutant("statistics.py", "ratio.low / factor, ratio.high * factor", "ratio.low, ratio.high"),
    Mutant("statistics.py", "self.count += other.count - len(other._exact)", "self.count += other.count"),
    Mutant("verdicts.py", "return Outcome.FASTER if ratio.value > 1 else Outcome.SLOWER", "return Outcome.FASTER"),
    Mutant("verdicts.py", "    if not ratio.certain:", "    if ratio.certain:"),
    Mutant("comparison/captures.py", "if ratio.low <= drift and ratio.high >= 1 / drift:", "if False:"),
    Mutant("comparison/captures.py", "new=tuple(f for f in after if f.key not in by_key and f.route in routes_before)", "new=tuple(f for f in after if f.key not in by_key)"),
    Mutant("comparison/captures.py", "row.route: max(row.ratio.value, 1 / row.ratio.value)", "row.route: row.ratio.value"),
    # where values came from
    Mutant("advice/shared_lines.py", "not in packages else", "in packages else"),
    Mutant("inference/shared_lines.py", "callers.setdefault(_caller(place), set())", "callers.setdefault(place, set())"),
    Mutant("inference/shared_lines.py", "any(one != models for one in callers.values())", "True"),
    Mutant("inference/context.py", "return not (structure.joins or structure.filters_besides(relation.remote))", "return False"),
    Mutant("inference/joined_rows.py", "return None if None in values else values", "return values[0]"),
    Mutant("analysis/edits.py", "        return -1  # what was joined", "        return 0  # what was joined"),
    Mutant("analysis/edits.py", 'what = where[3:] if where[0] == "query" else where[2:]', "what = where[1:]"),
    Mutant("sql/structure_reader.py", "    return not [*comparisons(condition, names), *_joins(condition, names, False)]", "    return False"),
    Mutant("inference/lineage.py", "source.in_order and source.matched >= (3 if source.named else 5)", "source.matched >= (3 if source.named else 5)"),
    Mutant("inference/lineage.py", "source.in_order and source.matched >= (3 if source.named else 5)", "source.in_order and source.matched >= 2"),
    Mutant("inference/lineage.py", "if first_seen.get(key, i) < i]", "if key in first_seen]"),
    Mutant("inference/lineage.py", "len(matched) < 0.9 * _expected(", "len(matched) < 0.4 * _expected("),
    Mutant("inference/lineage.py", "return len(wanted) if taken >= rows else min(len(wanted), len(seen))", "return len(wanted)"),
    Mutant("inference/lineage.py", "            if statement.shape.digest != own:", "            if True:"),
    Mutant("inference/lineage.py", "            if only is not None and not only.fits(source.table, source.column):", "            if False:"),
    Mutant("inference/lineage.py", "first_seen.setdefault(meaning(row[position]), i)", "first_seen.setdefault(row[position], i)"),
    Mutant("sql/value_equality.py", "        return int(value) if value.is_integer() else value", "        return value"),
    Mutant("sql/value_equality.py", "isinstance(items, list) and len(items) == 1 and", "isinstance(items, list) and"),
    # paths
    Mutant("inference/relation_paths.py", "    return ways[0] if len(ways) == 1 else None", "    return ways[0] if ways else None"),
    Mutant("inference/relation_paths.py", "load.orm not in _BY_CLASS and known is not None", "known is not None"),
    Mutant("inference/relation_paths.py", "relation.many or target is None or target.table.lower() not in given or", "relation.many or target is None or"),
    # plans
    Mutant("plans/mysql.py", 'never=raw.get("r_loops") == 0 and access not in _BY_ONE_KEY', 'never=raw.get("r_loops") == 0'),
    Mutant("plans/mysql.py", 'never=raw.get("r_loops") == 0 and access not in _BY_ONE_KEY', "never=False"),
    Mutant("plans/observations.py", "    if count is not None and count > MOST_SHARE * size:\n        return []", "    pass"),
    Mutant("plans/observations.py", "        return max(rows) < SHORT_SORT_ROWS", "        return False"),
    Mutant("plans/observations.py", "if one.kind in tree.READS][1:]}", "if one.kind in tree.READS]}"),
    Mutant("plans/runtime_observations.py", "    if (seen < expected and cut_short) or not _is_guess(node, expected, node.actual):\n        return False", "    pass"),
    Mutant("plans/runtime_observations.py", "removed, passed = actual.removed * actual.loops, actual.rows * actual.loops", "removed, passed = actual.removed, actual.rows"),
    Mutant("plans/runtime_observations.py", "            below = above.children[1:]", "            below = ()"),
    Mutant("plans/wall_time.py", "below = workers * max(node.children[-1].actual.loops / max(node.actual.loops, 1), 1.0)", "below = workers"),
    Mutant("plans/wall_time.py", "taken += max(min(own, most_ms - taken), 0.0)", "pass"),
    Mutant("trials/result_comparison.py", "digits = DIGITS if floats == 2 else DIGITS_HELD", "digits = DIGITS"),
    # rewriting
    Mutant("advice/rewriting/statements.py", "            if not drop_limit:\n                return None", "            pass"),
    Mutant("advice/rewriting/statements.py", '            tree.set("limit", None)\n        keys = lookup.by_all_keys(', "            pass\n        keys = lookup.by_all_keys("),
    Mutant("advice/rewriting/statements.py", "if Column(key.table.lower(), key.name.lower()) == wanted:", "if key.name.lower() == wanted.name:"),
    Mutant("advice/rewriting/statements.py", "results[0]) if len(results) == 1 else None", "results[0]) if results else None"),
    Mutant("advice/rewriting/statements.py", 'return tree.join(exp.to_table(table), on=on, join_type="left", copy=False)\n\n    return rewritten', "return tree.join(exp.to_table(table), on=on, copy=False)\n\n    return rewritten"),
    Mutant("advice/rewriting/statements.py", 'on=on, join_type="left", copy=False).group_by', "on=on, copy=False).group_by"),
    Mutant("advice/rewriting/statements.py", 'partition_by=keys, order=order.copy()', "partition_by=keys"),
    Mutant("advice/rewriting/statements.py", '        if to_many and tree.args.get("limit") is not None:\n            return None', "        pass"),
    Mutant("advice/rewriting/statements.py", "        if not _selects(tree, key):\n            tree.select(key.copy(), append=True, copy=False)", "        pass"),
    Mutant("advice/rewriting/statements.py", "        if not self.beside:\n            node.replace(own)\n            return [key.copy()]\n        where", "        if True:\n            node.replace(own)\n            return [key.copy()]\n        where"),
    Mutant("advice/rewriting/statements.py", "if any(one.same or one.slot not in others for one in self.beside):", "if any(one.slot not in others for one in self.beside):"),
    Mutant("advice/rewriting/statements.py", "        if not plain or len(compared) != 1:", "        if len(compared) != 1:"),
    Mutant("sql/structure_reader.py", "refers or inner.args.get(\"group\") is not None or (within and (within & keys or not keys))", "True"),
    # the index advisor
    Mutant("indexing/advisor.py", "    chosen = _thin_out(items, existing, chosen)", "    pass"),
    Mutant("indexing/advisor.py", "own = [index for index in table.indexes if index.serves_equality]", "own = list(table.indexes)"),
    Mutant("indexing/advisor.py", "if index.unique or not index.is_plain:", "if index.unique:"),
    Mutant("indexing/advisor.py", "staying = [one for one in staying if one.name != index.name]", "pass"),
    Mutant("indexing/needs.py", ' or structure.kind != "select"', ""),
    Mutant("indexing/advisor.py", "    if not system_of(schema.system).partial_indexes:", "    if False:"),
    Mutant("indexing/advisor.py", "return statement.limit\n", "return None\n"),
    Mutant("indexing/cost.py", "        correlation *= 0.75", "        pass"),
    Mutant("indexing/cost.py", "return scattered + entries * ROW / 10, worst + correlation**2 * (min(best, worst) - worst)", "return scattered + entries * ROW / 10, worst"),
    Mutant("indexing/cost.py", "    if len({down for _, down in wanted}) > 1:\n        return False", "    pass"),
    Mutant("indexing/cost.py", "            return [*conditions, column], matched + 1\n", "            conditions.append(column)\n"),
    Mutant("indexing/needs.py", "_UNINDEXED_SHARE = 0.1", "_UNINDEXED_SHARE = 0.9"),
    Mutant("indexing/needs.py", 'times = max(len(predicate.slots), 1) if predicate.operator == "in" else 1', "times = 1"),
    Mutant("indexing/needs.py", "if not predicate.filters or predicate.inside or not", "if not predicate.filters or not"),
    Mutant("indexing/candidates.py", "    for size in range(1, len(equal) + 1):", "    for size in range(1, 2):"),
    # patterns and totals
    Mutant("patterns/keys.py", "if predicate is None or not (predicate.alike or predicate.inside in _SAME_KEY):", "if predicate is None:"),
    Mutant("patterns/keys.py", "        if listed and not all(single(row[position])[0] for row in rows):", "        if False:"),
    Mutant("patterns/n_plus_one.py", "    return written_between(view, indices[0], indices[-1] + 2", "    return False and written_between(view, indices[0], indices[-1] + 2"),
    Mutant("patterns/loops.py", "Variant.SAME_ROW if more else seen", "Variant.SAME_ROW"),
    Mutant("patterns/n_plus_one.py", "if objects < settings.repeat_least or structure.aggregates:", "if objects < settings.repeat_least:"),
    Mutant("sql/structure.py", "not self.locks and not self.volatile", "not self.locks"),
    Mutant("patterns/duplicate.py", "        if written or changed or waits_between(request, before, after, settings):", "        if written or changed:"),
    Mutant("patterns/duplicate.py", "        if written or changed or waits_between(request, before, after, settings):", "        if changed or waits_between(request, before, after, settings):"),
    Mutant("patterns/already_loaded.py", "and not written_between(view, i, indices[-1], {structure.main.lower()})", ""),
    Mutant("patterns/already_loaded.py", "return bool(queries) and queries <= there", "return bool(queries)"),
    Mutant("patterns/sibling_filters.py", "not structure.aggregates or structure.group_by", "not structure.aggregates"),
    Mutant("patterns/write_loop.py", "request.batches.get(i, 0) <= 1 and", "True and"),
    Mutant("patterns/write_loop.py", 'not (kind == "insert" and request.rows[i] > 1)', "True"),
    Mutant("patterns/duplicate.py", '    return structure.clock in ("", "day")', "    return True"),
    Mutant("patterns/sibling_filters.py", "if len(starts & stops) >= len(rows) - 1 else None", "if True else None"),
    Mutant("patterns/unbounded.py", "    if structure.bounded or structure.exists:\n        return False", "    pass"),
    Mutant("analysis/edits.py", "return 0.0 if 0 < len(sample) < SAMPLED_REQUESTS_MOST else average", "return average"),
    Mutant("analysis/edits.py", "after = median([pair[1] for pair in pairs])", "after = pairs[0][1]"),
    Mutant("analysis/edits.py", "return one.of_shape - _own_queries(part, parts)", "return one.of_shape"),
    Mutant("comparison/uncovered.py", "return all(now <= AS_MUCH * then for now, then in sizes)", "return True"),
    Mutant("comparison/uncovered.py", "return all(now <= AS_MUCH * then for now, then in sizes)", "return False"),
    Mutant("patterns/slow_query.py", "if costliest.shape.digest in explained or not costliest.requests:", "if not costliest.requests:"),
    Mutant("patterns/slow_query.py", "return () if first & set(compared) else compared", "return compared"),
    Mutant("findings/unavailable_fields.py", """then this is a "
        f"loop over its rows.""", """then this is no "
        f"loop over its rows."""),
    Mutant("patterns/over_wide.py", "if name not in remaining and stats.columns.count(name) < 2", "if stats.columns.count(name) < 2"),
    Mutant("patterns/unused_load.py", "totals is None or touched or totals.objects", "totals is None or totals.objects"),
    Mutant("patterns/discarded_rows.py", "if count >= 0.9 * totals.objects)", "if count >= 0.1 * totals.objects)"),
    Mutant("patterns/base.py", "return any(first < i < last and (table in tables or table == EVERYTHING) for", "return any(first < i < last and table in tables for"),
    Mutant("aggregation/aggregator.py", "            route.stats.warm_up += 1\n            return", "            route.stats.warm_up += 1"),
    Mutant("aggregation/aggregator.py", "        groups = list(_without_errors(groups, request.errors))", "        pass"),
    Mutant("aggregation/aggregator.py", "        self.shapes = len(set(own.values()))", "        self.shapes = len(own)"),
    Mutant("aggregation/summary.py", "                if key in own:\n                    own[key].merge(tally)", "                if key in own:\n                    pass"),
    Mutant("records/request_builder.py", "        if not self.tables.statements.keys() >= set(statements):", "        if False:"),
    Mutant("records/request_builder.py", "if any(not 0 <= column < len(names) for column in sampled):", "if False:"),
    Mutant("findings/acceptance.py", "return today <= self.until", "return today < self.until"),
    Mutant("findings/acceptance.py", "and self.route in finding.route", ""),
    Mutant("trials/replay.py", "group or variant in (Variant.COUNT", "variant in (Variant.COUNT"),
    Mutant("analysis/pipeline.py", 'key=f"{key}-{turn}"', "key=key"),
    Mutant("records/model.py", "(parameters[i], literals[i] or first)", "(parameters[i], literals[i])"),
    Mutant("aggregation/shape_stats.py", "and len(statement.text) < len(self.statement.text):", "and False:"),
    Mutant("sql/structure.py", "away[other.table] + 1", "0"),
    Mutant("sql/conditions.py", "if len(known) == len(sides) and len(", "if len("),
    Mutant("patterns/n_plus_one.py", "return least if len(least) * 2 > len(indices) else indices", "return indices"),
    Mutant("patterns/n_plus_one.py", "return least if len(least) * 2 > len(indices) else indices", "return least"),
    Mutant("patterns/already_loaded.py", "return bool(others) and first > max(others)", "return bool(others)"),
    Mutant("patterns/write_loop.py", "if request.rows[i] or bisect(inserts, i) == bisect_left(inserts, after)", "if True"),
    Mutant("patterns/loops.py", '_ROOTS = ("query", "library")', '_ROOTS = ("query",)'),
    Mutant("advice/orm/django.py", "if path[-1].many or not all(load.target for load in path):", "if path[-1].many:"),
    Mutant("indexing/cost.py", "return [*options, (outer_rows * whole.cost,", "return [*options, (whole.cost,"),
    Mutant("indexing/needs.py", 'structure.kind != "select" or used & cut:', 'structure.kind != "select":'),
    Mutant("plans/observations.py", 'by = "" if structure.has_limit else _filters(node, structure)', "by = _filters(node, structure)"),
    # what came with growth and budgets: every way of asking too much
    Mutant('patterns/held_transaction.py', 'if 2 * tally.executions >= tally.stats.count and', 'if'),
    Mutant('patterns/held_transaction.py', 'or tally.transactions > 1 or', 'or'),
    Mutant('patterns/held_transaction.py', '>= _KNOWN_SHARE * longest.lasted_ns', '>= 0'),
    Mutant('patterns/held_transaction.py', 'is_long and bool(one.written or one.locked) and request', 'is_long and request'),
    Mutant('patterns/held_transaction.py', ' and request.rows[gap.before] <= _STREAMED_ROWS', ''),
    Mutant('patterns/held_transaction.py', '        if reached_ns <= errand.start_ns < end_ns:', '        if errand.start_ns < end_ns:'),
    Mutant('inference/transactions.py', '        if ends or (queries and not inside[i]) or begins:', '        if ends or begins:'),
    Mutant('inference/transactions.py', '(*queries[1:], transaction.end)', 'queries[1:]'),
    Mutant('patterns/failing.py', 'if same == given[0]]', ']'),
    Mutant('patterns/failing.py', '"minor" if failure in _MINOR else', '"minor" if False else'),
    Mutant('patterns/find_or_create.py', '        if _found_nothing(request, i, structure):', '        if True:'),
    Mutant('patterns/find_or_create.py', '            if at is not None and at < i:', '            if at is not None:'),
    Mutant('patterns/find_or_create.py', ' or not structure.of_one_table', ''),
    Mutant('patterns/find_or_create.py', ' or not {name.lower() for name in columns} <= set(written)', ''),
    Mutant('patterns/row_multiplication.py', 'if joined is None or joined.times < _TIMES_LEAST:', 'if joined is None:'),
    Mutant('patterns/row_multiplication.py', 'result.rows < settings.multiplied_rows_least and result.bytes < settings.multiplied_bytes_least', 'False'),
    Mutant('patterns/row_multiplication.py', 'if one.finding.variant != "wide parents" or one.finding.shape not in narrowed:', 'if True:'),
    Mutant('inference/joined_rows.py', 'or structure.distinct or structure.group_by', ''),
    Mutant('inference/joined_rows.py', 'return groups[:-1] if len(sample) >= SAMPLED_MOST else groups', 'return groups'),
    Mutant('inference/joined_rows.py', '        if several and several == whole:', '        if several:'),
    Mutant('inference/joined_rows.py', '            if len(ones) > 1 and len(others) > 1:', '            if len(ones) > 1:'),
    Mutant('patterns/subquery_per_row.py', 'if not shown or structure.group_by:', 'if not shown:'),
    Mutant('patterns/subquery_per_row.py', '(table.rows or 0) < _TABLE_ROWS_LEAST', 'False'),
    Mutant('patterns/subquery_per_row.py', 'if one.per_row and one.shown]', 'if one.shown]'),
    Mutant('patterns/subquery_per_row.py', 'stats.rows_most >= settings.per_row_rows_least', 'True'),
    Mutant('patterns/stable_read.py', ' and len(addresses) >= _ADDRESSES_LEAST', ''),
    Mutant('patterns/stable_read.py', 'structure.clock not in ("", "day")', 'False'),
    Mutant('patterns/stable_read.py', 'if not elapsed_ns or spent_ns < _SHARE_LEAST * elapsed_ns:', 'if not elapsed_ns:'),
    Mutant('patterns/stable_read.py', 'if whole.changes > _CHANGES_MOST * whole.reads or not live_s:', 'if not live_s:'),
    Mutant('patterns/stable_read.py', 'self.changes += other.changes + (self.digest != other.digest)', 'self.changes += other.changes'),
    Mutant('patterns/literal_churn.py', 'if len({row[i] for row in rows}) > 1]', ']'),
    Mutant('patterns/literal_churn.py', '{structure.limit_slot, structure.offset_slot} & set(changing)', 'set()'),
    Mutant('patterns/literal_churn.py', 'stats.shape.digest in explained or', ''),
    Mutant('patterns/literal_churn.py', 'return changing if len({tuple(row[i] for i in changing) for row in rows}) == len(rows) else []', 'return changing'),
    Mutant('patterns/polymorphic.py', 'return len(matched) == len(steps) or', 'return True or'),
    Mutant('patterns/polymorphic.py', 'len(pairs) == len({value for value, _ in pairs}) == len({table for _, table in pairs})', 'len(pairs) == len({table for _, table in pairs})'),
    Mutant('patterns/polymorphic.py', 'or structure.aggregates or', 'or'),
    Mutant('patterns/one_column.py', ' or _is_written(met, structure)', ''),
    Mutant('patterns/one_column.py', 'totals.relations or len(totals.columns) != 1', 'len(totals.columns) != 1'),
    Mutant('patterns/one_column.py', ' or totals.touched < _TOUCHED_LEAST * totals.objects', ''),
    Mutant('patterns/deep_offset.py', 'if deepest < met.context.settings.offset_least:', 'if False:'),
    Mutant('patterns/write_loop.py', '    return source if source is not None and is_convincing(source) else None', '    return source'),
    Mutant('patterns/write_loop.py', 'len(keys) != 1', 'False'),
    Mutant('growth/by_rows.py', 'if len(sizes) < SIZES_LEAST or', 'if'),
    Mutant('growth/by_rows.py', ' or sizes[-1] < SPREAD_LEAST * max(sizes[0], 1)', ''),
    Mutant('growth/by_rows.py', 'if any(point.shapes.get(digest, (0, 0))[0] != 1 for point in points):', 'if False:'),
    Mutant('growth/over_time.py', 'if ratio.certain and not', 'if not'),
    Mutant('comparison/baseline.py', 'return new > old * factor and new - old > least', 'return new > old * factor'),
    Mutant('comparison/baseline.py', ' and f.route in routes_before]', ']'),
    Mutant('comparison/budgets.py', 'return next(exact, None) or next(fitting, None)', 'return next(fitting, None) or next(exact, None)'),
    Mutant('comparison/budgets.py', 'return "".join(f"[{sign}]" if sign in "?[" else sign for sign in pattern)', 'return pattern'),
    # numbers whose mistakes had been missed once
    Mutant('patterns/already_loaded.py', '>= 0.9 * expected', '>= 0.5 * expected'),
    Mutant('patterns/base.py', 'gaps[len(gaps) // 4]', 'gaps[len(gaps) // 2]'),
    Mutant('records/sampling.py', ' * (1 - recorded / everything))', ')'),
    Mutant('aggregation/aggregator.py', 'stats.total_queries_squared += queries * queries', 'stats.total_queries_squared += queries'),
    Mutant('aggregation/aggregator.py', '    stats.more_ns += request.more_ns', '    pass'),
    Mutant('aggregation/aggregator.py', 'sum(request.durations_ns) + request.more_ns', 'sum(request.durations_ns)'),
    Mutant('./capture/sampling.py', 'if self._sparing.sample == 1 or event.warm_up or', 'if self._sparing.sample == 1 or'),
    Mutant('./probe/inject/askless_probe/sampling.py', 'if request.warm_up or request.kind == "program":', 'if request.kind == "program":'),
    Mutant('./sources/attribution/boundaries.py', 'short == len(ended)', '2 * short >= len(ended)'),
    Mutant('./database/timing.py', 'for side in order if turn % 2 else reversed(order):', 'for side in order:'),
    Mutant('./database/connecting.py', 'url.set(password=None, query={})', 'url.set(password=None)'),
    # sources
    Mutant('./sources/packets/frames.py', 'if len(data) < size and (data or size not in _HEADER_BYTES):', 'if False:'),
    Mutant('./sources/packets/frames.py', 'packet.len - packet.hl * 4', 'packet.len'),
    Mutant('./output/registry.py', 'return not self.documents or document in self.documents', 'return True'),
    Mutant('./output/registry.py', 'if document in entry.printed)', ')'),
    Mutant('./output/csv_text.py', "return \"'\" + flat if flat.startswith(_FORMULA) else flat", 'return flat'),
    Mutant('./cli/renamed_options.py', 'dest="renamed", help=argparse.SUPPRESS', 'dest="renamed"'),
    Mutant('errors.py', 'kind = SLUGS[slug][0] if cls is AskLessError and slug in SLUGS else cls', 'kind = cls'),
    Mutant('errors.py', 'return type(self), (self.slug, self.message, self.remedy)', 'return type(self), (self.slug, self.message, "")'),
    # What an application reads of its objects.
    Mutant("./probe/inject/askless_probe/object_use.py", "    if not seen & bit:", "    if True:"),
    Mutant("./probe/inject/askless_probe/object_use.py", "        if not seen:\n            entity.touched += 1", "        entity.touched += 1"),
    Mutant("./probe/inject/askless_probe/orm/django_use.py", "who == _LOADER or (who == _ORM and get_ident() in forced)", "who != _APPLICATION"),
    Mutant("./probe/inject/askless_probe/orm/django_use.py", 'return code.co_name == "__getstate__"', "return False"),
    Mutant("./probe/inject/askless_probe/orm/django_use.py", '        "prefetch_one_level",', ""),
    Mutant("./probe/inject/askless_probe/orm/sqlalchemy_orm.py", "        _used_whole(plain(self, \"__dict__\"))", "        pass"),
    Mutant("./probe/inject/askless_probe/orm/sqlalchemy_orm.py", "        _used_as_itself(other)", "        pass"),
    Mutant("./probe/inject/askless_probe/stack.py", "known = not application.stub_of(filename)", "known = True"),
    Mutant("./probe/inject/askless_probe/writing.py", "    waiting[:0] = [record for record in records if id(record) in held]", "    pass"),
    Mutant("./probe/inject/askless_probe/drivers/dbapi.py", "inside = self.in_transaction(connection) and not self._begins(query)", "inside = self.in_transaction(connection)"),
    Mutant("./sources/logs/mariadb.py", "return -1 if rows is None else rows or whole_number(affected) or 0", "return -1 if rows is None else rows"),
    Mutant("./sources/logs/mariadb.py", "            end_ns = at_ns + took_ns", "            pass"),
    Mutant("./sources/packets/tcp_streams.py", "if connection is not None and connection.client.next == (segment.sequence + 1) % 2**32:", "if False:"),
    Mutant("./sources/wire/mysql/handshake.py", 'return "a compressed connection" if compressed and self._watching else ""', 'return ""'),
    Mutant("./sources/attribution/time_windows.py", "        if later.start_ns < earlier.end_ns:", "        if False:"),
    Mutant("./sources/attribution/time_windows.py", "            if end < start:", "            if False:"),
    Mutant("./capture/crash_recovery.py", "query.request in written and query.start_ns not in written[query.request]", "query.request in written"),
    Mutant("./capture/writing.py", "events_seen = list(map(self._without_credentials, events_seen))", "events_seen = list(events_seen)"),
    Mutant("./capture/reading.py", "not self.bad_lines and not self.lost and not self.is_cut_short", "not self.bad_lines and not self.is_cut_short"),
    Mutant("./capture/reading.py", "            and not self.closed\n            and not is_running(header.pid)", "            and not self.closed"),
    Mutant("./database/finding_trial.py", "return [part for part in parts if any(value is not None for value in part)]", "return parts"),
    Mutant("./database/rewrite_trial.py", "if differs is None and not any(outcome.rows):", "if False:"),
    Mutant("./database/index_set_trial.py", "            if index.table.lower() in self.unheard:", "            if False:"),
    Mutant("./reports/gate.py", "passed=passed and (partial or not judged.missing)", "passed=passed"),
    Mutant("./reports/gate.py", '        refuse_damage("" if allow_damaged else before.damage)', "        pass"),
    Mutant("./reports/findings.py", "SEVERITIES.index(finding.severity) <= worst and finding.key not in document.accepted", "SEVERITIES.index(finding.severity) <= worst"),
    Mutant("./reports/loading.py", "by_process[process] = max(known, file.dropped, key=lambda one: one.files)", "by_process[process] = known.plus(file.dropped)"),
    Mutant("./output/junit.py", 'return _NO_XML.sub("\\ufffd", safe(text))', "return safe(text)"),
    Mutant("./output/gate_text.py", 'return "passed" if document.passed else "NOT passed"', 'return "passed"'),
    Mutant("./output/text.py", "    return escaped(text)", "    return text"),
    Mutant("./output/text.py", "if not longest or len(flat) <= longest else", "if True else"),
    Mutant("./output/terminal/requests.py", '"noise": document.noise > 0 and not (is_narrow or extra or partly)', '"noise": document.noise > 0'),
]  # fmt: skip

# Survivors that are left: file and new code -> why.
LEFT: dict[tuple[str, str], str] = {
    (
        "sql/statements.py",
        "",
    ): "SELECT … INTO OUTFILE is refused already because the parser can't read it; a later one may",
}


def tests_for(mutant: Mutant) -> Sequence[str]:
    """The tests that should notice; a pattern's are those of all patterns."""
    return TESTS.get(mutant.file, PATTERNS)


def pattern_of(code: str) -> re.Pattern[str]:
    """Code, wherever the formatter breaks its lines."""
    parts = re.findall(r"\w+|[^\w\s]", code)
    between = [
        r"\s+" if re.match(r"\w", one) and re.match(r"\w", other) else r"\s*"
        for one, other in itertools.pairwise(parts)
    ]
    return re.compile(
        "".join(re.escape(part) + gap for part, gap in zip(parts, [*between, ""], strict=True))
    )


def planted(mutant: Mutant, folder: Path) -> Path:
    """A copy of the sources with the mutant in it. Raises ValueError if the code has changed
    meanwhile.
    """
    source = folder / "src"
    shutil.copytree(ROOT / "src", source, ignore=shutil.ignore_patterns("__pycache__"))
    file = (
        source
        / "askless"
        / (mutant.file if mutant.file.startswith("./") else f"core/{mutant.file}")
    )
    text = file.read_text()
    found = list(pattern_of(mutant.old).finditer(text))
    if len(found) != 1:
        raise ValueError(f"{mutant.file} holds {mutant.old!r} {len(found)} times")
    file.write_text(text[: found[0].start()] + mutant.new.lstrip() + text[found[0].end() :])
    return source


HANGS_AFTER_S = 900  # several times what the longest list of tests takes


def survives(mutant: Mutant) -> bool:
    """Whether the tests pass with the mutant."""
    with tempfile.TemporaryDirectory() as folder:
        source = planted(mutant, Path(folder))
        words = [
            sys.executable,
            "-m",
            "pytest",
            "-q",
            "-x",
            "-p",
            "no:cacheprovider",
            f"--basetemp={folder}/tests",
        ]
        env = {
            **os.environ,
            "PYTHONPATH": str(source),
            "HYPOTHESIS_DATABASE_FILE": f"{folder}/examples",
        }
        with subprocess.Popen(
            [*words, *tests_for(mutant)],
            cwd=ROOT,
            env=env,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            start_new_session=True,
        ) as process:
            try:
                out, err = process.communicate(timeout=HANGS_AFTER_S)
            except subprocess.TimeoutExpired:  # which is noticed, too
                os.killpg(process.pid, signal.SIGKILL)
                return False
        if process.returncode not in (0, 1):
            raise ValueError(f"the tests of {mutant.file} did not run:\n{out[-2000:]}{err[-500:]}")
        return process.returncode == 0


def main() -> int:
    """Plant them all, some at a time."""
    wanted = [
        m
        for m in MUTANTS
        if len(sys.argv) < 2 or any(word in part for part in m for word in sys.argv[1:])
    ]
    print(f"{len(wanted)} of {len(MUTANTS)} mutants, {JOBS} at a time")
    bad = noticed = left = 0
    with ThreadPoolExecutor(JOBS) as pool:
        results = [(mutant, pool.submit(survives, mutant)) for mutant in wanted]
        for mutant, result in results:
            what = f"{mutant.file}: {mutant.old.strip()!r} -> {mutant.new.strip()!r}"
            try:
                if not result.result():
                    noticed += 1
                elif (mutant.file, mutant.new) in LEFT:
                    left += 1
                    print(f"left      {what}: {LEFT[mutant.file, mutant.new]}", flush=True)
                else:
                    bad += 1
                    print(f"survives  {what}", flush=True)
            except ValueError as error:
                bad += 1
                print(f"no mutant {error}", flush=True)
    print(f"{noticed} noticed, {left} left with a reason, {bad} to look at")
    return int(bad > 0)


if __name__ == "__main__":
    sys.exit(main())
