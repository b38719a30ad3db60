"""What trials say follows from their numbers: made-up measurements, so that no machine's speed is
asserted.
"""

from __future__ import annotations

import pytest

from askless.cli.trial import milliseconds_of
from askless.core.errors import AskLessError
from askless.core.sql.clauses import Part
from askless.core.statistics import Ratio, ratio_of_turns, widened
from askless.core.trials.result_comparison import Difference
from askless.core.verdicts import Outcome, Verdict
from askless.database.clause_cost import ClauseCost, ClauseCosts
from askless.database.index_trial import IndexTrial, TrialTiming
from askless.database.rewrite_trial import RewriteTrial, Side
from askless.reports import finding_trial, index_trial, rewrite_trial, weigh
from askless.reports.documents import TrialAlternative

SLOW, FAST = tuple(10.0 + i % 3 for i in range(20)), tuple(2.0 + i % 2 * 0.1 for i in range(20))


def rewritten(
    before: tuple[float, ...], after: tuple[float, ...], difference: Difference | None = None
) -> Verdict:
    sides = [Side("SELECT 1", times, 1, 8, ()) for times in (before, after)]
    ratio = ratio_of_turns(before, after) if difference is None else None
    trial = RewriteTrial(
        "sqlite",
        1,
        sides[0],
        sides[1],
        ratio,
        difference,
        int(difference is not None),
        ("a",),
        ("a",),
    )
    return rewrite_trial.verdict(trial)


def test_a_rewriting() -> None:
    for verdict, outcome, words in (
        (rewritten(SLOW, FAST), Outcome.FASTER, "faster: ×5"),
        (rewritten(FAST, SLOW), Outcome.SLOWER, "slower: takes ×5"),
        (rewritten(SLOW, SLOW[::-1]), Outcome.UNDECIDED, "no measurable difference (99 % interval"),
        (
            rewritten(SLOW, FAST, Difference("1 row lost", "an inner join")),
            Outcome.CHANGED,
            "different result",
        ),
    ):
        assert verdict.outcome is outcome and verdict.text.startswith(words), verdict


def alternative(
    name: str,
    queries: int,
    ms: float,
    ratio: tuple[float, float, float] | None,
    same: bool = True,
    trip: float = 0.0,
) -> TrialAlternative:
    measured = Ratio(*ratio) if ratio is not None else None
    away = ms + queries * trip
    return TrialAlternative(
        name,
        "",
        queries,
        ms,
        away,
        1,
        8,
        same,
        "" if same else "1 row lost",
        "",
        "",
        measured,
        41 / away if trip and ratio else None,
    )


def road_verdict(alternatives: tuple[TrialAlternative, ...], network_latency_ms: float) -> str:
    return finding_trial.verdict(alternatives, network_latency_ms).text


def test_an_index() -> None:
    """Made-up measurements: the words are checked, not the machine's speed."""

    def said(
        before: tuple[float, ...], after: tuple[float, ...], used: bool = True, difference: str = ""
    ) -> Verdict:
        measured = TrialTiming(
            "SELECT 1", before, after, ratio_of_turns(before, after), 1, 8, difference, (), (), used
        )
        trial = IndexTrial(
            "sqlite", "CREATE INDEX n ON t (a)", "n", 1.0, 4096, "on a copy", "", (measured,)
        )
        return index_trial.verdict(trial, measured)

    for verdict, outcome, words in (
        (said(SLOW, FAST), Outcome.FASTER, "faster: ×5"),
        (said(FAST, SLOW), Outcome.SLOWER, "slower:"),
        (said(SLOW, SLOW[::-1]), Outcome.UNDECIDED, "no measurable difference (99 % interval"),
        (said(SLOW, FAST, used=False), Outcome.UNUSED, "not used:"),
        (said(SLOW, FAST, difference="1 rows lost"), Outcome.CHANGED, "different result"),
    ):
        assert verdict.outcome is outcome and verdict.text.startswith(words), verdict


def test_a_finding() -> None:
    base, batch, join = (
        alternative("row by row", 41, 6, None),
        alternative("a batch", 2, 3, (2, 1.9, 2.1)),
        alternative("a join", 1, 4, (1.5, 1.4, 1.6)),
    )
    said = road_verdict((base, join, batch), 0.0)
    assert (
        said
        == "a batch: the same rows, ×2.0 as fast here (95 % interval ×1.9 to ×2.1), 39 round trips saved"
    )
    assert road_verdict(
        (base, alternative("a batch", 2, 3, (2, 1.9, 2.1), same=False)), 0.0
    ).startswith("no alternative returns the same rows")
    assert "slower here (×0.50); 39 round trips" in road_verdict(
        (base, alternative("a batch", 2, 12, (0.5, 0.4, 0.6))), 0.0
    )
    assert "no measurable difference" in road_verdict(
        (base, alternative("a batch", 2, 6, (1, 0.9, 1.1))), 0.0
    )
    far = [
        alternative("row by row", 41, 6, None, trip=1.0),
        alternative("a batch", 2, 3, (2, 1.9, 2.1), trip=1.0),
        alternative("a join", 1, 3.5, (1.7, 1.6, 1.8), trip=1.0),
    ]
    assert road_verdict(tuple(far), 1.0).startswith(
        "a join"
    ) and "with 1 ms to the database" in road_verdict(tuple(far), 1.0)


def test_a_part() -> None:
    part = Part("join", "JOIN vessel", "SELECT 1", "")
    whole = ClauseCosts("sqlite", "SELECT 1", SLOW, 3, 24, ())

    def said(times: tuple[float, ...], rows: int = 3) -> str:
        return weigh.verdict(ClauseCost(part, times, ratio_of_turns(SLOW, times), rows), whole).text

    assert said(FAST) == "costs 81 % of the time"
    assert said(SLOW[::-1], 5) == "no measurable cost, and gives 5 rows instead of 3"
    assert said(tuple(4 * ms for ms in SLOW)) == "saves time: ×4.0 without it"
    once = weigh.verdict(ClauseCost(part, (2500.0,), None, 900), whole)
    assert once.outcome is Outcome.TOO_FEW and once.text.endswith(
        "is not compared, and gives 900 rows instead of 3"
    )
    assert weigh.verdict(ClauseCost(part, error="no such column"), whole) == Verdict(
        Outcome.NEEDED, "can't run without it"
    )


def test_an_interval_allows_for_what_two_sessions_differ_by() -> None:
    found = widened(Ratio(1.2, 1.1, 1.3), (3.0, 3.0), (2.0, 2.0))
    assert (found.value, found.low, found.high) == pytest.approx(
        (1.2, 1.1 / 1.5, 1.3 * 1.5)
    ) and not found.certain
    assert widened(Ratio(4, 3, 5), (2.0,), (3.0,)).certain, "a large gain stays one"
    with pytest.raises(ValueError, match="no values"):
        widened(Ratio(1, 1, 1), (), (1.0,))


@pytest.mark.parametrize(
    "text, ms",
    [("", 0.0), ("0.5ms", 0.5), ("500us", 0.5), ("250 µs", 0.25), ("1s", 1000.0), ("2", 2.0)],
)
def test_a_time_as_people_write_it(text: str, ms: float) -> None:
    assert milliseconds_of(text) == ms


@pytest.mark.parametrize("text", ["soon", "-1ms", "1 m", "ms"])
def test_a_time_that_is_none(text: str) -> None:
    with pytest.raises(AskLessError, match="--network-latency"):
        milliseconds_of(text)
