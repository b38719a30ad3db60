"""Statements that do more than they say: none of them may leave a trace, whether it is refused or run.

`SETUP` makes functions, views and sequences; `EFFECTS` names the statements. `{folder}` is one that the server may write to.
"""

from __future__ import annotations

SETUP = {
    "sqlite": ["CREATE TABLE mark (at INTEGER)", "CREATE VIEW quiet AS SELECT * FROM vessel", "CREATE TRIGGER loud INSTEAD OF INSERT ON quiet BEGIN INSERT INTO mark VALUES (1); END"],
    "postgresql": [
        "CREATE TABLE mark (at INTEGER)",
        "CREATE SEQUENCE ticket",
        "CREATE FUNCTION leave_mark() RETURNS INTEGER LANGUAGE sql VOLATILE AS 'INSERT INTO mark VALUES (1) RETURNING at'",
        "CREATE FUNCTION quiet_mark() RETURNS INTEGER LANGUAGE plpgsql STABLE AS 'BEGIN PERFORM nextval(''ticket''); RETURN 1; END'",
        "CREATE FUNCTION next_ticket() RETURNS BIGINT LANGUAGE sql IMMUTABLE AS 'SELECT nextval(''ticket'')'",
        "CREATE VIEW tickets AS SELECT id, nextval('ticket') AS ticket FROM vessel",
        "CREATE VIEW marks AS SELECT id, leave_mark() AS mark FROM vessel",
        "CREATE FUNCTION plus_mark(a INTEGER, b INTEGER) RETURNS INTEGER LANGUAGE plpgsql AS 'BEGIN PERFORM nextval(''ticket''); RETURN a + b; END'",
        "CREATE OPERATOR +++ (LEFTARG = INTEGER, RIGHTARG = INTEGER, FUNCTION = plus_mark)",
        "CREATE FUNCTION hidden_default() RETURNS INTEGER LANGUAGE plpgsql AS 'BEGIN PERFORM pg_notify(''harbour'', ''x''); RETURN 1; END'",
        "CREATE AGGREGATE marking (INTEGER) (SFUNC = plus_mark, STYPE = INTEGER, INITCOND = '0')",
        "CREATE TYPE berth_size AS (metres INTEGER)",
        "CREATE FUNCTION size_of(INTEGER) RETURNS berth_size LANGUAGE plpgsql AS 'BEGIN PERFORM nextval(''ticket''); RETURN ROW($1)::berth_size; END'",
        "CREATE CAST (INTEGER AS berth_size) WITH FUNCTION size_of(INTEGER)",
    ],
    "mariadb": [
        "CREATE TABLE mark (at INTEGER)",
        "CREATE SEQUENCE ticket",
        "CREATE FUNCTION leave_mark() RETURNS INTEGER MODIFIES SQL DATA BEGIN INSERT INTO mark VALUES (1); RETURN 1; END",
        "CREATE FUNCTION quiet_mark() RETURNS INTEGER DETERMINISTIC BEGIN INSERT INTO mark VALUES (1); RETURN 1; END",
        "CREATE VIEW marks AS SELECT id, leave_mark() AS mark FROM vessel",
        "CREATE PROCEDURE write_mark() BEGIN INSERT INTO mark VALUES (1); END",
    ],
    "mysql": [
        "CREATE TABLE mark (at INTEGER)",
        "SET GLOBAL log_bin_trust_function_creators = 1",
        "CREATE FUNCTION leave_mark() RETURNS INTEGER MODIFIES SQL DATA BEGIN INSERT INTO mark VALUES (1); RETURN 1; END",
        "CREATE FUNCTION quiet_mark() RETURNS INTEGER DETERMINISTIC BEGIN INSERT INTO mark VALUES (1); RETURN 1; END",
        "CREATE VIEW marks AS SELECT id, leave_mark() AS mark FROM vessel",
        "CREATE PROCEDURE write_mark() BEGIN INSERT INTO mark VALUES (1); END",
    ],
}  # fmt: skip
_EVERYWHERE = [
    "INSERT INTO mark VALUES (1)", "UPDATE vessel SET name = 'gone'", "DELETE FROM clearance", "DROP TABLE clearance",
    "SELECT id FROM vessel; DELETE FROM clearance", "SELECT id FROM vessel; DROP TABLE clearance", "CREATE TABLE left_behind (a INTEGER)",
]  # fmt: skip
_MYSQL = [
    "SELECT id FROM vessel INTO OUTFILE '{folder}/out.txt'",
    "SELECT id FROM vessel /*! INTO OUTFILE '{folder}/out1.txt' */",
    "SELECT id FROM vessel /*!50000 INTO OUTFILE '{folder}/out2.txt' */",
    "SELECT id FROM vessel LIMIT 1 INTO DUMPFILE '{folder}/out3.txt'",
    "SELECT leave_mark()", "SELECT quiet_mark() FROM vessel", "SELECT id FROM marks", "SELECT * FROM marks WHERE id = 1",
    "CALL write_mark()", "SELECT GET_LOCK('harbour', 1)", "SELECT id FROM vessel FOR UPDATE", "SELECT id, @n := id FROM vessel",
    "SELECT id FROM vessel WHERE id = (SELECT quiet_mark())", "SELECT RELEASE_ALL_LOCKS()", "SELECT LAST_INSERT_ID(7)",
    "SET GLOBAL max_connections = 77", "SET @@global.max_connections = 77", "LOCK TABLES vessel WRITE", "HANDLER vessel OPEN",
    "SELECT id FROM vessel ORDER BY leave_mark()", "SELECT id FROM vessel LOCK IN SHARE MODE", "TRUNCATE TABLE mark",
    "ANALYZE TABLE vessel", "OPTIMIZE TABLE vessel", "LOAD DATA INFILE '/etc/passwd' INTO TABLE mark",
]  # fmt: skip
EFFECTS = {
    "sqlite": [
        *_EVERYWHERE, "WITH gone AS (SELECT 1) DELETE FROM clearance", "INSERT INTO quiet (id, name) VALUES (9999, 'x')",
        "ATTACH '{folder}/other.db' AS other", "VACUUM INTO '{folder}/copy.db'", "PRAGMA user_version = 7", "PRAGMA journal_mode = WAL",
        "SELECT load_extension('harbour')", "SELECT writefile('{folder}/out.txt', name) FROM vessel", "REPLACE INTO berth VALUES (1, 'x', 'y')",
        "DELETE FROM clearance RETURNING id", "INSERT INTO mark SELECT id FROM vessel RETURNING at", "REINDEX", "VACUUM", "ANALYZE",
        "PRAGMA writable_schema = ON", "CREATE TEMP TABLE mine AS SELECT * FROM vessel", "EXPLAIN DELETE FROM clearance",
        "WITH a AS (SELECT id FROM vessel) INSERT INTO mark SELECT id FROM a", "UPDATE vessel SET name = name || '!' WHERE id = 1 RETURNING id",
        "DETACH main", "SAVEPOINT a", "COMMIT", "PRAGMA application_id(7)", "DROP VIEW quiet", "ALTER TABLE vessel ADD COLUMN x",
    ],
    "postgresql": [
        *_EVERYWHERE, "SELECT nextval('ticket')", "SELECT setval('ticket', 99)", "SELECT leave_mark()", "SELECT quiet_mark() FROM vessel",
        "SELECT next_ticket()", "SELECT id FROM tickets", "SELECT * FROM tickets", "SELECT * FROM marks", "SELECT id +++ 1 FROM vessel",
        "SELECT marking(id) FROM vessel", "SELECT hidden_default()", "SELECT CAST(id AS berth_size) FROM vessel",
        "WITH gone AS (DELETE FROM clearance RETURNING id) SELECT * FROM gone", "SELECT id INTO left_behind FROM vessel",
        "SELECT lo_create(4711)", "SELECT lo_from_bytea(0, 'x')", "SELECT pg_notify('harbour', 'x')", "SELECT pg_advisory_lock(4711)",
        "SELECT set_config('search_path', 'other', false)", "COPY vessel TO '{folder}/out.txt'", "COPY vessel TO PROGRAM 'touch {folder}/out'",
        "SELECT id FROM vessel FOR UPDATE", "SELECT pg_create_restore_point('here')", "SELECT pg_logical_emit_message(false, 'a', 'b')",
        "SELECT pg_create_physical_replication_slot('slot')", "SELECT pg_terminate_backend(0)", "SELECT pg_file_write('x', 'y', false)",
        "SELECT query_to_xml('SELECT nextval(''ticket'')', true, false, '')", "SELECT pg_switch_wal()", "SELECT pg_reload_conf()",
        "DO $$ BEGIN INSERT INTO mark VALUES (1); END $$", "EXPLAIN ANALYZE DELETE FROM clearance", "SELECT pg_stat_reset()",
        "MERGE INTO berth b USING vessel v ON b.id = v.id WHEN MATCHED THEN DELETE", "LOCK TABLE vessel", "REFRESH MATERIALIZED VIEW x",
    ],
    "mariadb": [*_EVERYWHERE, *_MYSQL, "SELECT NEXT VALUE FOR ticket", "SELECT NEXTVAL(ticket) FROM vessel", "SELECT SETVAL(ticket, 99)", "SELECT id FROM vessel /*M! INTO OUTFILE '{folder}/out4.txt' */", "DELETE FROM clearance RETURNING id"],
    "mysql": [*_EVERYWHERE, *_MYSQL],
}  # fmt: skip
