"""The way from a command to the first line of a capture is short: what only passes a call on is
counted.
"""

from __future__ import annotations

import traceback
from collections.abc import Iterator
from pathlib import Path

import pytest

from askless.capture import lines
from tests.conftest import run

DELEGATIONS_MOST = 3


def test_findings_reads_the_first_line_after_three_delegations(
    pages: dict[str, Path], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    # a capture that is known already would not be read
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    stacks: list[list[str]] = []
    real = lines.lines_of

    def seen(*arguments: object, **named: object) -> Iterator[object]:
        frames = traceback.extract_stack()
        stacks.append(
            [
                f"{Path(frame.filename).stem}.{frame.name}"
                for frame in frames
                if "/askless/" in frame.filename
            ]
        )
        return real(*arguments, **named)  # type: ignore[arg-type]

    monkeypatch.setattr("askless.capture.reading.lines_of", seen)
    assert run("findings", pages["tuned"], "--json").code == 0
    stack = stacks[0]
    between = stack[stack.index("findings.run") + 1 : stack.index("loading.sum_up")]
    assert (
        between == ["captures.findings", "findings.findings", "loading.load"]
        and len(between) <= DELEGATIONS_MOST
    )
    # Behind the loop there are the pipeline's own generators, each of which does something to what
    # it passes on.
    assert len(stack) - stack.index("loading.sum_up") <= 4, stack
