"""What psycopg 3's transaction blocks send when they are entered and left."""

from time import perf_counter_ns as clock

from .. import recorder
from . import dbapi


def words_of(transaction, leaving, failed):
    """What a transaction block sends when it is entered or left."""
    outer, name = getattr(transaction, "_outer_transaction", True), transaction.savepoint_name
    if not leaving:
        return (["BEGIN"] if outer else []) + (["SAVEPOINT"] if name else [])
    if outer:
        return ["ROLLBACK"] if failed else ["COMMIT"]
    return ["ROLLBACK TO", "RELEASE"] if failed else ["RELEASE"]


def noted(driver, transaction, leaving, failed, start, frame):
    try:
        end = clock()
        for word in words_of(transaction, leaving, failed):
            dbapi.control(word, start, end, frame, driver.number(transaction.connection))
            start = end
    except Exception as error:
        recorder.warn_unrecorded(error)
