"""A statement's structure, parsed once a shape: tables, columns, predicates, joins, order, limit,
aggregates.

What the parser can't read has no structure; it still has a shape and is still counted. The parser
is imported when the first structure is asked for: it takes longer to import than most reports to
make.
"""

from __future__ import annotations

from collections.abc import Collection

import msgspec

from askless.core.sql.slots import Slot

EVERYTHING = "*"  # among the tables written: which ones is not known


class Column(msgspec.Struct, frozen=True):
    """A column of a table. `table` is the table's own name, or '' where it can't be said."""

    table: str
    name: str

    def __str__(self) -> str:
        return f"{self.table}.{self.name}" if self.table else self.name


class Predicate(msgspec.Struct, frozen=True):
    """`column operator value`. `slots` are the slots that supply the value (several for IN and
    BETWEEN); with the operator `any` its one slot holds a list.

    `source` is what its SELECT calls the table, '' for a column of a derived table.
    `required` says that every row of the result must meet it: it is joined to the others by AND, at
    the top, or is in the one subquery that all rows come from. `filters` tells the same of the rows
    of its own SELECT, a subquery or branch.
    """

    column: Column
    operator: str
    slots: tuple[int, ...]
    required: bool = True
    inside: str = ""  # a function around the column
    alike: bool = False  # which is around the value too: lower(code) = lower(?)
    filters: bool = True
    source: str = ""


class Join(msgspec.Struct, frozen=True):
    """Two columns that a join (in ON, USING or WHERE) sets equal. `outer` says of a left, right or
    full join.
    """

    left: Column
    right: Column
    outer: bool = False


class Correlation(msgspec.Struct, frozen=True):
    """A subquery's column that is set equal to one of the query around it. `per_row`: it gives a
    value, row by row.

    `shown`: the value is a column of the statement's result, or a part of one.
    """

    inner: Column
    around: Column
    per_row: bool
    shown: bool = False


class Output(msgspec.Struct, frozen=True):
    """One column of the result: the column it comes from ('' table and name where it is computed),
    and its name.
    """

    column: Column
    name: str
    star: bool = False
    aggregate: str = ""


class Structure(msgspec.Struct, frozen=True):
    """What a statement asks, as far as it can be derived from its text.

    `kind` is select, insert (REPLACE too), update, delete, merge, copy, truncate, call or the like,
    or other. `tables` are the tables read or written, each once, in order; `main` is the first of
    FROM, or the one written. `writes` are all that are written, in lower case, by a part of the
    statement too; EVERYTHING among them means that they are not known.
    """

    kind: str
    main: str
    tables: tuple[str, ...]
    outputs: tuple[Output, ...] = ()
    predicates: tuple[Predicate, ...] = ()
    joins: tuple[Join, ...] = ()
    group_by: tuple[Column, ...] = ()
    order_by: tuple[tuple[Column, bool], ...] = ()
    has_limit: bool = False
    bounded: bool = False  # a limit, its own or one inside, keeps the rows few
    limit_slot: int | None = None
    offset_slot: int | None = None
    distinct: bool = False
    subqueries: int = 0
    locks: bool = False
    volatile: bool = False  # the same again may give other rows: random(), nextval()
    clock: str = ""  # it asks what time it is: by the day, by the transaction or by the moment
    exists: bool = False
    slots: tuple[Slot, ...] = ()
    repeated: tuple[str, ...] = ()  # names that several tables of the statement have
    written: tuple[str, ...] = ()  # the columns that an insert or update names
    computed: tuple[str, ...] = ()  # those that an update sets to more than a value
    names: tuple[
        tuple[str, str], ...
    ] = ()  # each name that the statement uses for a table, and the table
    writes: tuple[str, ...] = ()
    filters_by_query: bool = False  # a condition that every row must meet asks a query of its own
    # the column whose highest or lowest value, of the same table, every row must have
    extreme: Column | None = None
    # Of each OR that every row must meet, what an index could answer of its sides.
    either: tuple[tuple[Predicate, ...], ...] = ()
    correlations: tuple[Correlation, ...] = ()
    # a condition that is none of the predicates: a bare boolean, two columns of one table
    filters_more: bool = False
    used: tuple[
        Column, ...
    ] = ()  # every column that the statement names anywhere, subqueries included

    @property
    def repeatable(self) -> bool:
        """Whether it only reads, and gives the same again as long as no one writes."""
        return self.kind == "select" and not self.locks and not self.volatile

    def filters_besides(self, columns: Collection[str]) -> bool:
        """Whether a row must meet a condition that compares none of these columns."""
        if self.filters_by_query or self.filters_more:
            return True
        return any(predicate.column.name not in columns for predicate in self.predicates)

    @property
    def of_one_table(self) -> bool:
        """Whether it names one table once: joined with itself, a table's columns are those of two
        rows.
        """
        return len(self.tables) == 1 and len(self.names) == 1

    @property
    def aggregates(self) -> tuple[str, ...]:
        """The aggregate functions of the result, if it is nothing but aggregates."""
        if self.outputs and all(output.aggregate for output in self.outputs):
            return tuple(output.aggregate for output in self.outputs)
        return ()

    def is_of(self, predicate: Predicate, table: str, name: str) -> bool:
        """Whether a predicate is on this reading of a table, which a plan calls `name`.

        Of a table that is read twice only the name tells; where both have one, nothing does.
        """
        if predicate.column.table.lower() != table.lower():
            return False
        source = predicate.source
        if sum(known.lower() == table.lower() for _, known in self.names) == 1:
            return not any(self._is_name_of(one, table) for one in self.repeated)
        return source not in self.repeated and source.lower() == name.lower() != ""

    def _is_name_of(self, name: str, table: str) -> bool:
        return any(one == name and known.lower() == table.lower() for one, known in self.names)

    @property
    def counts(self) -> bool:
        """Whether the result is one row of a count and nothing else."""
        return self.aggregates == ("count",) and not self.group_by

    def nearest(self, column: Column) -> Column:
        """The column that always has this one's value and is the least number of joins away from
        the main table.

        A lookup of children by `parent.id`, with a needless join to the parent, asks for the
        children's own reference.
        """
        away = {self.main: 0}
        while True:
            further = {
                one.table: away[other.table] + 1
                for join in self.joins
                for one, other in ((join.left, join.right), (join.right, join.left))
                if other.table in away and one.table not in away
            }
            if not further:
                break
            away |= further
        equal = [column]
        for known in equal:
            for join in self.joins:
                if known in (join.left, join.right):
                    other = join.right if known == join.left else join.left
                    if other not in equal:
                        equal.append(other)
        return min(equal, key=lambda one: away.get(one.table or self.main, len(away)))
