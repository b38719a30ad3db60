"""What a recorder can't see, as doubts of findings: each with the setting that would tell more, in
that client's own words.
"""

from __future__ import annotations

from askless.core.records.model import CaptureTables

# Recorder and what it does not see -> what would tell it.
_TELLING = {
    (
        "traces",
        "parameters",
    ): "configure the instrumentation to send them: capture_parameters=True of OpenTelemetry's "
    "Python drivers, enhancedDatabaseReporting of its Node driver pg",
    (
        "log",
        "parameters",
    ): "configure the server to log them: log_parameter_max_length = -1 and "
    "log_min_duration_statement",
    (
        "log",
        "results",
    ): "a recorder in the program or a relay sees them: askless capture app, askless capture relay",
    (
        "traces",
        "results",
    ): "a recorder in the program or a relay sees them: askless capture app, askless capture relay",
}


def values_hidden(tables: CaptureTables) -> str:
    """The doubt of a repetition of whose values nothing is known."""
    return (
        "parameters were not recorded, so it may be one row read repeatedly. "
        f"{_remedy(tables, 'parameters')}"
    ).strip()


def results_hidden(tables: CaptureTables) -> str:
    """The doubt of a repetition of whose results nothing is known; '' where they are."""
    if "results" not in tables.unseen:
        return ""
    return f"results were not recorded, so they may differ. {_remedy(tables, 'results')}".strip()


def rows_hidden(tables: CaptureTables) -> str:
    """The doubt of lookups of which no one saw how many rows came; '' where they were seen."""
    if "results" not in tables.unseen:
        return ""
    return f"rows were not recorded: whether a key has one or several is unknown. {_remedy(tables, 'results')}".strip()


def values_of_unknown_origin(tables: CaptureTables) -> str:
    """The doubt of queries by values that may come from an earlier result; '' where results were
    seen.
    """
    if "results" not in tables.unseen:
        return ""
    return (
        "results were not recorded, so the values may come from an earlier query: then this is a "
        f"loop over its rows. {_remedy(tables, 'results')}"
    ).strip()


def _remedy(tables: CaptureTables, what: str) -> str:
    telling = _TELLING.get((tables.recorder, what), "")
    return f"To find out: {telling}" if telling else ""
