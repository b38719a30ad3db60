"""What a comparison or a trial came to: a value for programs, with its text for people."""

from __future__ import annotations

from enum import StrEnum

import msgspec

from askless.core.statistics import Ratio


class Outcome(StrEnum):
    """Every way in which a measurement can end."""

    FASTER = "faster"
    SLOWER = "slower"
    UNDECIDED = "undecided"  # the interval holds 1: no difference was seen
    CHANGED = "changed"  # not the same result: nothing that was timed counts
    UNUSED = "unused"  # the planner does not choose the index that was tried
    WITHIN_DRIFT = "within-drift"  # no more than routes moved that ask the same
    SAME_WORK = "same-work"  # the route asks the same on both sides: a control
    TOO_FEW = "too-few"  # not enough requests, or runs, to say
    ONLY_BEFORE = "only-before"
    ONLY_AFTER = "only-after"
    NEEDED = "needed"  # the statement can't run without the part


class Verdict(msgspec.Struct, frozen=True):
    """How it ended, and that in words, with the numbers it rests on."""

    outcome: Outcome
    text: str


def direction(ratio: Ratio) -> Outcome:
    """Which of two sides is faster, by the interval of time before over time after."""
    if not ratio.certain:
        return Outcome.UNDECIDED
    return Outcome.FASTER if ratio.value > 1 else Outcome.SLOWER


def timed(ratio: Ratio, undecided: str = "no measurable difference", after: str = "") -> Verdict:
    """What time before over time after shows; `after` tells in words what the time after is that
    of.
    """
    outcome, interval = direction(ratio), interval_text(ratio)
    if outcome is Outcome.UNDECIDED:
        return Verdict(outcome, f"{undecided} ({interval})")
    if outcome is Outcome.FASTER:
        return Verdict(outcome, f"faster: ×{ratio.value:.2f} ({interval})")
    return Verdict(
        outcome,
        f"slower: takes ×{1 / ratio.value:.2f} of the time{after} ({interval} for before over "
        "after)",
    )


def interval_text(ratio: Ratio) -> str:
    """A ratio's interval in words: `99 % interval ×1.10 to ×1.30`."""
    return f"{100 * ratio.confidence:.0f} % interval ×{ratio.low:.2f} to ×{ratio.high:.2f}"
