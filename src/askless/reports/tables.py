"""The tables of a database with their sizes, keys and indexes."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from askless.core.indexing import redundancy
from askless.core.records import index_ddl
from askless.core.records.schema import Schema
from askless.reports import documents


def bare_keys(keys: Iterable[redundancy.BareKey]) -> tuple[documents.BareForeignKey, ...]:
    """Foreign keys without an index, as documents show them."""
    return tuple(documents.BareForeignKey(*msgspec.structs.astuple(key)) for key in keys)


def redundant(
    entries: Iterable[tuple[str, str, str]], system: str
) -> tuple[documents.RedundantIndex, ...]:
    """Redundant indexes, each with the statement that drops it."""
    return tuple(
        documents.RedundantIndex(table, index, by, index_ddl.drop_index(index, table, system))
        for table, index, by in entries
    )


def tables(schema: Schema) -> documents.TablesDocument:
    """A schema as it is shown, and saved for `--schema`; with foreign keys that lack an index, and
    redundant indexes.
    """
    return documents.TablesDocument(
        format="askless tables",
        system=schema.system,
        tables=schema.tables,
        bare_keys=bare_keys(redundancy.bare_foreign_keys(schema, [])),
        redundant=redundant(redundancy.redundant_indexes(schema), schema.system),
    )
