"""A private folder with edited sources, which the recorded program imports in the place of files."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec

_STUB = """import sys
path = {path!r}
sys.argv[0], sys.path[0] = path, {folder!r}
with open({edited!r}, "rb") as file:
    code = compile(file.read(), path, "exec")
with open({mark!r}, "wb"):
    pass
__file__ = path
del file
exec(code)
"""


class Overlay(msgspec.Struct, frozen=True):
    """Edited files in a folder of their own."""

    folder: Path
    files: dict[str, str]  # the edited file's name there, by the real path of the file

    def variables(self) -> tuple[tuple[str, str], ...]:
        """What the program's environment has more."""
        return (("ASKLESS_OVERLAY", str(self.folder)),) if self.files else ()

    def command(self, words: Sequence[str]) -> tuple[str, ...]:
        """The command, which runs an edited script by a stand-in: no import loads it."""
        results = []
        for word in words:
            path = Path(word)
            real = str(path.resolve()) if path.suffix == ".py" and path.is_file() else ""
            if real not in self.files:
                results.append(word)
                continue
            edited = self.files[real]
            stub = self.folder / "run" / edited / path.name
            stub.parent.mkdir(parents=True, exist_ok=True)
            stub.write_text(
                _STUB.format(
                    path=word,
                    folder=str(path.resolve().parent),
                    edited=str(self.folder / edited),
                    mark=str(self._mark(edited)),
                ),
                encoding="utf-8",
            )
            results.append(str(stub))
        return tuple(results)

    def loaded(self) -> set[str]:
        """The real paths of the files whose edited text was loaded."""
        return {real for real, edited in self.files.items() if self._mark(edited).exists()}

    def _mark(self, edited: str) -> Path:
        return self.folder / ("loaded-" + Path(edited).stem)


@contextmanager
def overlay(files: Mapping[str, bytes]) -> Iterator[Overlay]:
    """Edited texts by the paths of their files, for as long as the block runs."""
    with tempfile.TemporaryDirectory(prefix="askless-edits-") as where:  # mode 0700
        folder = Path(where)
        names = {}
        for number, (path, text) in enumerate(sorted(files.items())):
            name = f"{number}.py"
            (folder / name).write_bytes(text)
            names[str(Path(path).resolve())] = name
        (folder / "index.json").write_text(json.dumps(names), encoding="utf-8")
        yield Overlay(folder, names)
