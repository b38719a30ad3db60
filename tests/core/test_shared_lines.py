"""Where a call goes that names one model: words for lines of installed packages and helpers."""

from __future__ import annotations

import pytest

from askless.core.advice.shared_lines import placed_code
from askless.core.findings.finding import SourceLine
from askless.core.inference.context import Context
from askless.core.inference.shared_lines import package_of
from askless.core.records.model import Model
from askless.core.settings import Settings

CALL = '.select_related("berth")'
MODELS = {("django", "Call"): Model("django", "Call", "call", module="quay.models")}
LIBRARY = "/srv/venv/lib/python3.12/site-packages/listing/views.py"


def told(file: str, function: str = "rows", shared: tuple[str, ...] = ()) -> str:
    context = Context(Settings(), models=MODELS, shared={(file, 7): set(shared)})
    return placed_code(CALL, SourceLine(file, 7, function), "django", "Call", context)


@pytest.mark.parametrize(
    ("file", "function", "shared", "expected"),
    [
        ("/srv/quay/views.py", "board", (), CALL),
        ("/srv/venv/lib/python3.12/site-packages/quay/views.py", "board", (), CALL),
        ("/srv/venv/lib/python3.12/site-packages/harbourweb/quay/views.py", "board", (), CALL),
        (
            LIBRARY,
            "get_queryset",
            (),
            "not at that line, which is in listing and reads whatever model it is given: where "
            f"get_queryset gives Call objects, override it, and end it with {CALL}",
        ),
        (
            LIBRARY,
            "rows",
            ("Call", "Tug", "Pilot", "Vessel"),
            "not at that line, which reads Pilot, Tug and 1 more as well: to the Call query that "
            f"it is given, add {CALL}",
        ),
        (
            "/srv/quay/helpers.py",
            "rows",
            ("Call", "Tug"),
            "not at that line, which reads Tug as well: to the Call query that it is given, add "
            + CALL,
        ),
    ],
)
def test_where_a_call_goes(
    file: str, function: str, shared: tuple[str, ...], expected: str
) -> None:
    assert told(file, function, shared) == expected


def test_instructions_stay_as_they_are() -> None:
    context = Context(Settings(), models=MODELS)
    line = SourceLine(LIBRARY, 7, "rows")
    for code in ("in the ModelAdmin of Call: ...", "Call.objects.annotate()", ""):
        assert placed_code(code, line, "django", "Call", context) == code
    assert placed_code(CALL, None, "django", "Call", context) == CALL


@pytest.mark.parametrize(
    ("file", "package"),
    [
        (LIBRARY, "listing"),
        ("C:\\app\\Lib\\site-packages\\listing\\views.py", "listing"),
        ("/usr/lib/python3/dist-packages/single.py", "single"),
        ("/srv/site-packages.d/quay.py", ""),
    ],
)
def test_the_package_of_a_file(file: str, package: str) -> None:
    assert package_of(file) == package
