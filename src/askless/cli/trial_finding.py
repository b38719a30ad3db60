"""`askless trial --finding`: a finding's look-ups one by one against one query for all of them."""

from __future__ import annotations

import argparse
import re
from statistics import median

from askless.capture.reading import read
from askless.cli.common import limits_of, load, one_finding, print_document
from askless.core.analysis import findings_of
from askless.core.errors import AskLessError
from askless.core.findings import Finding
from askless.core.replay import replay_of
from askless.core.sql.masking import masker
from askless.database.connecting import parse_url
from askless.database.finding_trial import FindingTrial, Road, try_finding
from askless.output import documents, terminal, terminal_trials

REPLAYED = ("n-plus-one", "sibling-filters")
_TIME = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(us|µs|ms|s)?\s*$")
_UNITS = {"us": 1e-3, "µs": 1e-3, "ms": 1.0, "s": 1e3, None: 1.0}


def run(options: argparse.Namespace) -> int:
    """Try and print; exit code 1 where a road gives other rows."""
    if options.capture is None:
        raise AskLessError(
            "what-to-try", "a finding belongs to a capture: which?", "askless trial CAPTURE --finding 1 --db URL"
        )
    round_trip_ms = milliseconds_of(options.round_trip)
    url = parse_url(options.db)
    summary, _ = load(options.capture)
    _, finding = one_finding(findings_of(summary), options.finding)
    if finding.pattern not in REPLAYED:
        raise AskLessError(
            "nothing-to-replay", f"finding {options.finding} is {finding.pattern}: only {' and '.join(REPLAYED)} can be replayed",
            "for others try a rewriting: --before, --after",
        )  # fmt: skip
    replay = replay_of(finding, read(options.capture, []))
    trial = try_finding(url, replay, limits_of(options), terminal.progress)
    terminal.progress_done()
    document = document_of(trial, finding, round_trip_ms, bool(options.values))
    print_document(document) if options.json else terminal_trials.finding(document)
    return 0 if all(road.same_result for road in document.roads) else 1


def milliseconds_of(text: str) -> float:
    """A time as people write it: 0.5ms, 500us, 1 s. Raises AskLessError bad-time."""
    if not text:
        return 0.0
    found = _TIME.match(text)
    if found is None:
        raise AskLessError("bad-time", f"--round-trip can't read {text!r}", "write it like 0.5ms or 200us")
    return float(found[1]) * _UNITS[found[2]]


def document_of(
    trial: FindingTrial, finding: Finding, round_trip_ms: float, show: bool
) -> documents.FindingTrialDocument:
    """A trial as it is printed."""
    base = trial.roads[0]
    base_away = median(base.times_ms) + base.queries * round_trip_ms
    roads = tuple(_road(road, trial, base_away, round_trip_ms, show) for road in trial.roads)
    return documents.FindingTrialDocument(
        format="askless trial-finding",
        system=trial.system,
        finding=finding.key,
        title=finding.title,
        route=trial.route,
        request=trial.request,
        lookups=trial.lookups,
        keys=trial.keys,
        round_trip_ms=round_trip_ms,
        repetitions=len(base.times_ms),
        roads=roads,
        verdict=verdict(roads, round_trip_ms),
    )


def _road(road: Road, trial: FindingTrial, base_away: float, round_trip_ms: float, show: bool) -> documents.TrialRoad:
    ratio = road.ratio
    middle = median(road.times_ms)
    away = middle + road.queries * round_trip_ms
    return documents.TrialRoad(
        name=road.name,
        sql=masker(trial.system, show)(road.sql),
        queries=road.queries,
        median_ms=middle,
        away_ms=away,
        rows=road.rows,
        bytes=road.bytes,
        same_result=not road.difference,
        difference=road.difference,
        cause=road.cause,
        note=road.note,
        ratio=documents.measurement(ratio),
        away_ratio=base_away / away if ratio is not None and round_trip_ms and away else None,
    )


def verdict(roads: tuple[documents.TrialRoad, ...], round_trip_ms: float) -> str:
    """The best of the roads that give the same rows, in words."""
    sound = [road for road in roads[1:] if road.same_result and road.ratio is not None]
    if not sound:
        return "no road gives the same rows: stay row by row until you know why"
    best = min(sound, key=lambda road: road.away_ms)
    base = roads[0]
    ratio = best.ratio
    assert ratio is not None
    saved = f"{base.queries - best.queries} round trips saved"
    if ratio.low > 1:
        said = f"{best.name}: the same rows, ×{ratio.value:.1f} as fast here (95 % interval ×{ratio.low:.1f} to ×{ratio.high:.1f}), {saved}"
    elif ratio.high < 1:
        said = f"{best.name}: the same rows, but slower here (×{ratio.value:.2f}); {saved}"
    else:
        said = f"{best.name}: the same rows, no difference in time seen here; {saved}"
    if round_trip_ms and best.away_ratio is not None:
        said += f"; ×{best.away_ratio:.1f} with {round_trip_ms:g} ms to the database"
    return said
