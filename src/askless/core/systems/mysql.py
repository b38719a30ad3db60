"""MySQL."""

from __future__ import annotations

from askless.core.systems import BY_DUPLICATE, Layout, Lexis, Meaning, Statistics, System, Traits
from askless.core.systems.lexical import (
    BACKTICK,
    COMMENT_FLAT,
    DOUBLE_ESCAPED,
    RESERVED,
    STRING_ESCAPED,
)

SYSTEM = System(
    name="mysql",
    title="MySQL",
    dialect="mysql",
    driver="pymysql",
    lexis=Lexis(
        r"--(?=\s|\Z)[^\n]*|\#[^\n]*",
        COMMENT_FLAT,
        STRING_ESCAPED,
        (BACKTICK,),
        "?:%",
        (DOUBLE_ESCAPED,),
    ),
    quote="`",
    reserved=RESERVED,
    noise=r"select (?:database|last_insert_id|connection_id)\(\)(?: as \S+)?$|(?:use|show)(?:$|[ "
    r";(])"
    r"|select (?:version\(\), )?@@[\w.]+(?: as \S+)?(?:, @@[\w.]+(?: as \S+)?|, convert_tz\(\?, "
    r"\?, \?\) is not null)*$",
    catalogs=r"mysql\.",
    expression_index="({})",
    traits=Traits(random=2.0, hash_join=True, clustered=True),
    # https://dev.mysql.com/doc/refman/8.4/en/innodb-row-format.html; a sixteenth of each page stays
    # free when an index is built
    layout=Layout(
        page_bytes=16384,
        usable_bytes=15 / 16 * (16384 - 128),
        entry_bytes=4.7,
        length_bytes=1,
        null_bytes=1,
        extents=(32, 64),
        widths=(
            ("BIGINT", 8),
            ("SMALLINT", 2),
            ("TINYINT", 1),
            ("MEDIUMINT", 3),
            ("INT", 4),
            ("BOOL", 1),
            ("DATETIME", 5),
            ("TIMESTAMP", 4),
            ("DATE", 3),
            ("TIME", 3),
            ("YEAR", 1),
            ("FLOAT", 4),
            ("DOUBLE", 8),
            ("ENUM", 1),
            ("DECIMAL", 5),
            ("NUMERIC", 5),
        ),
    ),
    unbounded=r"JSON|GEOMETRY",
    entry_bytes_most=3072,
    drop_names_table=True,
    text_beginning=64,
    joins_in_batches=True,
    number_hides_text=True,
    upsert=BY_DUPLICATE,
    statistics=Statistics(
        one="first update the statistics (ANALYZE TABLE); of a column without an index there are "
        "none until ANALYZE TABLE … UPDATE HISTOGRAM ON that column",
        several="first update the statistics (ANALYZE TABLE); columns are taken to be independent "
        "unless one index begins with both",
        expression="there are no statistics of an expression until a functional index is made on "
        "it, or a generated column with an index, and ANALYZE TABLE has run",
    ),
    meanings=(  # error numbers as in the server's error message reference
        Meaning(
            "password-refused",
            "give the password in the environment variable ASKLESS_DB_PASSWORD, in the URL, or in "
            "~/.my.cnf",
            ("1045", "1698"),
        ),
        Meaning(
            "not-there",
            "is this the capture's database? check --db",
            ("1049", "1051", "1054", "1146"),
        ),
        Meaning(
            "no-rights",
            "request the privilege, or use another user in --db",
            ("1044", "1142", "1143", "1227"),
        ),
        Meaning("timed-out", "raise --timeout, or query less", ("3024", "1317")),
        Meaning("locked", "another session has locked the table: try again later", ("1205",)),
        Meaning(
            "connection-lost",
            "the server rolled the transaction back; try again",
            (
                "2006",
                "2013",
                "2055",
                "1927",
                "0",
            ),  # 0 is PyMySQL's, if the connection was lost before it asked
        ),
        Meaning(
            "server-away",
            "is it running and reachable? check host and port in --db",
            ("2002", "2003", "2005"),
            ("timed out",),
        ),
        Meaning(
            "copied-once",
            "MySQL can read a copy of a table only once per statement: omit --synthetic-rows",
            ("1137",),
        ),
        Meaning("writes-refused", "Ask Less only reads: name a SELECT", ("1792", "1290")),
    ),
)
