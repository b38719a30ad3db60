"""A trial of a finding: what it asks now next to the other ways to ask for it that can be written
as SQL.
"""

from __future__ import annotations

from pathlib import Path
from statistics import median

from askless.core.analysis.pipeline import diagnoses_of
from askless.core.errors import AskLessError
from askless.core.patterns.base import Diagnosis
from askless.core.progress import Progress, quiet
from askless.core.sql.masking import masker
from askless.core.trials.alternatives import TRIED, alternatives_of
from askless.core.trials.replay import replay_of
from askless.core.verdicts import Outcome, Verdict, direction
from askless.database.alternatives_trial import try_alternatives
from askless.database.connecting import parse_url
from askless.database.finding_trial import FindingTrial, TrialAlternative, try_finding
from askless.database.servers import Limits
from askless.reports import documents
from askless.reports.loading import load, requests_of


def finding_trial(
    database: str,
    path: Path,
    key: str,
    network_latency_ms: float = 0.0,
    values: bool = False,
    limits: Limits | None = None,
    progress: Progress = quiet,
) -> documents.FindingTrialDocument:
    """Replay the finding of a name. `network_latency_ms` is added to each query by arithmetic.

    Raises AskLessError: no-finding, nothing-to-replay, and what the database says.
    """
    url = parse_url(database)
    summary, notes = load(path)
    diagnosis = _named(diagnoses_of(summary), key, path)
    finding = diagnosis.finding
    if isinstance(diagnosis.remedy, TRIED):
        trial = try_alternatives(
            url, alternatives_of(diagnosis, requests_of(path)), limits, progress
        )
    else:
        trial = try_finding(url, replay_of(diagnosis, requests_of(path)), limits, progress)
    base = trial.alternatives[0]
    base_away = median(base.times_ms) + base.queries * network_latency_ms
    alternatives = tuple(
        _alternative(alternative, trial, base_away, network_latency_ms, values)
        for alternative in trial.alternatives
    )
    return documents.FindingTrialDocument(
        format="askless trial-finding",
        system=trial.system,
        finding=finding.key,
        title=finding.title,
        route=trial.route,
        request=trial.request,
        lookups=trial.lookups,
        keys=trial.keys,
        network_latency_ms=network_latency_ms,
        repetitions=len(base.times_ms),
        alternatives=alternatives,
        verdict=verdict(alternatives, network_latency_ms),
        notes=notes,
    )


def _named(diagnoses: list[Diagnosis], key: str, path: Path) -> Diagnosis:
    for diagnosis in diagnoses:
        if diagnosis.finding.key == key:
            return diagnosis
    raise AskLessError(
        "no-finding",
        f"{path} has no finding {key}; it has {len(diagnoses)}",
        f"list them: askless findings {path}",
    )


def _alternative(
    alternative: TrialAlternative,
    trial: FindingTrial,
    base_away: float,
    network_latency_ms: float,
    show: bool,
) -> documents.TrialAlternative:
    ratio = alternative.ratio
    middle = median(alternative.times_ms)
    away = middle + alternative.queries * network_latency_ms
    return documents.TrialAlternative(
        name=alternative.name,
        sql=masker(trial.system, show)(alternative.sql),
        queries=alternative.queries,
        median_ms=middle,
        with_latency_ms=away,
        rows=alternative.rows,
        bytes=alternative.bytes,
        same_result=not alternative.difference,
        difference=alternative.difference,
        cause=alternative.cause,
        note=alternative.note,
        returns=alternative.returns,
        ratio=ratio,
        ratio_with_latency=base_away / away
        if ratio is not None and network_latency_ms and away
        else None,
    )


def verdict(
    alternatives: tuple[documents.TrialAlternative, ...], network_latency_ms: float
) -> Verdict:
    """The verdict on the best alternative with the same rows; CHANGED if there is none."""
    sound = [
        alternative
        for alternative in alternatives[1:]
        if alternative.same_result and alternative.ratio is not None
    ]
    if not sound:
        return Verdict(
            Outcome.CHANGED,
            "no alternative returns the same rows: keep the current code until you know why",
        )
    best = min(sound, key=lambda alternative: alternative.with_latency_ms)
    ratio = best.ratio
    assert ratio is not None
    outcome = direction(ratio)
    trips = alternatives[0].queries - best.queries
    saved = (
        f"{trips} round trips saved"
        if trips
        else f"{alternatives[0].rows - best.rows:,} rows fewer"
        if alternatives[0].rows > best.rows
        else ""
    )
    if outcome is Outcome.FASTER:
        interval = f"{100 * ratio.confidence:.0f} % interval ×{ratio.low:.1f} to ×{ratio.high:.1f}"
        text = f"{best.name}: {best.returns}, ×{ratio.value:.1f} as fast here ({interval})"
    elif outcome is Outcome.SLOWER:
        text = f"{best.name}: {best.returns}, but slower here (×{ratio.value:.2f})"
    else:
        text = f"{best.name}: {best.returns}, no measurable difference here"
    if saved:
        text += f"{', ' if outcome is Outcome.FASTER else '; '}{saved}"
    if network_latency_ms and best.ratio_with_latency is not None:
        text += f"; ×{best.ratio_with_latency:.1f} with {network_latency_ms:g} ms to the database"
    return Verdict(outcome, text)
