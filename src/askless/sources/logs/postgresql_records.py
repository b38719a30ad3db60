"""What the records of a PostgreSQL log say: statements with durations, parameters, plans and
errors, in whatever form they came.

A statement is reported once it has ended, with its duration (log_min_duration_statement,
log_duration, log_min_duration_sample); with log_statement alone its duration is not known. Of the
extended protocol the execution counts: parse and bind are the same statement. A plan of
auto_explain belongs to the statement with its text: the next one of its session, or the one before,
if the extended protocol executed that. A log of plans alone tells its statements by them.
"""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import msgspec

from askless.core.formatting import plural
from askless.core.inference.transactions import turn_of
from askless.core.records.traffic import QuerySeen
from askless.core.sql.slots import Value, literal_value
from askless.sources.logs import LogMessage
from askless.sources.logs.auto_explain import LoggedPlan, explained
from askless.sources.logs.long_text import Cuts, LongText

_DURATION = re.compile(
    r"duration: (\d+(?:\.\d+)?) ms(?:  (statement|execute|parse|bind|plan)(?: [^:]*)?:\s?(.*))?$",
    re.DOTALL,
)
_STATEMENT = re.compile(
    r"(statement|execute|fastpath function call)(?: ([^:]*))?: (.*)$", re.DOTALL
)
_PARAMETERS = re.compile(r"\$(\d+) = (?:'((?:[^']|'')*)'(\.\.\.)?|(NULL))")
# EXECUTE and what it was prepared as, which DETAIL tells.
_EXECUTE = re.compile(
    r'EXECUTE\s+(?:\w+|"[^"]+")\s*(?:\((.*)\))?\s*;?\s*$', re.DOTALL | re.IGNORECASE
)
_PREPARED = re.compile(r"prepare: (PREPARE\s.*?\sAS\s+(.*))$", re.DOTALL | re.IGNORECASE)
_GIVEN = re.compile(
    r"\s*('(?:[^']|'')*'|-?\d+(?:\.\d+)?|NULL|TRUE|FALSE)(?:::\w+)?\s*(?:,|$)", re.IGNORECASE
)
_WORDS = {"NULL": None, "TRUE": True, "FALSE": False}
_PLAN_NS = 100_000_000  # a plan that comes after its statement comes at once


class Record(msgspec.Struct):
    """One record of a log, whatever form it came in."""

    at_ns: int
    session: str
    severity: str
    message: str
    application: str = ""
    client: str = ""
    detail: str = ""
    statement: str = ""
    context: str = ""


class _LoggedQuery(msgspec.Struct):
    """A statement that has ended. `planned_as` is the text that its plan names, if that is
    another.
    """

    text: str
    parameters: tuple[Value, ...] = ()
    took_ms: float = 0.0
    error: str = ""
    plan: str = ""
    planned_as: str = ""

    @property
    def text_planned(self) -> str:
        """The text that its plan names."""
        return self.planned_as or self.text.strip()


class _LoggedPlan(NamedTuple):
    """A plan that came before its statement."""

    record: Record
    took_ms: float
    explained: LoggedPlan


class _LoggedText(msgspec.Struct):
    """A query that is known. `awaits` is the text of a plan that may still come, until its session
    says something else.
    """

    said: LogMessage
    awaits: str = ""


class _Session:
    """What is known of a session."""

    __slots__ = ("begun", "inside", "logged", "planned")

    def __init__(self) -> None:
        self.begun: Record | None = None  # log_statement told it; its duration may come
        self.planned: _LoggedPlan | None = None
        self.logged: _LoggedText | None = None
        self.inside = False  # of a transaction


