"""What a capture came to when it was last read: asked again, it is not read again, as long as
nothing has changed.

Kept in the user's cache folder, readable by the user alone, without values of statements. Nothing
depends on it: what can't be kept, or does not fit the capture's files and this very Ask Less to the
byte, is worked out again.
"""

from __future__ import annotations

from collections.abc import Sequence
from hashlib import blake2b
from pathlib import Path

import msgspec

import askless
from askless.core.findings.finding import Edit, Finding
from askless.project import user_files

KEPT_MOST = 20  # captures
_HERE = Path(askless.__file__).parent


class RouteTime(msgspec.Struct, frozen=True):
    """Where a route's time goes: a mean request, and the shape that takes most of it, masked."""

    route: str
    queries: float
    database_ms: float
    request_ms: float
    shape: str = ""
    sql: str = ""
    shape_ms: float = 0.0


class CachedSummary(msgspec.Struct, frozen=True):
    """All findings of a capture and their edits, whatever a project accepts; its requests and
    queries, where its routes' time goes, and notes on it.
    """

    findings: tuple[Finding, ...]
    edits: tuple[Edit, ...]
    requests: int
    queries: int
    notes: tuple[str, ...]
    damage: str = ""
    routes: tuple[RouteTime, ...] = ()


def fingerprint(files: Sequence[Path]) -> str:
    """What tells these files, as they are now, from any others, and this Ask Less from any other;
    '' where it can't be said.
    """
    try:
        states = [(str(file.resolve()), *_state(file)) for file in files]
        text = repr((own_mark(), states))
    except (OSError, AttributeError, NotImplementedError):  # a store that does not tell
        return ""
    return blake2b(text.encode("utf-8", "replace"), digest_size=16).hexdigest()


def own_mark() -> str:
    """What tells this Ask Less from any other. Raises OSError."""
    # Where Ask Less is being changed, its version says nothing.
    changed = max((file.stat().st_mtime_ns for file in _HERE.rglob("*.py")), default=0)
    return f"{askless.__version__} {changed}"


def _state(file: Path) -> tuple[int, int, int, int]:
    status = file.stat()
    return status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino


def _file(mark: str) -> Path:
    return user_files.folder("XDG_CACHE_HOME", ".cache") / f"{mark}.json"


def recall(mark: str) -> CachedSummary | None:
    """What is known of the capture with this fingerprint."""
    if not mark:
        return None
    try:
        return msgspec.json.decode(user_files.read(_file(mark)), type=CachedSummary)
    except (OSError, RuntimeError, msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return None


def remember(mark: str, judged: CachedSummary) -> None:
    """Keep what a capture came to; of too many, the oldest go."""
    if not mark:
        return
    try:
        file = _file(mark)
        user_files.write(file, msgspec.json.encode(judged))
        files = sorted(file.parent.glob("*.json"), key=lambda known: known.stat().st_mtime_ns)
        for oldest in files[:-KEPT_MOST]:
            oldest.unlink(missing_ok=True)
    except (OSError, RuntimeError, ValueError):  # a home that can't be written to, or is not known
        return
