"""The tables of a database with their sizes, keys and indexes."""

from __future__ import annotations

from askless.core.indexing import redundancy
from askless.core.records import index_ddl
from askless.core.records.schema import Schema
from askless.reports import documents


def tables(schema: Schema) -> documents.TablesDocument:
    """A schema as it is shown, and saved for `--schema`; with foreign keys that lack an index, and
    redundant indexes.
    """
    return documents.TablesDocument(
        format="askless tables",
        system=schema.system,
        tables=schema.tables,
        bare_keys=tuple(
            documents.BareForeignKey(
                key.table, key.columns, key.target, key.rows, key.ddl, key.shapes
            )
            for key in redundancy.bare_foreign_keys(schema, [])
        ),
        redundant=tuple(
            documents.RedundantIndex(
                table, index, by, index_ddl.drop_index(index, table, schema.system)
            )
            for table, index, by in redundancy.redundant_indexes(schema)
        ),
    )
