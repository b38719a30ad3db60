"""Thresholds, with the defaults that DESIGN's patterns name. Plain values: the command line fills
them in.
"""

from __future__ import annotations

import msgspec

PAGE_ROWS = 50  # rows that advice proposes to read at a time


class Settings(msgspec.Struct, frozen=True):
    """When a way of asking counts as asking too much."""

    repeat_least: int = 3  # executions of one shape in a request before it may be an n-plus-one
    duplicate_least: int = 2  # executions of one statement with one set of parameters
    # a pause between equal reads, outside of pages and jobs, from which they are polling
    polling_gap_ms: float = 500.0
    # average bytes of a value from which its column counts as wide
    wide_column_bytes: float = 256.0
    # of a single row, from which it matters that one value of it is used
    wide_row_bytes: int = 1024
    wide_rows_least: float = 5.0  # rows from which a query counts as a list
    wide_result_bytes: int = 4096  # a result smaller than this is never over-wide
    unbounded_rows_least: int = 500  # rows without LIMIT from which a query counts as unbounded
    unbounded_table_least: int = 100  # the same, if the result is the whole table
    offset_least: int = 1000  # rows that an OFFSET skips, from which it is deep
    unused_objects_least: int = 2  # objects loaded eagerly and never touched, over the capture
    discarded_rows_least: float = 20.0  # rows from which it matters that most of them are not used
    # the largest share of rows that are used where most are thrown away
    discarded_read_most: float = 0.2
    multiplied_rows_least: int = 50  # rows of a query that a join has made in vain
    multiplied_bytes_least: int = 32768  # bytes of a query that are columns of a parent sent again
    per_row_rows_least: int = 20  # rows, for each of which a subquery is evaluated
    per_row_ms: float = 20.0  # of a query with such a subquery
    per_row_scan_ms: float = 5.0  # the same, if each evaluation reads a whole table
    churn_least: int = 20  # executions of one shape with changing literals
    write_loop_least: int = 5  # writes of one shape in a request
    # in an open transaction, if it is known what the application waited for
    known_pause_ms: float = 20.0
    unknown_pause_ms: float = 50.0  # the same where it is not
    slow_share: float = 0.5  # of a route's time that one statement takes,
    slow_ms: float = 200.0  # and of a request at least, to be a slow query
    examine_most: int = 5  # requests of one route in which a repetition is traced in full
    look_first: int = 32  # requests of a route, the first ones, whose results are compared
    look_every: int = 64  # of the requests after those, one in so many
    # the assumed way to the database and back, added to what each query takes
    network_latency_ms: float = 0.0
    show_values: bool = False  # whether reports may show literals of statements

    @property
    def pause_least_ns(self) -> int:
        """The shortest pause in a transaction that may matter."""
        return int(min(self.known_pause_ms, self.unknown_pause_ms) * 1e6)

    def for_pieces(self, pieces: int) -> Settings:
        """The settings for one of so many pieces of a capture: what is looked at closely is spread
        over them.
        """
        spread = min(pieces, 4)
        return msgspec.structs.replace(
            self, look_first=self.look_first // spread, examine_most=-(-self.examine_most // spread)
        )

    def looks_at(self, turn: int) -> bool:
        """Whether the results of a route's request, the first of which is 1, are compared over
        requests.
        """
        return turn <= self.look_first or turn % self.look_every == 0


# What a project may set; the rest is how much is looked at, or a command's option.
THRESHOLDS = tuple(
    name
    for name in Settings.__struct_fields__
    if name not in ("examine_most", "look_first", "look_every", "network_latency_ms", "show_values")
)
