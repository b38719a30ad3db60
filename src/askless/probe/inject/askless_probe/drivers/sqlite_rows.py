"""The rows of a sqlite3 cursor, counted as the program takes them."""

from itertools import islice
from time import perf_counter_ns as clock

from .. import recorder
from ..fields import DURATION_NS, ROWS, SAMPLE
from ..recorder import SAMPLE_ROWS

_END = object()


def counted_rows(cursor, record):
    """Iterate over the rows as the program does: every row is counted, one in 32 is timed for all
    of them.
    """
    cursor._askless_plain = True
    plain = islice(cursor, None)
    cursor._askless_plain = False
    count = record[ROWS]
    sample = record[SAMPLE] = record[SAMPLE] or []
    try:
        while True:
            start = clock()
            row = next(plain, _END)
            duration = clock() - start
            if row is _END:
                record[DURATION_NS] += duration
                break
            record[DURATION_NS] += duration * (32 if count >= SAMPLE_ROWS else 1)
            if len(sample) < SAMPLE_ROWS:
                sample.append(row if type(row) is not dict else tuple(row.values()))
            count += 1
            yield row
            if count >= SAMPLE_ROWS:
                for row in islice(plain, 31):
                    count += 1
                    yield row
        if cursor._askless_record is record:
            cursor._askless_record = None
            shown(record, count)
    finally:
        record[ROWS] = count


def shown(record, rows=None):
    if recorder.echo is not None:
        if rows is not None:
            record[ROWS] = rows
        recorder.echo.show(record)
