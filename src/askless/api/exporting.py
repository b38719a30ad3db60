"""A capture as Parquet files, in one reading and in memory that does not grow with it."""

from __future__ import annotations

from pathlib import Path

import msgspec

from askless.core.progress import Progress, quiet
from askless.core.words import plural
from askless.output.columnar import ParquetFolder
from askless.reports import columns

_TELL_EVERY = 2_000  # requests


def parquet(capture: Path, folder: Path, values: bool = False, progress: Progress = quiet) -> dict[str, int]:
    """Write requests, queries, shapes and places into a folder; how many rows of each.

    The files are in the folder once all are whole. Raises AskLessError: columns-extra-missing, file-unwritable, and see the
    reading of captures.
    """
    totals = columns.Totals(values)
    counts = dict.fromkeys(("requests", "queries", "shapes", "places"), 0)
    kinds: tuple[type[msgspec.Struct], ...] = (
        columns.RequestRecord,
        columns.QueryRecord,
        columns.ShapeRecord,
        columns.PlaceRecord,
    )
    with ParquetFolder(folder) as target:
        for name, kind in zip(counts, kinds, strict=True):
            target.open(name, kind)
        for one in columns.arrived(capture):
            target.add("requests", [columns.request_record(one, values)])
            target.add("queries", columns.query_records(one.request, values))
            totals.add(one.request)
            counts["requests"] += 1
            counts["queries"] += len(one.request)
            if counts["requests"] % _TELL_EVERY == 0:
                progress(f"wrote {plural(counts['requests'], 'request')}")
        shapes, places = list(totals.shapes()), list(totals.places())
        target.add("shapes", shapes)
        target.add("places", places)
        counts |= {"shapes": len(shapes), "places": len(places)}
    return counts
