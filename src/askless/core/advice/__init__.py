"""The registry of advice: recipe -> the module that turns it into changes to try. A new recipe is one file and one line.

Each of them has `advise(recipe, context)`, the change to try first in front.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

from askless.core.context import Context
from askless.core.findings import Advice
from askless.core.recipes import (
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

REGISTRY: dict[type[Recipe], str] = {
    Batch: "askless.core.advice.eager_loading",
    Group: "askless.core.advice.grouping",
    Share: "askless.core.advice.sharing",
    UseLoaded: "askless.core.advice.reuse",
    Narrow: "askless.core.advice.projection",
    Page: "askless.core.advice.pagination",
    Skip: "askless.core.advice.skipping",
    Move: "askless.core.advice.moving",
    LeaveOut: "askless.core.advice.leaving",
    LetGo: "askless.core.advice.letting_go",
    FindAtOnce: "askless.core.advice.finding_at_once",
    Separate: "askless.core.advice.separating",
    Bind: "askless.core.advice.binding",
    GroupOnce: "askless.core.advice.grouping_once",
    BatchByKind: "askless.core.advice.by_kind",
    Keep: "askless.core.advice.keeping",
    OneColumn: "askless.core.advice.one_column",
    Mend: "askless.core.advice.mending",
    WriteTogether: "askless.core.advice.writing",
}


def advise(recipe: Recipe, context: Context) -> tuple[Advice, ...]:
    """The changes that a recipe comes to. Raises KeyError for one that is not registered."""
    adviser: Any = import_module(REGISTRY[type(recipe)])
    result: tuple[Advice, ...] = adviser.advise(recipe, context)
    return result
