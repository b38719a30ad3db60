"""Files that are the user's alone: what Ask Less keeps in the home of anyone who runs it."""

from __future__ import annotations

import errno
import os
import stat
import tempfile
from hashlib import blake2b
from pathlib import Path


def folder(variable: str, otherwise: str) -> Path:
    """Ask Less's folder where an XDG variable says, else below the home. Raises RuntimeError if
    there is no home.
    """
    named = os.environ.get(variable)
    return (Path(named) if named else Path.home() / otherwise) / "askless"


def write(file: Path, data: bytes) -> None:
    """Write a file of mode 0600 in one piece, in a folder of mode 0700; `read` gives it back.
    Raises OSError.
    """
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    # mode 0600, and no link is followed
    handle, partial = tempfile.mkstemp(prefix=f".{file.name}.", dir=file.parent)
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(_digest(data) + data)
        Path(partial).replace(file)
    except BaseException:
        Path(partial).unlink(missing_ok=True)
        raise


def read(file: Path) -> bytes:
    """What `write` has written there. Raises OSError, also if the file is not ours alone, or has
    been changed.
    """
    handle = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | getattr(os, "O_NONBLOCK", 0))
    with os.fdopen(handle, "rb") as stream:
        status = os.fstat(handle)
        if (
            status.st_uid != os.geteuid()
            or status.st_mode & 0o077
            or not stat.S_ISREG(status.st_mode)
        ):
            raise PermissionError(errno.EPERM, "the file is accessible to other users", str(file))
        data = stream.read()
    digest, data = data[:_DIGEST_BYTES], data[_DIGEST_BYTES:]
    if digest != _digest(data):
        raise OSError(errno.EBADMSG, "the file was modified", str(file))
    return data


_DIGEST_BYTES = 16


def _digest(data: bytes) -> bytes:
    return blake2b(data, digest_size=_DIGEST_BYTES).digest()
