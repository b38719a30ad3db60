"""Where a call goes that names one model, if its line reads other models as well.

A helper, a generic view, a paginator or a serializer builds or evaluates whatever query it is
given: a relation or column that is named there raises for the next model.
"""

from __future__ import annotations

import re

import msgspec

from askless.core.advice.orm import bare
from askless.core.advice.projection import OFFERED
from askless.core.findings.finding import Advice, SourceLine
from askless.core.findings.remedies import Batch, Remedy
from askless.core.formatting import listed
from askless.core.inference.context import Context
from askless.core.inference.shared_lines import packages_of

_OTHERS_MOST = 2  # models that are named
_OVERRIDDEN = re.compile(r"get_(\w+_)?queryset$")  # what frameworks call the hook for it


def model_of(remedy: Remedy) -> str:
    """The model of the query that a remedy's first call is added to; '' for none."""
    if isinstance(remedy, Batch):
        return remedy.root.load.target if remedy.root is not None and remedy.root.load else ""
    return remedy.stats.load.target if remedy.stats.load is not None else ""


def placed(advice: tuple[Advice, ...], remedy: Remedy, context: Context) -> tuple[Advice, ...]:
    """Advice, with words for where a call goes that its line can't take."""
    model, load = model_of(remedy), remedy.stats.load
    orm = load.orm if load is not None else ""
    return tuple(
        msgspec.structs.replace(one, code=placed_code(one.code, one.at, orm, model, context))
        for one in advice
    )


def placed_code(code: str, at: SourceLine | None, orm: str, model: str, context: Context) -> str:
    """A call on a query of a model: as it is, or an instruction if its line reads other models."""
    condition, offered, call = code.rpartition(OFFERED)
    if at is None or not model or not call.startswith("."):
        return code
    others = sorted(context.shared.get((at.file, at.line), set()) - {model})
    package = _package_without(model, orm, at.file, context)
    if not others and not package:
        return code
    reads = (
        f"reads {listed([bare(one) for one in others], _OTHERS_MOST)} as well"
        if others
        else f"is in {package} and reads whatever model it is given"
    )
    if _OVERRIDDEN.match(at.function):
        where = f"where {at.function} gives {bare(model)} objects, override it, and end it with"
    else:
        where = f"to the {bare(model)} query that it is given, add"
    return f"{condition}{offered}not at that line, which {reads}: {where} {call}"


def _package_without(model: str, orm: str, file: str, context: Context) -> str:
    """The installed package that a file belongs to, if the model is not one of its own."""
    packages, known = packages_of(file), context.models.get((orm, model))
    if not packages or known is None or not known.module:
        return ""
    return packages[0] if known.module.split(".")[0] not in packages else ""
