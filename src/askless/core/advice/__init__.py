"""The registry of advice: remedy -> the module that turns it into changes to try. A new remedy is
one file and one line.

Each of them has `advise(remedy, context)`, the change to try first in front.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

import msgspec

from askless.core.findings.finding import Advice
from askless.core.findings.remedies import (
    Batch,
    BatchPerType,
    BatchWrites,
    BindParameters,
    BulkUpsert,
    CacheResult,
    Decorrelate,
    DropEagerLoad,
    FixFailure,
    Group,
    Paginate,
    Project,
    PushDown,
    ReadPlan,
    Remedy,
    SeekByKey,
    SelectColumn,
    ShareResult,
    ShortenTransaction,
    SplitJoin,
    UseLoadedRows,
)
from askless.core.inference.context import Context

REGISTRY: dict[type[Remedy], str] = {
    Batch: "askless.core.advice.eager_loading",
    Group: "askless.core.advice.grouping",
    ShareResult: "askless.core.advice.share_result",
    UseLoadedRows: "askless.core.advice.use_loaded_rows",
    Project: "askless.core.advice.projection",
    Paginate: "askless.core.advice.pagination",
    SeekByKey: "askless.core.advice.keyset_pagination",
    ReadPlan: "askless.core.advice.plan_reading",
    PushDown: "askless.core.advice.pushdown",
    DropEagerLoad: "askless.core.advice.drop_eager_load",
    ShortenTransaction: "askless.core.advice.shorten_transaction",
    BulkUpsert: "askless.core.advice.bulk_upsert",
    SplitJoin: "askless.core.advice.join_fan_out",
    BindParameters: "askless.core.advice.bind_parameters",
    Decorrelate: "askless.core.advice.decorrelation",
    BatchPerType: "askless.core.advice.batch_per_type",
    CacheResult: "askless.core.advice.caching",
    SelectColumn: "askless.core.advice.single_column",
    FixFailure: "askless.core.advice.failed_queries",
    BatchWrites: "askless.core.advice.batch_writes",
}


def advise(remedy: Remedy, context: Context) -> tuple[Advice, ...]:
    """The changes that a remedy comes to. Raises KeyError for one that is not registered."""
    # Not at the top: it needs the SQL parser, which a list that is known already does not.
    from askless.core.advice.rewriting.acceptable import acceptable

    adviser: Any = import_module(REGISTRY[type(remedy)])
    result: tuple[Advice, ...] = adviser.advise(remedy, context)
    system = remedy.stats.statement.system
    return tuple(msgspec.structs.replace(one, sql=acceptable(one.sql, system)) for one in result)
