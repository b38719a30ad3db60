"""What a plan reader says of a plan that it can't read."""

from __future__ import annotations


class UnreadablePlan(Exception):
    """`line` is where reading ended (from 1), `reason` why."""

    def __init__(self, line: int, reason: str) -> None:
        super().__init__(f"line {line}: {reason}")
        self.line = line
        self.reason = reason


LOST_INDENTATION = "the indentation is lost, which tells what each step belongs to"
