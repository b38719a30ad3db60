"""MariaDB: MySQL, but for what is here."""

from __future__ import annotations

import msgspec

from askless.core.systems import Statistics, Traits
from askless.core.systems.mysql import SYSTEM as MYSQL

SYSTEM = msgspec.structs.replace(
    MYSQL,
    name="mariadb",
    expression_index="",
    title="MariaDB",
    traits=Traits(random=2.0, hash_join=False, clustered=True),
    statistics=Statistics(
        one="first update the statistics (ANALYZE TABLE … PERSISTENT FOR ALL, which also counts "
        "columns without an index)",
        several="first update the statistics (ANALYZE TABLE … PERSISTENT FOR ALL); columns are "
        "taken to be independent unless one index begins with both",
        expression="there are no statistics of an expression: a generated column with an index has "
        "them, if the condition names that column",
    ),
    meanings=tuple(
        msgspec.structs.replace(meaning, codes=(*meaning.codes, "1969", "1028"))
        if meaning.slug == "timed-out"
        else meaning
        for meaning in MYSQL.meanings
    ),
)
