"""MariaDB: MySQL, but for what is here."""

from __future__ import annotations

import msgspec

from askless.core.systems import Traits
from askless.core.systems.mysql import SYSTEM as MYSQL

SYSTEM = msgspec.structs.replace(
    MYSQL,
    name="mariadb",
    expression_index="",
    title="MariaDB",
    traits=Traits(random=2.0, hash_join=False, clustered=True),
    meanings=tuple(
        msgspec.structs.replace(meaning, codes=(*meaning.codes, "1969", "1028"))
        if meaning.slug == "timed-out"
        else meaning
        for meaning in MYSQL.meanings
    ),
)
