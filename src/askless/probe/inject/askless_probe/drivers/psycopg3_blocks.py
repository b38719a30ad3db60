"""psycopg 3's blocks: COPY, streams and transactions, each wrapped from its beginning to its
end.
"""

from . import psycopg3_blocks_async, psycopg3_blocks_sync


def install(module, driver):
    """Wrap what psycopg shows in public."""
    twins = (
        (psycopg3_blocks_sync, module.Cursor, module.Transaction),
        (psycopg3_blocks_async, module.AsyncCursor, module.AsyncTransaction),
    )
    for twin, cursor, transaction in twins:
        cursor.copy = twin.copy_wrapper(cursor.copy, driver)
        cursor.stream = twin.stream_wrapper(cursor.stream, driver)
        twin.wrap_block(transaction, driver)
