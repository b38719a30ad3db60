"""Nothing that ended is lost: writes what waits when the process exits, forks or is replaced.

A process that is killed, by SIGTERM or otherwise, leaves its `tail`; no signal gets a handler of
ours.
"""

import os

from . import recorder
from .wrapper_metadata import like


def _before(name, final):
    """Wrap a function of `os` that ends this program without running its exit handlers."""
    plain = getattr(os, name, None)
    if plain is None:
        return

    @like(plain)
    def ending(*args, **kwargs):
        recorder.flush_all(final)
        return plain(*args, **kwargs)

    setattr(os, name, ending)


def _before_dropping(name):
    """Wrap a function of `os` that gives up rights: the capture's folder may be closed to the new
    user.
    """
    plain = getattr(os, name, None)
    if plain is None:
        return

    @like(plain)
    def dropping(*args, **kwargs):
        recorder.open_now()
        return plain(*args, **kwargs)

    setattr(os, name, dropping)


def install():
    """Register with every way a process may end that leaves it time to write."""
    import atexit

    atexit.register(recorder.flush_all, True)
    install_at_fork()
    _before("_exit", True)
    for name in ("execv", "execve"):
        _before(name, False)
    for name in ("setuid", "seteuid", "setreuid", "setresuid"):
        _before_dropping(name)


def install_at_fork():
    """A forked child begins a capture of its own."""
    if hasattr(os, "register_at_fork"):
        os.register_at_fork(after_in_child=recorder.after_fork)
