"""Statements that carry a password or a key, of every system that is known here: it is in nothing
that is written.
"""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, strategies as st

import askless
from askless.core.sql.credentials import HINTS, MASK, cleaned

SECRET = "low_water9"
CARRYING = [
    "CREATE ROLE keeper LOGIN PASSWORD '{}'", "create user keeper with encrypted password '{}' valid until '2027-01-01'", "ALTER ROLE keeper PASSWORD E'{}'",
    'ALTER USER "keeper" WITH PASSWORD $${}$$', "ALTER USER keeper PASSWORD $a${}$a$", "CREATE/* x */ROLE keeper PASSWORD/**/'{}'", "ALTER ROLE keeper -- '{}'\n PASSWORD 'x'",
    "CREATE USER keeper IDENTIFIED BY '{}'", 'CREATE USER keeper IDENTIFIED BY "{}"', "CREATE USER keeper IDENTIFIED BY {}", "ALTER USER keeper IDENTIFIED WITH caching_sha2_password BY '{}' REPLACE '{}'",
    "ALTER USER keeper IDENTIFIED VIA ed25519 USING PASSWORD('{}')", "GRANT ALL ON *.* TO keeper IDENTIFIED BY '{}'", "GRANT USAGE ON x.* TO 'k'@'%' IDENTIFIED BY PASSWORD '*{}'", "SET PASSWORD = '{}'",
    "SET PASSWORD FOR 'k'@'%' = PASSWORD('{}')", "SET PASSWORD FOR keeper = \"{}\"", "CHANGE MASTER TO MASTER_USER = 'r', MASTER_PASSWORD = '{}'", "CHANGE REPLICATION SOURCE TO SOURCE_PASSWORD='{}'", "START REPLICA USER = 'r' PASSWORD = '{}'",
    "CREATE SERVER s FOREIGN DATA WRAPPER mysql OPTIONS (USER 'r', PASSWORD '{}')", "ALTER SERVER s OPTIONS (SET x '{}')", "CREATE USER MAPPING FOR keeper SERVER s OPTIONS (user 'k', password '{}')", "ALTER USER MAPPING FOR keeper SERVER s OPTIONS (SET password '{}')",
    "CREATE SUBSCRIPTION s CONNECTION 'host=h password={}' PUBLICATION p", "ALTER SUBSCRIPTION s CONNECTION 'host=h password={}'", "ALTER SYSTEM SET primary_conninfo = 'host=h password={}'", "DO $$ BEGIN ALTER ROLE k PASSWORD '{}'; END $$",
    "CREATE USER MAPPING FOR k SERVER s OPTIONS (user 'quay\\\\', password '{}')", "SELECT dblink_connect('host=h user=k password={}')", "SELECT * FROM dblink('postgresql://k:{}@h/d', 'SELECT 1') AS t (a int)", "SELECT PASSWORD('{}')", "SELECT old_password ( '{}' )", "UPDATE users SET hash = crypt('{}', gen_salt('bf'))", "INSERT INTO servers (url) VALUES ('https://k:{}@h/')",
    "CREATE LOGIN keeper WITH PASSWORD = N'{}'", "ALTER LOGIN keeper WITH PASSWORD = '{}' OLD_PASSWORD = '{}'", "OPEN MASTER KEY DECRYPTION BY PASSWORD = '{}'", "CREATE SYMMETRIC KEY k WITH ALGORITHM = AES_256 ENCRYPTION BY PASSWORD = '{}'", "CREATE CREDENTIAL c WITH IDENTITY = 'i', SECRET = '{}'",
    "PRAGMA key = '{}'", "PRAGMA rekey = \"{}\"", "ATTACH DATABASE 'x.db' AS x KEY '{}'", "CREATE DATABASE LINK l CONNECT TO k IDENTIFIED BY {} USING 'h'", "CREATE USER k IDENTIFIED BY VALUES '{}'", "ALTER ROLE k PASSWORD '{}", "SET SESSION AUTHORIZATION x; ALTER ROLE k PASSWORD '{}'",
]  # fmt: skip
HARMLESS = [
    "SELECT password FROM users WHERE id = 7", "SELECT * FROM servers WHERE name = 'harbour'", "UPDATE users SET password = 'hash' WHERE id = 7", "INSERT INTO keys (key) VALUES ('a')", "SELECT id FROM mapping WHERE key = 'x'",
    "CREATE TABLE users (id int, name text DEFAULT 'x')", "CREATE INDEX by_name ON users (name) WHERE state = 'due'", "SET TIME ZONE 'UTC'", "WITH identified AS (SELECT 'x') SELECT * FROM identified", "ALTER TABLE users ADD PRIMARY KEY (id)",
    "SELECT url FROM pages WHERE url = 'https://harbour.example/a'",
]  # fmt: skip


@pytest.mark.parametrize("text", CARRYING)
def test_a_password_is_taken_out(text: str) -> None:
    clean = cleaned(text.replace("{}", SECRET))
    assert SECRET not in clean and MASK in clean
    assert cleaned(clean).count(SECRET) == 0


@pytest.mark.parametrize("text", HARMLESS)
def test_what_carries_none_stays_as_it_is(text: str) -> None:
    assert cleaned(text) == text


@pytest.mark.parametrize("module", ["sql/credentials.py", "records/limits_of_recording.py"])
def test_the_recorder_has_the_same_module(module: str) -> None:
    """A link in a checkout, a copy in an installed package."""
    package = Path(askless.__file__).parent
    recorders = package / "probe/inject/askless_probe" / Path(module).name
    assert recorders.read_bytes() == (package / "core" / module).read_bytes()


@given(st.text() | st.lists(st.sampled_from([*CARRYING, *HARMLESS, *HINTS, "'", '"', "$$", "/*", "*/", "--", "\n", "#", "\\"])).map(" ".join))  # fmt: skip
def test_a_text_without_a_hint_stays_as_it_is(text: str) -> None:
    hinted = any(hint in text.lower() for hint in HINTS)
    assert hinted or cleaned(text) == text
