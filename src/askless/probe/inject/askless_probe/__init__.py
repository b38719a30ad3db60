"""The recorder that runs inside a recorded Python program.

Standard library only, Python 3.9 and newer, and nothing of the rest of Ask Less: it is loaded by
the program's own interpreter, in an environment where Ask Less may not be installed. It never
changes a result and never raises into the program; when it can't go on it stops recording and says
so once on stderr.
"""


def start():
    """Begin to record this process, as the environment variables ASKLESS_* say."""
    import os
    import sys

    from . import bootstrap, imports, lifecycle

    fallback = os.environ.get("ASKLESS_FALLBACK")
    if fallback and fallback not in sys.path:
        sys.path.append(fallback)
    if os.environ.get("ASKLESS_OVERLAY"):
        from . import overlay

        overlay.install(os.environ)
    bootstrap.configure(os.environ)
    lifecycle.install()
    imports.install()
