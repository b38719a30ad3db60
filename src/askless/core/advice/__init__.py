"""The registry of advice: recipe -> the module that turns it into changes to try. A new recipe is one file and one line.

Each of them has `advise(recipe, context)`, the change to try first in front.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

from askless.core.findings.finding import Advice
from askless.core.findings.remedies import (
    Batch,
    BatchByKind,
    Bind,
    FindAtOnce,
    Group,
    GroupOnce,
    Keep,
    LeaveOut,
    LetGo,
    Mend,
    Move,
    Narrow,
    OneColumn,
    Page,
    Recipe,
    Separate,
    Share,
    Skip,
    UseLoaded,
    WriteTogether,
)
from askless.core.inference.context import Context

REGISTRY: dict[type[Recipe], str] = {
    Batch: "askless.core.advice.eager_loading",
    Group: "askless.core.advice.grouping",
    Share: "askless.core.advice.share_result",
    UseLoaded: "askless.core.advice.use_loaded_rows",
    Narrow: "askless.core.advice.projection",
    Page: "askless.core.advice.pagination",
    Skip: "askless.core.advice.keyset_pagination",
    Move: "askless.core.advice.pushdown",
    LeaveOut: "askless.core.advice.drop_eager_load",
    LetGo: "askless.core.advice.shorten_transaction",
    FindAtOnce: "askless.core.advice.bulk_upsert",
    Separate: "askless.core.advice.join_fan_out",
    Bind: "askless.core.advice.bind_parameters",
    GroupOnce: "askless.core.advice.decorrelation",
    BatchByKind: "askless.core.advice.batch_per_type",
    Keep: "askless.core.advice.caching",
    OneColumn: "askless.core.advice.single_column",
    Mend: "askless.core.advice.failed_queries",
    WriteTogether: "askless.core.advice.batch_writes",
}


def advise(recipe: Recipe, context: Context) -> tuple[Advice, ...]:
    """The changes that a recipe comes to. Raises KeyError for one that is not registered."""
    adviser: Any = import_module(REGISTRY[type(recipe)])
    result: tuple[Advice, ...] = adviser.advise(recipe, context)
    return result
