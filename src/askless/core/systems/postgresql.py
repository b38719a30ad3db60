"""PostgreSQL."""

from __future__ import annotations

from askless.core.systems import (
    ANALYZE,
    BY_CONFLICT,
    Layout,
    Lexis,
    Meaning,
    Statistics,
    System,
    Traits,
)
from askless.core.systems.lexical import (
    COMMENT_NESTED,
    DOLLAR,
    DOUBLE_PLAIN,
    RESERVED,
    STRING_PLAIN,
)

SYSTEM = System(
    name="postgresql",
    title="PostgreSQL",
    dialect="postgres",
    driver="psycopg",
    aliases=("postgres",),
    lexis=Lexis(
        r"--[^\n]*",
        COMMENT_NESTED,
        rf"'(?<=[eE]')(?<!\w[eE]')(?:[^'\\]|\\.|'')*+(?:'|\\?\Z)|{STRING_PLAIN}",
        (DOUBLE_PLAIN,),
        "?$:%",
        (DOLLAR,),
    ),
    folds_names=True,
    reserved=RESERVED,
    noise=r"select (?:pg_catalog\.)?(?:current_schema|current_database|pg_backend_pid"
    r"|pg_advisory_unlock_all|version"
    r"|pg_is_in_recovery)\(\)(?: as \S+)?$"
    r"|select (?:pg_catalog\.)?(?:set_config|current_setting)\(\?(?:, (?:\?|true|false)){0,2}\)(?: "
    r"as \S+)?$"
    r"|(?:deallocate|discard|listen|unlisten|reset)(?:$|[ ;(])",
    catalogs=r"(?:pg_catalog\.|pg_(?:class|type|namespace|attribute|index|constraint|enum|range)\b)",
    expression_index="{}",
    traits=Traits(random=4.0, hash_join=True, clustered=False),
    # https://www.postgresql.org/docs/current/btree.html#BTREE-DEDUPLICATION, nbtree's README
    layout=Layout(
        page_bytes=8192,
        usable_bytes=0.9 * 8192 - 40,
        entry_bytes=12.0,
        aligned_bytes=8,
        locator_bytes=6,
        posting_bytes=812,
        widths=(
            ("BIGINT", 8),
            ("SMALLINT", 2),
            ("INT", 4),
            ("BOOL", 1),
            ("TIMESTAMP", 8),
            ("DATE", 4),
            ("UUID", 16),
            ("REAL", 4),
            ("DOUBLE", 8),
            ("FLOAT", 8),
        ),
    ),
    # https://www.postgresql.org/docs/current/btree.html: an entry takes a third of a page at most
    unbounded=r"TEXT|VARCHAR$|CHARACTER VARYING$|CITEXT|JSON|XML|BYTEA|HSTORE|TSVECTOR|.*\[\]",
    entry_bytes_most=2704,
    equality_index="hash",
    changes_in_place=True,
    partial_indexes=True,
    sorts_by_parts=True,
    wildcard_index=("pg_trgm", "CREATE INDEX {name} ON {table} USING gin ({column} gin_trgm_ops)"),
    named_schemas=True,
    lists_as_arrays=True,
    offset_alone=True,
    upsert=BY_CONFLICT,
    statistics=Statistics(
        one=ANALYZE,
        several=f"{ANALYZE}, then CREATE STATISTICS on the columns of the condition: they may be "
        "correlated",
        expression="there are no statistics of an expression until CREATE STATISTICS, or an index, "
        "is made on it, and ANALYZE has run",
    ),
    meanings=(  # SQLSTATEs as in appendix A of the server's documentation, two characters name a class; libpq gives none
        # where the connection itself fails or is lost
        Meaning(
            "password-refused",
            "give the password in the environment variable ASKLESS_DB_PASSWORD, in the URL, or in "
            "~/.pgpass",
            ("28",),
            ("password authentication failed", "no password supplied", "fe_sendauth"),
        ),
        Meaning(
            "not-there",
            "is this the capture's database? check --db",
            ("3D000", "42P01", "42703", "3F000"),
            ("does not exist",),
        ),
        Meaning(
            "type-unknown",
            "say the type in the statement: CAST(... AS integer)",
            ("42P18", "42804", "42883"),
        ),
        Meaning("no-rights", "request the privilege, or use another user in --db", ("42501",)),
        Meaning("timed-out", "raise --timeout, or query less", ("57014",)),
        Meaning("locked", "another session has locked the table: try again later", ("55P03",)),
        Meaning(
            "connection-lost",
            "the server rolled the transaction back; try again",
            ("57P", "08003", "08006"),
            (
                "server closed the connection",
                "terminating connection",
                "connection is lost",
                "consuming input failed",
            ),
        ),
        Meaning(
            "server-away",
            "is it running and reachable? check host and port in --db",
            ("08001", "08004"),
            (
                "connection refused",
                "could not connect",
                "connection timeout",
                "timeout expired",
                "name or service",
                "failed to resolve",
            ),
        ),
        Meaning("writes-refused", "Ask Less only reads: name a SELECT", ("25006",)),
    ),
)
