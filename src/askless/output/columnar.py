"""Flat rows as Arrow tables and Parquet files, by PyArrow, which is an extra."""

from __future__ import annotations

import contextlib
import shutil
import tempfile
import types
import typing
from collections.abc import Iterable, Iterator
from importlib.util import find_spec
from itertools import islice
from pathlib import Path
from typing import Any

import msgspec

from askless.core.errors import AskLessError

BATCH_ROWS = 50_000
_REPEATED = (
    "request",
    "route",
    "shape",
    "statement",
    "system",
    "call_site",
    "file",
    "function",
    "orm",
    "load",
    "model",
    "relation",
)


def check(package: str = "pyarrow") -> None:
    """Raises AskLessError columns-extra-missing if a package is not installed."""
    if find_spec(package) is None:
        raise AskLessError(
            "columns-extra-missing",
            f"this needs {package}",
            "install the extra: pip install 'ask-less[columns]'",
        )


def schema_of(kind: type[msgspec.Struct]) -> Any:
    """The Arrow schema of a kind of row: its fields, with what may be None as nullable."""
    import pyarrow as arrow

    plain = {str: arrow.string(), int: arrow.int64(), float: arrow.float64(), bool: arrow.bool_()}
    fields = []
    for field in msgspec.structs.fields(kind):
        of, nullable = field.type, False
        if isinstance(of, types.UnionType) or typing.get_origin(of) is typing.Union:
            of, nullable = next(one for one in typing.get_args(of) if one is not type(None)), True
        is_list = typing.get_origin(of) is tuple
        type_ = arrow.list_(plain[typing.get_args(of)[0]]) if is_list else plain[of]
        fields.append(arrow.field(field.name, type_, nullable=nullable))
    return arrow.schema(fields)


def batches_of(
    kind: type[msgspec.Struct], rows: Iterable[msgspec.Struct], most: int = BATCH_ROWS
) -> Iterator[Any]:
    """Rows as Arrow record batches of at most so many rows."""
    import pyarrow as arrow

    schema, stream = schema_of(kind), iter(rows)
    while True:
        batch = list(islice(stream, most))
        if not batch:
            return
        columns = [
            arrow.array(
                [getattr(row, field.name) for row in batch], type=field.type, from_pandas=False
            )
            for field in schema
        ]
        yield arrow.RecordBatch.from_arrays(columns, schema=schema)


def table_of(kind: type[msgspec.Struct], rows: Iterable[msgspec.Struct]) -> Any:
    """Rows as one Arrow table. Raises AskLessError columns-extra-missing."""
    check()
    import pyarrow as arrow

    return arrow.Table.from_batches(batches_of(kind, rows), schema=schema_of(kind))


class ParquetFolder:
    """Writes Parquet files next to their folder, and puts them into it once all are whole.

    Raises AskLessError: columns-extra-missing, file-unwritable.
    """

    def __init__(self, folder: Path) -> None:
        check()
        self._folder = folder
        self._writers: dict[str, tuple[Any, list[msgspec.Struct], type[msgspec.Struct]]] = {}
        with _writable(folder):
            folder.parent.mkdir(parents=True, exist_ok=True)
            self._partial = Path(tempfile.mkdtemp(prefix=f".{folder.name}.", dir=folder.parent))

    def open(self, name: str, kind: type[msgspec.Struct]) -> None:
        """Begin a file for rows of a kind."""
        from pyarrow import parquet

        repeated = [field for field in kind.__struct_fields__ if field in _REPEATED]
        with _writable(self._folder):
            writer = parquet.ParquetWriter(
                self._partial / f"{name}.parquet",
                schema_of(kind),
                compression="zstd",
                use_dictionary=repeated,
            )
        self._writers[name] = writer, [], kind

    def add(self, name: str, rows: Iterable[msgspec.Struct]) -> None:
        """Add rows to a file."""
        writer, waiting, kind = self._writers[name]
        waiting.extend(rows)
        if len(waiting) >= BATCH_ROWS:
            self._flush(writer, waiting, kind)

    def _flush(
        self, writer: Any, waiting: list[msgspec.Struct], kind: type[msgspec.Struct]
    ) -> None:
        with _writable(self._folder):
            for batch in batches_of(kind, waiting):
                writer.write_batch(batch)
        waiting.clear()

    def __enter__(self) -> ParquetFolder:
        return self

    def __exit__(self, failed: type[BaseException] | None, *details: object) -> None:
        """Put the files in their place; on a failure none of them stays."""
        try:
            for writer, waiting, kind in self._writers.values():
                if failed is None:
                    self._flush(writer, waiting, kind)
                with contextlib.suppress(OSError):
                    writer.close()
            if failed is None:
                with _writable(self._folder):
                    self._folder.mkdir(mode=0o700, exist_ok=True)
                    for file in sorted(self._partial.iterdir()):
                        file.chmod(0o600)
                        file.replace(self._folder / file.name)
        finally:
            shutil.rmtree(self._partial, ignore_errors=True)


@contextlib.contextmanager
def _writable(folder: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise AskLessError(
            "file-unwritable",
            f"can't write into {folder}: {error.strerror or error}",
            "name another folder, or free disk space",
        ) from None
