"""The fields of a record: a list that a driver's hook makes when a query has run, and fills while
rows are fetched.

LOAD is what the ORM said: (orm, kind, model, relation, target, many), or a pair of that and a
`use.Use`, if it is tracked what becomes of the result.
"""

(
    TEXT,
    PARAMETERS,
    START_NS,
    DURATION_NS,
    ROWS,
    PLACE,
    SAMPLE,
    CONNECTION,
    IN_TRANSACTION,
    DESCRIPTION,
    LOAD,
) = range(11)
THREAD, ERROR, BATCH = range(11, 14)
