"""Patches of the files that edits are for: read, changed in memory, and written as one unified diff
that `git apply` and `patch -p1` take.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher
from importlib.util import find_spec
from pathlib import Path

import msgspec

from askless.core.errors import AskLessError
from askless.core.findings.finding import Edit
from askless.core.records.model import line_digest

CONTEXT_LINES = 3
_DECODED = ("utf-8", "surrogateescape")  # any bytes come back as they were


class Outcome(msgspec.Struct, frozen=True):
    """What became of an edit: it is in the patch, or `reason` says why not."""

    edit: Edit
    reason: str = ""


class Patch(msgspec.Struct, frozen=True):
    """A unified diff (its bytes, so that files keep their encoding), what became of each edit, and
    the files afterwards, by their paths.
    """

    diff: bytes
    outcomes: tuple[Outcome, ...]
    files: dict[str, bytes]


class _File:
    """A file of the application, and the edits that it takes."""

    def __init__(self, path: Path, name: str) -> None:
        from askless.patches.rewriting import Source

        self.path, self.name = path, name
        self.text = path.read_bytes()
        self.source = Source(self.text)
        # each edit, the lines of the query that it changes, and whether it imports something
        self.edits: list[tuple[Edit, range, bool]] = []
        self.after = self.text


def make(edits: Sequence[Edit], root: Path) -> Patch:
    """The patch of edits, with names of files from the folder `root`. Raises AskLessError
    patch-extra-missing.
    """
    if find_spec("libcst") is None:
        raise AskLessError(
            "patch-extra-missing",
            "patches need LibCST",
            "install the extra: pip install 'ask-less[patch]'",
        )
    files: dict[str, _File] = {}
    outcomes = [Outcome(edit, _taken(edit, files, root)) for edit in edits]
    changed = sorted((one for one in files.values() if one.edits), key=lambda one: one.name)
    for file in changed:
        file.after = file.source.text()
    diff = b"".join(_diff(file) for file in changed)
    return Patch(diff, tuple(outcomes), {str(file.path): file.after for file in changed})


def _taken(edit: Edit, files: dict[str, _File], root: Path) -> str:
    """Put an edit to its file; why it can't be put, '' if it was."""
    from askless.patches.rewriting import NotPatchable, call_of

    if edit.at is None or not edit.at.line:
        return "its line is not known"
    if edit.other_routes:
        return "other routes use the line, where it would be loaded in vain: " + ", ".join(
            edit.other_routes
        )
    try:
        call_of(edit)
        file = files.get(edit.at.file) or _read(edit.at.file, root)
        files[edit.at.file] = file
        if reason := _changed_since(file, edit):
            return reason
        file.edits.append((edit, *file.source.put(edit)))
    except NotPatchable as error:
        return str(error)
    except OSError as error:
        return f"{edit.at.file} can't be read: {error.strerror}"
    return ""


def _read(name: str, root: Path) -> _File:
    """A file of the application. Raises OSError, NotPatchable."""
    from askless.patches.rewriting import NotPatchable

    path = Path(name)
    if path.suffix != ".py":
        raise NotPatchable("it is not in a Python file")
    if not path.resolve().is_relative_to(root.resolve()):
        raise NotPatchable(f"the file is outside of {root}")
    return _File(path, path.resolve().relative_to(root.resolve()).as_posix())


def _changed_since(file: _File, edit: Edit) -> str:
    """Why the line can't be taken for the one that ran; '' if it is the same."""
    assert edit.at is not None
    lines = file.text.splitlines()
    if not edit.at.digest:
        return "what the line said when it ran is not in the capture: record again"
    if edit.at.line > len(lines) or line_digest(lines[edit.at.line - 1]) != edit.at.digest:
        return "the line has changed since it was recorded: record again"
    return ""


def _diff(file: _File) -> bytes:
    """The unified diff of a file, with the findings of its edits behind the place of each hunk."""
    name = file.name + ("\t" if " " in file.name else "")
    before, after = _lines(file.text), _lines(file.after)
    lines = [f"--- a/{name}\n", f"+++ b/{name}\n"]
    for group in SequenceMatcher(None, before, after, False).get_grouped_opcodes(CONTEXT_LINES):
        first, last = group[0], group[-1]
        touched = {
            number
            for tag, start, end, _, _ in group
            if tag != "equal"
            for number in range(start, max(end, start + 1))
        }
        owners = [edit for edit, changed, _ in file.edits if touched & set(changed)]
        if not owners:  # the imports
            owners = [edit for edit, _, imports in file.edits if imports]
        said = "; ".join(f"{edit.findings[0]}: {edit.title}" for edit in owners)
        lines.append(
            f"@@ -{_range(first[1], last[2])} +{_range(first[3], last[4])} @@ {said}".rstrip()
            + "\n"
        )
        for tag, start, end, new_start, new_end in group:
            if tag == "equal":
                lines += _marked(" ", before[start:end])
                continue
            lines += _marked("-", before[start:end])
            lines += _marked("+", after[new_start:new_end])
    return "".join(lines).encode(*_DECODED)


def _lines(text: bytes) -> list[str]:
    *whole, last = text.decode(*_DECODED).split("\n")
    return [line + "\n" for line in whole] + [last] * bool(last)


def _marked(mark: str, lines: Iterable[str]) -> list[str]:
    """Lines of a hunk; the last one is marked where it has no line end."""
    return [
        mark + line + ("" if line.endswith("\n") else "\n\\ No newline at end of file\n")
        for line in lines
    ]


def _range(start: int, end: int) -> str:
    """Lines in a hunk's header: the first one from 1 and their number; the line before where there
    are none.
    """
    length = end - start
    if length == 1:
        return str(start + 1)
    return f"{start + bool(length)},{length}"
