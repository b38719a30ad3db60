"""Pairs of statements with a known verdict: the same whatever the rows are, other today, or the
same today by chance.
"""

from __future__ import annotations

from typing import NamedTuple


class Pair(NamedTuple):
    """`today` and `harder`: whether a trial must call them the same with the rows there are, and
    with planted ones.

    None: the text leaves it open (a LIMIT among ties, say); then no more is asked than that nothing
    is claimed without a word.
    """

    name: str
    before: str
    after: str
    today: bool | None
    harder: bool | None


def _same(name: str, before: str, after: str) -> Pair:
    return Pair(name, before, after, True, True)


def _other(name: str, before: str, after: str) -> Pair:
    return Pair(name, before, after, False, False)


def _hidden(name: str, before: str, after: str) -> Pair:
    return Pair(name, before, after, True, False)


CALLS = "SELECT c.id, c.status FROM port_call c"
PAIRS = [
    _same("conditions swapped", "SELECT id, name FROM vessel WHERE flag = 'NO' AND id > 10", "SELECT id, name FROM vessel WHERE id > 10 AND flag = 'NO'"),
    _same("other aliases", "SELECT v.id, v.name FROM vessel v", "SELECT x.id, x.name FROM vessel x"),
    _same("IN and OR", "SELECT id FROM vessel WHERE id IN (1, 2, 3)", "SELECT id FROM vessel WHERE id = 1 OR id = 2 OR id = 3"),
    _same("EXISTS and IN", "SELECT v.id FROM vessel v WHERE EXISTS (SELECT 1 FROM port_call c WHERE c.vessel_id = v.id AND c.status = 'due')", "SELECT v.id FROM vessel v WHERE v.id IN (SELECT vessel_id FROM port_call WHERE status = 'due')"),
    _same("BETWEEN", "SELECT id FROM port_call WHERE eta BETWEEN 12000 AND 15000", "SELECT id FROM port_call WHERE eta >= 12000 AND eta <= 15000"),
    _same("count of a key", "SELECT count(*) FROM port_call", "SELECT count(id) FROM port_call"),
    _same("DISTINCT of a key", "SELECT DISTINCT id FROM vessel", "SELECT id FROM vessel"),
    _same("join and subquery", "SELECT c.id, v.name FROM port_call c JOIN vessel v ON v.id = c.vessel_id", "SELECT c.id, (SELECT v.name FROM vessel v WHERE v.id = c.vessel_id) FROM port_call c"),
    _same("outer join of what must be there", "SELECT b.id, c.id FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id WHERE c.id IS NOT NULL", "SELECT b.id, c.id FROM berth b JOIN port_call c ON c.berth_id = b.id"),
    _same("outer join to a reference that must be there", "SELECT c.id, v.name FROM port_call c LEFT JOIN vessel v ON v.id = c.vessel_id", "SELECT c.id, v.name FROM port_call c JOIN vessel v ON v.id = c.vessel_id"),
    _same("UNION ALL of what excludes each other", "SELECT id FROM port_call WHERE status IN ('due', 'left')", "SELECT id FROM port_call WHERE status = 'due' UNION ALL SELECT id FROM port_call WHERE status = 'left'"),
    _same("COALESCE and CASE", "SELECT id, COALESCE(flag, '-') FROM vessel", "SELECT id, CASE WHEN flag IS NULL THEN '-' ELSE flag END FROM vessel"),
    _same("derived table", "SELECT id, name FROM vessel WHERE flag = 'NO'", "SELECT id, name FROM (SELECT * FROM vessel) t WHERE flag = 'NO'"),
    _same("common table expression", "SELECT status, count(*) FROM port_call GROUP BY status", "WITH c AS (SELECT status FROM port_call) SELECT status, count(*) FROM c GROUP BY status"),
    _same("anti-join", "SELECT b.id FROM berth b WHERE NOT EXISTS (SELECT 1 FROM port_call c WHERE c.berth_id = b.id)", "SELECT b.id FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id WHERE c.id IS NULL"),
    _same("HAVING and WHERE", "SELECT status, count(*) FROM port_call GROUP BY status HAVING status = 'due'", "SELECT status, count(*) FROM port_call WHERE status = 'due' GROUP BY status"),
    _same("LIMIT by a key", "SELECT id, name FROM vessel ORDER BY id LIMIT 10", "SELECT id, name FROM (SELECT id, name FROM vessel ORDER BY id LIMIT 10) t ORDER BY id"),
    _same("count of children", "SELECT v.id, count(c.id) FROM vessel v LEFT JOIN port_call c ON c.vessel_id = v.id GROUP BY v.id", "SELECT v.id, (SELECT count(*) FROM port_call c WHERE c.vessel_id = v.id) FROM vessel v"),
    _same("NOT of an equality", "SELECT id FROM vessel WHERE NOT (flag = 'NO')", "SELECT id FROM vessel WHERE flag <> 'NO'"),
    _same("latest by a total order", "SELECT t.id, t.vessel_id FROM (SELECT id, vessel_id, row_number() OVER (PARTITION BY vessel_id ORDER BY eta DESC, id DESC) AS place FROM port_call) t WHERE place = 1", "SELECT c.id, c.vessel_id FROM port_call c WHERE c.id = (SELECT x.id FROM port_call x WHERE x.vessel_id = c.vessel_id ORDER BY x.eta DESC, x.id DESC LIMIT 1)"),
    _same("DISTINCT and GROUP BY", "SELECT DISTINCT status FROM port_call", "SELECT status FROM port_call GROUP BY status"),
    _same("twice and plus", "SELECT id, fee * 2 FROM port_call", "SELECT id, fee + fee FROM port_call"),
    _same("order by place", "SELECT id, name FROM vessel ORDER BY name, id", "SELECT id, name FROM vessel ORDER BY 2, 1"),
    _same("grouped counts", "SELECT count(*) FROM tug_job WHERE port_call_id = 3", "SELECT COALESCE((SELECT n FROM (SELECT port_call_id, count(*) AS n FROM tug_job GROUP BY port_call_id) t WHERE port_call_id = 3), 0)"),
    _other("parents without children", "SELECT b.id, c.id FROM berth b LEFT JOIN port_call c ON c.berth_id = b.id", "SELECT b.id, c.id FROM berth b JOIN port_call c ON c.berth_id = b.id"),
    _other("UNION drops repeats", "SELECT status FROM port_call UNION ALL SELECT status FROM port_call", "SELECT status FROM port_call UNION SELECT status FROM port_call"),
    _other("order dropped", "SELECT id, eta FROM port_call ORDER BY eta DESC", "SELECT id, eta FROM port_call"),
    _other("order dropped, though rows come in it", "SELECT id, name FROM vessel ORDER BY id", "SELECT id, name FROM vessel"),
    _other("order turned round", "SELECT id FROM vessel ORDER BY id", "SELECT id FROM vessel ORDER BY id DESC"),
    _other("one row more", "SELECT id FROM vessel ORDER BY id LIMIT 10", "SELECT id FROM vessel ORDER BY id LIMIT 11"),
    _other("NOT IN with a NULL", "SELECT id FROM berth WHERE id NOT IN (SELECT next_berth_id FROM port_call)", "SELECT b.id FROM berth b WHERE NOT EXISTS (SELECT 1 FROM port_call c WHERE c.next_berth_id = b.id)"),
    _other("count of a column with NULL", "SELECT count(*) FROM port_call", "SELECT count(next_berth_id) FROM port_call"),
    _other("fan-out", CALLS, f"{CALLS} JOIN tug_job j ON j.port_call_id = c.id"),
    _hidden("condition of an outer join", "SELECT v.id, c.id FROM vessel v LEFT JOIN port_call c ON c.vessel_id = v.id AND c.status = 'due'", "SELECT v.id, c.id FROM vessel v LEFT JOIN port_call c ON c.vessel_id = v.id WHERE c.status = 'due'"),
    _other("columns swapped", "SELECT id, vessel_id FROM port_call", "SELECT vessel_id, id FROM port_call"),
    _other("a column less", "SELECT id, name, flag FROM vessel", "SELECT id, name FROM vessel"),
    _other("sum and mean", "SELECT sum(minutes) FROM tug_job", "SELECT avg(minutes) FROM tug_job"),
    _other("one more at the end", "SELECT id FROM port_call WHERE id < 101", "SELECT id FROM port_call WHERE id <= 101"),
    _other("another value", "SELECT id FROM port_call WHERE status = 'due'", "SELECT id FROM port_call WHERE status = 'left'"),
    _other("coarser groups", "SELECT status, count(*) FROM port_call GROUP BY status, berth_id", "SELECT status, count(*) FROM port_call GROUP BY status"),
    _other("sum over a join", "SELECT sum(c.fee) FROM port_call c", "SELECT sum(c.fee) FROM port_call c JOIN tug_job j ON j.port_call_id = c.id"),
    _other("NULL made a value", "SELECT id, flag FROM vessel", "SELECT id, COALESCE(flag, '') FROM vessel"),
    _other("DISTINCT dropped", "SELECT DISTINCT status FROM port_call", "SELECT status FROM port_call"),
    _other("two to-many joins", "SELECT c.id, count(j.id) FROM port_call c LEFT JOIN tug_job j ON j.port_call_id = c.id GROUP BY c.id", "SELECT c.id, count(j.id) FROM port_call c LEFT JOIN tug_job j ON j.port_call_id = c.id LEFT JOIN tug_job k ON k.port_call_id = c.id GROUP BY c.id"),
    _other("pages by key and by number", "SELECT id FROM port_call ORDER BY id LIMIT 10 OFFSET 10", "SELECT id FROM port_call WHERE id > 10 ORDER BY id LIMIT 10"),
    _other("compared with NULL", "SELECT id FROM vessel WHERE flag IS NULL", "SELECT id FROM vessel WHERE flag = NULL"),
    _other("highest and lowest", "SELECT max(eta) FROM port_call", "SELECT min(eta) FROM port_call"),
    _hidden("inner join, all have children", "SELECT v.id, c.id FROM vessel v LEFT JOIN port_call c ON c.vessel_id = v.id", "SELECT v.id, c.id FROM vessel v JOIN port_call c ON c.vessel_id = v.id"),
    _hidden("inner join to a reference that may be NULL", "SELECT c.id, b.code FROM port_call c LEFT JOIN berth b ON b.id = c.berth_id", "SELECT c.id, b.code FROM port_call c JOIN berth b ON b.id = c.berth_id"),
    _hidden("NOT IN without a NULL today", "SELECT id FROM berth WHERE id NOT IN (SELECT berth_id FROM port_call)", "SELECT b.id FROM berth b WHERE NOT EXISTS (SELECT 1 FROM port_call c WHERE c.berth_id = b.id)"),
    _hidden("count of a column without NULL today", "SELECT count(*) FROM vessel", "SELECT count(owner) FROM vessel"),
    _hidden("UNION, nothing repeats today", "SELECT name FROM vessel WHERE id < 50 UNION ALL SELECT name FROM vessel WHERE id >= 50", "SELECT name FROM vessel WHERE id < 50 UNION SELECT name FROM vessel WHERE id >= 50"),
    _hidden("DISTINCT dropped, nothing repeats today", "SELECT DISTINCT name FROM vessel", "SELECT name FROM vessel"),
    _hidden("latest, no ties today", "SELECT c.id, c.vessel_id FROM port_call c WHERE c.eta = (SELECT max(x.eta) FROM port_call x WHERE x.vessel_id = c.vessel_id)", "SELECT t.id, t.vessel_id FROM (SELECT id, vessel_id, row_number() OVER (PARTITION BY vessel_id ORDER BY eta DESC, id DESC) AS place FROM port_call) t WHERE place = 1"),
    _hidden("sum over a join to one of each", "SELECT sum(c.fee) FROM port_call c", "SELECT sum(c.fee) FROM port_call c JOIN clearance k ON k.port_call_id = c.id"),
    _hidden("join to one of each", CALLS, f"{CALLS} JOIN clearance k ON k.port_call_id = c.id"),
    _hidden("EXISTS as a join to one of each", f"{CALLS} WHERE EXISTS (SELECT 1 FROM clearance k WHERE k.port_call_id = c.id)", f"{CALLS} JOIN clearance k ON k.port_call_id = c.id"),
    _hidden("lowest of an empty table", "SELECT min(eta) FROM port_call", "SELECT eta FROM port_call ORDER BY eta LIMIT 1"),
    _hidden("sum of an empty table", "SELECT sum(minutes) FROM tug_job", "SELECT COALESCE(sum(minutes), 0) FROM tug_job"),
    _hidden("unequal or NULL", "SELECT id FROM vessel WHERE owner <> 'Owner 7'", "SELECT id FROM vessel WHERE COALESCE(owner, '') <> 'Owner 7'"),
    _hidden("equal to itself", "SELECT id FROM port_call", "SELECT id FROM port_call WHERE berth_id = berth_id"),
    _hidden("mean of NULL as nothing", "SELECT avg(minutes) FROM tug_job", "SELECT avg(COALESCE(minutes, 0)) FROM tug_job"),
    _hidden("NULL made a value, none today", "SELECT id, owner FROM vessel", "SELECT id, COALESCE(owner, '') FROM vessel"),
    _hidden("groups of one", "SELECT owner, count(*) FROM vessel GROUP BY owner", "SELECT owner, 1 FROM vessel"),
    _hidden("order without ties today", "SELECT id, eta FROM port_call ORDER BY eta, id DESC LIMIT 20", "SELECT id, eta FROM port_call ORDER BY eta, id LIMIT 20"),
    Pair("LIMIT among ties", "SELECT id, status FROM port_call ORDER BY status LIMIT 10", "SELECT id, status FROM port_call ORDER BY status, id LIMIT 10", None, None),
    Pair("LIMIT without an order", "SELECT id FROM vessel LIMIT 10", "SELECT id FROM vessel ORDER BY id LIMIT 10", None, None),
]  # fmt: skip
