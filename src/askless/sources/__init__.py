"""The registry of sources: what turns traffic into captures. A new source is a file in this folder
and a line here.

A source's module has a `SOURCE`. What it says of itself is data, so that a command line can be
built of it without importing what the source needs when it runs.
"""

from __future__ import annotations

from importlib import import_module

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from pathlib import Path
    from typing import Any, Protocol

    class Source(Protocol):
        """What turns traffic of one kind into a capture. `name` is its word on the command line:
        `capture NAME`.
        """

        name: str
        help: str
        examples: str
        nothing: str  # what may be the reason where nothing was recorded
        options: Sequence[Option]

        def check(self, values: Mapping[str, Any]) -> None:
            """Raises AskLessError if the options' values, by their names, make no sense; nothing is
            begun yet.
            """

        def run(self, values: Mapping[str, Any], folder: Path, voice: Reporter) -> RecordingResult:
            """Record into a folder, which is made and empty, until the traffic ends or someone
            stops it.

            Raises AskLessError; what was recorded until then stays.
            """


# Name -> module. Adding a source touches its own file and this table.
REGISTRY = {
    "app": "askless.sources.app.source",
    "relay": "askless.sources.relay.source",
    "packets": "askless.sources.packets.source",
    "otlp": "askless.sources.otlp.source",
    "log": "askless.sources.logs.source",
}


class Option:
    """One option of a source, as data.

    `flag` is what is written on the command line (`--visit`); a flag without dashes is what follows
    `--` at the end of the line, or, if there may be `many`, the words that belong to no option; a
    source may have both. `read` turns the word into a value and raises ValueError for what is none.
    `many` options may be repeated; `bare` is the value where the flag is alone (True for a plain
    switch, which takes no word then).
    """

    __slots__ = ("bare", "default", "flag", "help", "many", "metavar", "read")

    def __init__(
        self,
        flag: str,
        help: str,
        metavar: str = "",
        read: Callable[[str], Any] = str,
        default: Any = None,
        many: bool = False,
        bare: Any = None,
    ) -> None:
        self.flag = flag
        self.help = help
        self.metavar = metavar
        self.read = read
        self.default = default
        self.many = many
        self.bare = bare

    @property
    def name(self) -> str:
        """What the option's value is called: `--track-use` is track_use."""
        return self.flag.lstrip("-").replace("-", "_")


class Reporter:
    """How a source speaks while it works: `note` says a line, `progress` how far it is ('': no
    longer of interest).

    `colour` says whether what it shows itself may have colours.
    """

    __slots__ = ("colour", "note", "progress")

    def __init__(
        self, note: Callable[[str], None], progress: Callable[[str], None], colour: bool = False
    ) -> None:
        self.note = note
        self.progress = progress
        self.colour = colour


class RecordingResult:
    """How a recording ended: the exit code of what was recorded, None if it was reported to stop or
    has none.
    """

    __slots__ = ("exit_code",)

    def __init__(self, exit_code: int | None = None) -> None:
        self.exit_code = exit_code


def load(name: str) -> Source:
    """The source of a name. Raises KeyError for one that is not registered."""
    result: Source = import_module(REGISTRY[name]).SOURCE
    return result