class Records:
    """Turns records into queries. Pure."""

    system = "postgresql"
    unseen = ("parameters", "results")

    def __init__(self) -> None:
        self.skipped = 0
        self.cuts = Cuts()
        # a field of the record that waits, which goes on
        self._longer: tuple[str, LongText] | None = None
        self._sessions: dict[str, _Session] = {}
        self._waiting: Record | None = None  # a record whose DETAIL or STATEMENT may follow
        self._pending: deque[_LoggedText] = deque()  # what waits for plans, and what came after it
        self._tells_statements = False  # so that a plan without one is not a query
        self._untimed = self._with_parameters = self._placeholders = self._stray_plans = (
            self._other_plans
        ) = 0

    def take(self, record: Record) -> Sequence[LogMessage]:
        """A record came; what is known of the ones before it, which nothing more follows."""
        self._put_together()
        before, self._waiting = self._waiting, record
        if before is None:
            return ()
        self._read(before)
        return self._known(record.at_ns) if self._pending else ()

    def close(self) -> Iterator[LogMessage]:
        """There are no more."""
        self._put_together()
        before, self._waiting = self._waiting, None
        if before is not None:
            self._read(before)
        for session in self._sessions.values():
            self._over(session)
        while self._pending:
            yield self._pending.popleft().said

    def _known(self, now_ns: int) -> Sequence[LogMessage]:
        """The queries of which no plan will come any more, in the order in which they ended."""
        messages, known = self._pending, []
        while messages and not (
            messages[0].awaits and 0 <= now_ns - messages[0].said.at_ns < _PLAN_NS
        ):
            first = messages.popleft()
            first.awaits = ""
            known.append(first.said)
        return known

    def add(self, severity: str, text: str, session: str) -> None:
        """A line that belongs to the record before it, if that is of the same session."""
        self._put_together()
        if self._waiting is None or self._waiting.session != session:
            return
        if severity == "DETAIL":
            self._waiting.detail = text
        elif severity == "STATEMENT":
            self._waiting.statement = text
        elif severity == "CONTEXT":
            self._waiting.context = text

    def lengthen(self, text: str) -> None:
        """The record before goes on: its message, or what was added to it last."""
        waiting = self._waiting
        if waiting is None:
            return
        if self._longer is None:
            name = next(
                (name for name in ("statement", "context", "detail") if getattr(waiting, name)),
                "message",
            )
            self._longer = name, LongText(self.cuts, getattr(waiting, name))
        self._longer[1].add(text)

    def _put_together(self) -> None:
        """What was added to the record that waits, line by line, is its text now."""
        if self._longer is not None and self._waiting is not None:
            setattr(self._waiting, self._longer[0], str(self._longer[1]))
        self._longer = None

    def _read(self, record: Record) -> None:
        session = self._sessions.get(record.session)
        if session is None:
            session = self._sessions[record.session] = _Session()
        message = record.message
        if record.severity == "LOG":
            timed = _DURATION.match(message)
            if timed is not None:
                self._timed(record, session, timed)
                return
            if _STATEMENT.match(message) is not None:
                self._tells_statements = True
                self._over(session)
                session.begun = record
            elif message.startswith("disconnection:"):
                self._over(session)
                del self._sessions[record.session]
                self._pending.append(_LoggedText(LogMessage(record.session, record.at_ns, None)))
        elif record.severity in ("ERROR", "FATAL"):
            query, session.begun = _worded(session.begun), None
            self._over(session)
            query.text, query.error = record.statement or query.text, message
            self._query(record, session, query)

    def _over(self, session: _Session) -> None:
        """What has begun in a session is over: a statement of which nothing more comes, a plan that
        none followed.
        """
        begun, session.begun = session.begun, None
        planned, session.planned = session.planned, None
        if begun is not None:
            query = _worded(begun)
            if planned is not None and planned.explained.statement == query.text_planned:
                query.plan, query.took_ms = planned.explained.plan, planned.took_ms
                begun.at_ns, planned = planned.record.at_ns, None
            self._query(begun, session, query)
        if planned is None:
            return
        if self._tells_statements:
            self._stray_plans += 1
            return
        record, took_ms, (text, parameters, plan) = planned
        values = parameters_of(f"parameters: {parameters}")
        self._query(record, session, _LoggedQuery(text, values, took_ms, plan=plan))

    def _timed(self, record: Record, session: _Session, timed: re.Match[str]) -> None:
        took, kind, text = timed.groups()
        took_ms = float(took)
        if kind in ("parse", "bind"):
            return
        if kind == "plan":
            self._plan(record, session, took_ms, text)
            return
        begun, session.begun = session.begun, None
        if kind is not None:
            self._tells_statements = True
            query = _asked(text, record.detail)
        elif begun is not None:  # log_duration: of what was reported before
            query = _worded(begun)
            kind = begun.message.split(None, 1)[0]
        else:
            return
        planned = session.planned
        if planned is not None and planned.explained.statement == query.text_planned:
            session.planned = None
            query.plan = planned.explained.plan
        self._over(session)
        query.took_ms = took_ms
        self._query(record, session, query)
        if kind == "execute" and not query.plan and session.logged is not None:
            session.logged.awaits = query.text_planned

    def _plan(self, record: Record, session: _Session, took_ms: float, text: str) -> None:
        plan = explained(text)
        if plan is None:
            self._other_plans += 1
        elif record.context:  # of a statement inside of a function
            self._stray_plans += 1
        elif session.logged is not None and session.logged.awaits == plan.statement:
            logged, session.logged = session.logged, None
            assert logged.said.query is not None
            logged.said = logged.said._replace(
                query=msgspec.structs.replace(logged.said.query, plan=plan.plan)
            )
            logged.awaits = ""
        else:
            # log_statement logged it: its plan comes before its duration
            begun, session.begun = session.begun, None
            self._over(session)
            session.begun, session.planned = begun, _LoggedPlan(record, took_ms, plan)

    def _query(self, record: Record, session: _Session, logged: _LoggedQuery) -> None:
        if session.logged is not None:
            session.logged.awaits = ""
            session.logged = None
        text = logged.text.strip()
        if not text:
            return
        duration_ns = int(logged.took_ms * 1e6)
        self._untimed += not logged.took_ms and not logged.error
        self._placeholders += "$1" in text
        self._with_parameters += bool(logged.parameters)
        turn = turn_of(text)
        session.inside = session.inside if turn is None else turn
        query = QuerySeen(
            text=text,
            start_ns=record.at_ns - duration_ns,
            duration_ns=duration_ns,
            rows=-1,
            parameters=logged.parameters,
            error=logged.error,
            in_transaction=session.inside,
            plan=logged.plan,
        )
        said = LogMessage(
            record.session, record.at_ns, query, record.application, session.inside, record.client
        )
        session.logged = _LoggedText(said)
        self._pending.append(session.logged)

    def notes(self) -> list[str]:
        """Settings that would tell more, by the server's own names."""
        notes = []
        if self._untimed:
            notes.append(
                f"{self._untimed:,} statements have no duration: log_min_duration_statement = 0 "
                "logs it (log_statement does not)"
            )
        if self._placeholders and not self._with_parameters:
            notes.append(
                "no statement has parameters: log them with log_parameter_max_length = -1 and "
                "log_min_duration_statement"
            )
        if self._other_plans:
            notes.append(
                f"{plural(self._other_plans, 'plan')} from auto_explain have an unsupported "
                "format: use auto_explain.log_format = json or text"
            )
        if self._stray_plans:
            notes.append(
                f"{plural(self._stray_plans, 'plan')} from auto_explain were skipped: their "
                "statements ran inside functions or are not in the log"
            )
        if self.skipped:
            notes.append(f"{self.skipped:,} lines before the first complete record were skipped")
        return notes


