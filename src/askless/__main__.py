"""`askless`, and `python -m askless`."""

from __future__ import annotations

import signal

# Ctrl-C while the program is still being imported ends it without a word; `run` takes interrupts
# back.
_python = signal.getsignal(signal.SIGINT)
if _python is signal.default_int_handler:
    signal.signal(signal.SIGINT, signal.SIG_DFL)

from askless.cli.main import main  # noqa: E402


def run() -> None:
    """The entry point of the installed program."""
    import gc
    import sys

    # Imports make hundreds of thousands of objects that stay: looking for garbage among them takes
    # a tenth of the start.
    gc.set_threshold(50_000)
    try:
        if (
            signal.getsignal(signal.SIGINT) is signal.SIG_DFL
            and _python is signal.default_int_handler
        ):
            signal.signal(signal.SIGINT, _python)
        code = main()
    except KeyboardInterrupt:  # between the lines of main
        code = 130
    sys.exit(code)


if __name__ == "__main__":
    run()
