"""Loaded by the recorded program's own interpreter at start-up; starts the recorder, then steps
aside.

Standard library only. Whatever goes wrong here, the program runs as if it were not recorded.
"""

import sys


def _start():
    import os

    here = os.path.dirname(os.path.abspath(__file__))
    if not os.environ.get("ASKLESS_CAPTURE"):
        return here
    if sys.version_info < (3, 9):
        sys.stderr.write(
            "askless: not recording %s: the recorder needs Python 3.9 or newer, this is %d.%d\n"
            % (sys.executable, sys.version_info[0], sys.version_info[1])
        )
        return here
    try:
        import askless_probe

        askless_probe.start()
    except Exception as error:
        sys.stderr.write("askless: not recording: %s: %s\n" % (type(error).__name__, error))
    return here


def _step_aside(here):
    """Take the injected folder off the path and run the sitecustomize that would have run without
    us.
    """
    import os

    sys.path[:] = [entry for entry in sys.path if os.path.abspath(entry or ".") != here]
    ours = sys.modules.pop("sitecustomize", None)
    try:
        import sitecustomize  # noqa: F401  (the program's own, if it has one)
    except ImportError as error:
        if getattr(error, "name", None) != "sitecustomize":
            raise
        if ours is not None:
            sys.modules["sitecustomize"] = ours


_step_aside(_start())
