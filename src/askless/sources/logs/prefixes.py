"""PostgreSQL's log_line_prefix, as a regular expression, and guessed where no one says what it was
set to.
"""

from __future__ import annotations

import re
import time
from datetime import datetime, timedelta, timezone
from functools import lru_cache

from askless.sources.logs import UnreadLine

_TIME = r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)? [A-Za-z0-9+:/_-]+"
_ESCAPES = {
    "a": r"(?P<application>.*?)", "u": r"(?P<user>.*?)", "d": r"(?P<database>.*?)",
    "r": r"(?P<remote>\S*?(?:\(\d+\))?)", "h": r"(?P<host>\S*?)", "b": r"(?P<backend>.*?)",
    "p": r"(?P<pid>\d+)", "P": r"(?P<leader>\d*)", "t": rf"(?P<t>{_TIME})", "m": rf"(?P<m>{_TIME})",
    "n": r"(?P<n>\d+\.\d+)", "i": r"(?P<tag>.*?)", "e": r"(?P<state>[0-9A-Z]{5})",
    "c": r"(?P<session>[0-9a-f]+\.[0-9a-f]+)", "l": r"(?P<line>\d+)", "s": rf"(?P<s>{_TIME})",
    "v": r"(?P<vxid>\d*/?\d*)", "x": r"(?P<xid>\d+)", "Q": r"(?P<query>-?\d+)",
}  # fmt: skip
_ESCAPE = re.compile(r"%(-?\d+)?(.)")
_REST = r"(?P<severity>DEBUG\d?|LOG|INFO|NOTICE|WARNING|ERROR|FATAL|PANIC|DETAIL|HINT|QUERY|CONTEXT|LOCATION|STATEMENT|[^\s:]{3,20}):  (?P<message>.*)"
# What installations set, the most particular first: guessed by trying.
USUAL = (
    "%m [%p] %q%u@%d/%a ", "%m [%p] %q%u@%d ", "%m [%p] %q[user=%u,db=%d,app=%a] ",
    "%m [%p]: [%l-1] user=%u,db=%d,app=%a,client=%h ",
    "%t [%p]: [%l-1] user=%u,db=%d,app=%a,client=%h ", "%t [%p]: user=%u,db=%d,app=%a,client=%h ",
    "%t:%r:%u@%d:[%p]:", "%m:%r:%u@%d:[%p]:%l:%e:%s:%v:%x:%c:%q%a:", "%m [%p] %r %u@%d ",
    "%t [%p] %u@%d ", "%t [%p]: [%l-1] ", "%m [%c] ", "%n [%p] ", "%t [%p] ", "%m %p ", "%m [%p] ",
    "%m ", "%t ",
)  # fmt: skip


@lru_cache(64)
def pattern_of(prefix: str) -> re.Pattern[str]:
    """A line that begins with a prefix. Raises Unread for one with an escape that PostgreSQL has
    not.
    """
    out, position, optional = "", 0, False
    seen: set[str] = set()
    for match in _ESCAPE.finditer(prefix):
        out += re.escape(prefix[position : match.start()])
        position, letter = match.end(), match[2]
        if letter == "%":
            out += "%"
        elif letter == "q":
            out, optional = out + "(?:", True
        elif letter in _ESCAPES:
            part = _ESCAPES[letter]
            part = re.sub(r"\?P<\w+>", "?:", part, count=1) if letter in seen else part
            seen.add(letter)
            out += rf"\s*{part}\s*" if match[1] else part
        else:
            raise UnreadLine(
                f"log_line_prefix has no %{letter}",
                "the letters a u d r h b p P t m n i e c l s v x Q q",
            )
    out += re.escape(prefix[position:])
    return re.compile(f"^{out}{')?' if optional else ''}{_REST}", re.DOTALL)


def guessed(lines: list[str]) -> str | None:
    """The prefix with which most of some lines can be read, and tell most; None for none."""
    plain = [line for line in lines if line.strip() and line[:1] not in "\t "]
    best = None
    most: tuple[int, int] = (0, 0)
    for prefix in USUAL:
        pattern = pattern_of(prefix)
        matched = [
            match
            for line in plain
            if (match := pattern.match(line)) and _is_severity(match["severity"])
        ]
        score = (
            len(matched),
            max(
                (
                    sum(value not in (None, "") for value in match.groupdict().values())
                    for match in matched
                ),
                default=0,
            ),
        )
        if score > most:
            most, best = score, prefix
    return best if most[0] * 2 > len(plain) > 0 else None


_SEVERITIES = {
    "LOG", "INFO", "NOTICE", "WARNING", "ERROR", "FATAL", "PANIC", "DETAIL", "HINT", "QUERY",
    "CONTEXT", "LOCATION", "STATEMENT", "DEBUG", "DEBUG1", "DEBUG2", "DEBUG3", "DEBUG4", "DEBUG5",
}  # fmt: skip


def _is_severity(word: str) -> bool:
    return word in _SEVERITIES


# Names of zones and their hours, as PostgreSQL reads them itself unless it is reported otherwise
# (timezone_abbreviations, Default).
_ZONES = {
    "UTC": 0, "GMT": 0, "Z": 0, "WET": 0, "WEST": 1, "BST": 1, "CET": 1, "MET": 1, "CEST": 2,
    "MEST": 2, "SAST": 2, "EET": 2, "EEST": 3, "MSK": 3, "PKT": 5, "HKT": 8, "SGT": 8, "JST": 9,
    "KST": 9, "AEST": 10, "AEDT": 11, "NZST": 12, "NZDT": 13, "NST": -3.5, "NDT": -2.5, "ADT": -3,
    "AST": -4, "EDT": -4, "EST": -5, "CDT": -5, "CST": -6, "MDT": -6, "MST": -7, "PDT": -7,
    "PST": -8, "AKDT": -8, "AKST": -9, "HST": -10,
}  # fmt: skip
_SECONDS = len("2026-11-27 21:00:43")


@lru_cache(4_096)
def _second_ns(text: str, zone: str) -> int:
    moment = datetime.fromisoformat(text)
    hours = _ZONES.get(zone)
    if hours is not None:
        return (
            int(moment.replace(tzinfo=timezone(timedelta(hours=hours))).timestamp()) * 1_000_000_000
        )
    if re.fullmatch(r"[+-]\d\d(?::?\d\d)?", zone):
        aware = datetime.fromisoformat(text + (zone + ":00" if len(zone) == 3 else zone))
        return int(aware.timestamp()) * 1_000_000_000
    # the zone of this machine: see `is_unknown_zone`
    return int(moment.timestamp()) * 1_000_000_000


def is_unknown_zone(text: str) -> bool:
    """Whether a time's zone has a name that tells no offset: it is taken for this machine's
    then.
    """
    zone = text.rsplit(" ", 1)[-1]
    return bool(zone) and zone not in _ZONES and zone not in time.tzname and zone[0] not in "+-"


@lru_cache(4_096)
def _rest(text: str) -> tuple[int, str]:
    """What follows the seconds: `.123 UTC` as nanoseconds and zone. Raises ValueError."""
    part, zone = text.split(" ", 1)
    return int(part[1:].ljust(9, "0")[:9]) if part else 0, zone


def nanoseconds_of(text: str) -> int:
    """`2026-11-27 21:00:43.123 UTC` in nanoseconds since 1970. Raises ValueError."""
    part_ns, zone = _rest(text[_SECONDS:])
    return _second_ns(text[:_SECONDS], zone) + part_ns
