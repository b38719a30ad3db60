"""Advice for rows that every request reads: keep them for a while, or until they are written."""

from __future__ import annotations

from askless.core.findings.finding import Advice
from askless.core.findings.remedies import CacheResult
from askless.core.inference.context import Context


def advise(remedy: CacheResult, context: Context) -> tuple[Advice, ...]:
    """By time first; by event where the application itself writes."""
    named = remedy.structure.main or "these rows"
    by_time = Advice(
        title=f"cache the result of {named} for {remedy.live_s:,} s, then read it again",
        why="the rows stayed unchanged for longer than that",
        at=remedy.line,
        saving=remedy.saving,
        trade_offs="changes become visible late, in each process separately; the rows take "
        "memory; the first read after each expiry still waits",
        verify=(
            "the rows do not depend on the user, tenant, language or permissions",
            "a page that has just written them bypasses the cache",
        ),
    )
    if not remedy.writes:
        return (by_time,)
    by_event = Advice(
        title="or invalidate the cache on write: " + "; ".join(remedy.writes),
        why="stale rows are visible only while the write is in progress",
        at=remedy.line,
        trade_offs="every writer must invalidate the cache, including other programs and manual "
        "changes; several processes must share the cache",
        verify=("no other program writes to these tables",),
    )
    return by_time, by_event
