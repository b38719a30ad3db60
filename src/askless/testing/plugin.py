"""The pytest plug-in: a test says what it may ask.

    def test_calls_due(client, asks):
        with asks.at_most(5):
            client.get("/calls/due")
        with asks.never("n-plus-one"):
            client.get("/calls/due")

    @pytest.mark.asks(at_most=12, never="n-plus-one", route="/calls")
    def test_one_call(client): ...

    @pytest.mark.asks(budgets=True)     # those of the project's file
    def test_board(client): ...

Nothing is recorded unless a test that runs uses the fixture or the marker, or strict mode was asked
for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import pytest

if TYPE_CHECKING:
    from askless.core.records.model import Request
    from askless.project.file import Project
    from askless.sources.app.in_process import InProcessRecorder

_STATE = pytest.StashKey["_State"]()
_MARKER_TAKES = {"at_most", "never", "route", "budgets"}


class _State:
    """What one run of pytest holds: the recorder, once it is needed, and what the project's file
    says.
    """

    def __init__(self, inside: InProcessRecorder, project: Project) -> None:
        self.inside = inside
        self.project = project


class _Limits(NamedTuple):
    """What a block or a test may ask, on routes that contain a text."""

    route: str = ""
    at_most: int | None = None
    never: Sequence[str] | None = None
    budgets: bool = False


class _Block:
    """A `with` block whose requests are checked when it ends in good order."""

    def __init__(self, state: _State, name: str, limits: _Limits) -> None:
        self._state = state
        self._name = name
        self._limits = limits
        self._end: Callable[[], list[Request]] = list

    def __enter__(self) -> None:
        self._end = self._state.inside.begin(self._name)

    def __exit__(self, kind: type[BaseException] | None, *details: object) -> None:
        __tracebackhide__ = True
        requests = self._end()
        if kind is None:
            _check_whole(self._state)
            _check(requests, self._limits, self._state.project)


class QueryLimits:
    """What the code inside a `with` block may ask."""

    def __init__(self, state: _State, name: str) -> None:
        self._state = state
        self._name = name

    def at_most(self, queries: int, *, route: str = "") -> AbstractContextManager[None]:
        """At most so many queries; session settings, transaction control and catalog lookups do not
        count.
        """
        return _Block(self._state, self._name, _Limits(route, at_most=queries))

    def never(self, *patterns: str, route: str = "") -> AbstractContextManager[None]:
        """No finding of these patterns, or of any if none is named."""
        return _Block(self._state, self._name, _Limits(route, never=patterns))

    def within_budgets(self, *, route: str = "") -> AbstractContextManager[None]:
        """No more than the budgets of the project's file allow; each request's route must have
        one.
        """
        return _Block(self._state, self._name, _Limits(route, budgets=True))


def _check_whole(state: _State) -> None:
    """Fail where something that was recorded can't be read: it can't be judged."""
    __tracebackhide__ = True
    if state.inside.damage:
        raise AssertionError(
            f"not checked: the recorder's output can't be read ({state.inside.damage})"
        )


def _check(requests: Sequence[Request], limits: _Limits, project: Project) -> None:
    """Fail where the requests ask what they may not."""
    __tracebackhide__ = True
    from askless.testing import checks

    route, at_most, never, budgets = limits
    meant = checks.on_route(list(project.terms().applied(requests)), route)
    texts = []
    if at_most is not None:
        texts.append(checks.too_many(meant, at_most, explain=never is None))
    if never is not None:
        try:
            names = checks.known(never)
        except ValueError as error:
            raise pytest.UsageError(str(error)) from None
        texts.append(checks.unaccepted(meant, names, project, date.today()))
    if budgets:
        texts.append(checks.over_budget(meant, project, date.today()))
    message = "\n\n".join(text for text in texts if text)
    if message:
        raise AssertionError(message)


def pytest_addoption(parser: pytest.Parser) -> None:
    """The options of the plug-in."""
    group = parser.getgroup("asks", "the queries of tests (Ask Less)")
    group.addoption(
        "--asks-strict",
        metavar="N",
        nargs="?",
        type=int,
        const=3,
        default=None,
        help="fail when one line of a test lazily loads the same relation N times (default: 3)",
    )
    group.addoption(
        "--asks-route",
        metavar="TEXT",
        action="append",
        default=[],
        help="apply --strict only to these routes",
    )


def pytest_configure(config: pytest.Config) -> None:
    """Declare the marker."""
    config.addinivalue_line(
        "markers",
        "asks(at_most=N, never=PATTERN, budgets=True, route=TEXT): limits on the test's queries",
    )


def pytest_collection_finish(session: pytest.Session) -> None:
    """Start the recorder if a test that will run needs it."""
    config = session.config
    least = config.getoption("--asks-strict")
    wanted = least is not None or any(
        item.get_closest_marker("asks") is not None or "asks" in getattr(item, "fixturenames", ())
        for item in session.items
    )
    if not wanted or _STATE in config.stash:
        return
    from askless.core.errors import AskLessError
    from askless.project import file, strict
    from askless.sources.app.in_process import InProcessRecorder

    try:
        project = file.read(file.nearest(Path(config.rootpath)))
    except AskLessError as error:
        raise pytest.UsageError(f"{error.message}\n{error.remedy}") from None
    settings: dict[str, Any] | None = None
    if least is not None:
        if least < 2:
            raise pytest.UsageError("--asks-strict takes a whole number from 2")
        settings = {
            "least": least,
            "routes": config.getoption("--asks-route"),
            "accepted": strict.cases_for(project.accepted),
        }
    config.stash[_STATE] = _State(InProcessRecorder(settings), project)


@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_call(item: pytest.Item) -> Iterator[None]:
    """Each test is a block; its marker is checked at its end."""
    __tracebackhide__ = True
    state = item.config.stash.get(_STATE, None)
    marker = item.get_closest_marker("asks")
    if state is None:
        yield
        return
    end: Callable[[], list[Request]] = state.inside.begin(item.nodeid)
    outcome: Any = yield
    requests = end()
    if marker is not None and outcome.excinfo is None:
        try:
            _check_whole(state)
            _check_marker(marker, requests, state.project)
        except AssertionError as error:
            outcome.force_exception(pytest.fail.Exception(str(error), pytrace=False))
        except pytest.UsageError as error:
            outcome.force_exception(pytest.fail.Exception(f"{item.nodeid}: {error}", pytrace=False))
    state.inside.forget()


def _check_marker(marker: pytest.Mark, requests: list[Request], project: Project) -> None:
    __tracebackhide__ = True
    wrong = set(marker.kwargs) - _MARKER_TAKES
    if marker.args or wrong:
        raise pytest.UsageError(
            "the marker asks takes at_most=, never=, budgets= and route="
            + (f", not {', '.join(sorted(wrong))}=" if wrong else "")
        )
    never = marker.kwargs.get("never")
    names = (never,) if isinstance(never, str) else never
    given = marker.kwargs
    limits = _Limits(
        given.get("route", ""), given.get("at_most"), names, bool(given.get("budgets", False))
    )
    _check(requests, limits, project)


@pytest.fixture
def asks(request: pytest.FixtureRequest) -> QueryLimits:
    """What the code inside a block may ask: `asks.at_most(5)`, `asks.never("n-plus-one")`."""
    return QueryLimits(request.config.stash[_STATE], request.node.nodeid)
