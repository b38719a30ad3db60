"""The office of the pairs: tables whose rows hide what the schema allows.

Every vessel has a call and every call just one clearance; no `owner`, `berth_id`, `minutes` or
`eta` is NULL; no `eta` and no `name` comes twice. The schema promises none of that. `next_berth_id`
is NULL now and then, five berths have no call.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

TABLES = {
    "vessel": "id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, flag VARCHAR(2), owner VARCHAR(40)",
    "berth": "id INTEGER PRIMARY KEY, code VARCHAR(10) NOT NULL, quay VARCHAR(10) NOT NULL",
    "port_call": "id INTEGER PRIMARY KEY, vessel_id INTEGER NOT NULL REFERENCES vessel(id), berth_id INTEGER REFERENCES berth(id), "
    "next_berth_id INTEGER REFERENCES berth(id), status VARCHAR(10) NOT NULL, eta INTEGER, fee DECIMAL(10,2) NOT NULL",
    "tug_job": "id INTEGER PRIMARY KEY, port_call_id INTEGER NOT NULL REFERENCES port_call(id), minutes INTEGER, tug VARCHAR(20) NOT NULL",
    "clearance": "id INTEGER PRIMARY KEY, port_call_id INTEGER NOT NULL REFERENCES port_call(id), officer VARCHAR(20) NOT NULL",
}
FLAGS, STATUSES = ("NO", "DK", "SE", None), ("due", "berthed", "left")


def rows() -> Iterator[tuple[str, tuple[Any, ...]]]:
    """(table, row) of all rows, parents before their children."""
    for i in range(1, 101):
        yield "vessel", (i, f"Tern {i}", FLAGS[i % 4], f"Owner {i * 7 % 101}")
    for i in range(1, 31):
        yield "berth", (i, f"B{i}", f"Q{i % 4}")
    for n in range(300):
        i = 2 * n + 1  # the keys have gaps
        eta = 10_000 + n * 7919 % 30_011  # no two alike, in no order
        following = None if n % 5 == 0 else 1 + n % 20
        yield (
            "port_call",
            (
                i,
                1 + n % 100,
                1 + n % 25,
                following,
                STATUSES[n % 3],
                eta,
                f"{100 + n % 9 * 12.5:.2f}",
            ),
        )
    for n in range(450):
        yield "tug_job", (n + 1, 2 * (n * n % 290) + 1, 20 + n % 50, f"Tug {n % 6}")
    for n in range(300):
        yield "clearance", (n + 1, 2 * n + 1, f"Officer {n % 11}")
