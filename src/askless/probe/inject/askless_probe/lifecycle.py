"""Nothing that ended is lost: writes what waits when the process exits, forks, is replaced or is told to stop."""

import os
import sys

from . import recorder


def _on_sigterm(number, frame):
    """Write, then die of the signal as the program would have without us."""
    import signal
    from _thread import get_ident

    writer = recorder.writer
    if writer is not None and writer.owner == get_ident():
        # It came in the middle of our own writing, on this thread: let that finish first.
        writer.after_release = lambda: _on_sigterm(number, None)
        return
    recorder.flush_all(True)
    signal.signal(number, signal.SIG_DFL)
    os.kill(os.getpid(), number)


def _before(name, final):
    """Wrap a function of `os` that ends this program without running its exit handlers."""
    plain = getattr(os, name, None)
    if plain is None:
        return

    def ending(*args, **kwargs):
        recorder.flush_all(final)
        return plain(*args, **kwargs)

    ending.__name__ = ending.__qualname__ = name
    ending.__doc__ = plain.__doc__
    setattr(os, name, ending)


def _before_dropping(name):
    """Wrap a function of `os` that gives up rights: the capture's folder may be closed to the new user."""
    plain = getattr(os, name, None)
    if plain is None:
        return

    def dropping(*args):
        recorder.open_now()
        return plain(*args)

    dropping.__name__ = dropping.__qualname__ = name
    dropping.__doc__ = plain.__doc__
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
    _watch_sigterm()


def install_at_fork():
    """A forked child begins a capture of its own."""
    if hasattr(os, "register_at_fork"):
        os.register_at_fork(after_in_child=recorder.after_fork)


def _watch_sigterm():
    """Only where the program has not asked for the signal itself; a later handler of its own replaces ours."""
    import signal

    try:
        for name in ("SIGTERM", "SIGHUP"):
            number = getattr(signal, name, None)
            if number is not None and signal.getsignal(number) is signal.SIG_DFL:
                signal.signal(number, _on_sigterm)
    except (ValueError, OSError):
        sys.stderr.write("askless: can't watch for SIGTERM here; what waits then is lost\n")