def _worded(record: Record | None) -> _LoggedQuery:
    """The statement of a record that log_statement wrote, and its parameters."""
    match = _STATEMENT.match(record.message) if record is not None else None
    return (
        _asked(match[3], record.detail)
        if match is not None and record is not None
        else _LoggedQuery("")
    )


def _asked(text: str, detail: str) -> _LoggedQuery:
    """A statement as it was logged; EXECUTE as what was prepared, with what it gave where that is
    plain.
    """
    if not detail:
        return _LoggedQuery(text)
    prepared = _PREPARED.match(detail) if detail.startswith("prepare: ") else None
    executed = _EXECUTE.match(text.strip()) if prepared is not None else None
    if prepared is None or executed is None:
        return _LoggedQuery(text, parameters_of(detail))
    return _LoggedQuery(
        prepared[2].rstrip().rstrip(";"), _given(executed[1] or ""), planned_as=prepared[1].strip()
    )


def _given(text: str) -> tuple[Value, ...]:
    """The values of a list of plain literals; none where one is an expression."""
    values, at = [], 0
    while at < len(text):
        match = _GIVEN.match(text, at)
        if match is None:
            return ()
        values.append(_WORDS.get(match[1].upper(), literal_value(match[1])))
        at = match.end()
    return tuple(values)


def parameters_of(detail: str) -> tuple[Value, ...]:
    """The parameters of a DETAIL line: `parameters: $1 = '7', $2 = NULL`. Those that the server cut
    are kept as far as they go.
    """
    if "arameters: " not in detail:
        return ()
    values = {
        int(number): None if none else text.replace("''", "'")
        for number, text, _, none in _PARAMETERS.findall(detail)
    }
    return tuple(values[number] for number in sorted(values))
