"""Edits tried on the application itself: run as it is and with the edits, in turns, the same pages
visited, their answers and queries compared.

The edited sources lie in a private folder that the program imports from; no file of the
application is touched.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec

from askless.api.captures import read
from askless.core.errors import AskLessError
from askless.core.findings.finding import Edit
from askless.core.progress import Progress, quiet
from askless.core.statistics import median, ratio_of_turns
from askless.core.trials.pages import (
    Answer,
    PageDifference,
    first_difference,
    set_apart,
    template_of,
)
from askless.patches.making import Patch, make
from askless.reports import documents
from askless.reports.compare import compare
from askless.reports.edit_trial_documents import (
    EditTrialDocument,
    TriedEdit,
    TriedPage,
)
from askless.sources.app import python_program
from askless.sources.app.overlay import Overlay, overlay
from askless.sources.app.python_program import RecorderOptions
from askless.sources.programs.program import Visit, Visits

ROUNDS_LEAST = 2
MORE_QUERIES = 0.5  # per request, and a route asks more


class Wish(msgspec.Struct, frozen=True):
    """What to try: the program's words, the pages, and how often. Edits come from findings.

    `keep` is the folder that the two captures stay in; None leaves none.
    """

    command: tuple[str, ...]
    urls: tuple[str, ...]
    rounds: int = 5
    repeat: int = 5
    wait_s: float = 30.0
    track_use: bool = False
    headers: tuple[tuple[str, str], ...] = ()
    keep: Path | None = None


class _Turn(msgspec.Struct, frozen=True):
    """One run of the program: what each page answered, and how long each visit took."""

    answers: dict[str, list[Answer]]
    durations_ms: dict[str, list[float]]
    loaded: frozenset[str]


class _Failure(msgspec.Struct, frozen=True):
    reason: str
    difference: PageDifference | None = None


Failures = dict[tuple[str, ...], _Failure]  # by the findings of an edit


class _Trial:
    """One trial under way. `before` are the turns of the unchanged program."""

    def __init__(self, wish: Wish, root: Path, folder: Path, progress: Progress) -> None:
        self.wish, self.root, self.folder, self.progress = wish, root, folder, progress
        self.before: list[_Turn] = []
        self.number = 0

    def as_it_is(self) -> _Turn:
        """One more turn of the unchanged program."""
        with overlay({}) as nothing:
            turn = self._run(nothing, self.folder / "before", self.wish.repeat)
        self.before.append(turn)
        return turn

    def with_edits(self, patch: Patch, folder: Path, repeat: int) -> _Turn:
        """One turn with the files of a patch."""
        with overlay(patch.files) as edited:
            return self._run(edited, folder, repeat)

    def _run(self, edited: Overlay, folder: Path, repeat: int) -> _Turn:
        self.number += 1
        answers: dict[str, list[Answer]] = {url: [] for url in self.wish.urls}
        durations: dict[str, list[float]] = {url: [] for url in self.wish.urls}

        def watch(visit: Visit) -> None:
            if not visit.warm_up:
                answers[visit.url].append(Answer(visit.status, visit.headers, visit.body))
                durations[visit.url].append((visit.end_ns - visit.start_ns) / 1e6)

        variables = (*edited.variables(), ("PYTHONDONTWRITEBYTECODE", "1"))
        recording = RecorderOptions(track_use=self.wish.track_use, variables=variables)
        visits = Visits(self.wish.urls, repeat, self.wish.wait_s, headers=self.wish.headers)
        log = self.folder / f"program-{self.number}.log"
        with open(log, "wb", opener=_private) as output:
            try:
                python_program.run(
                    edited.command(self.wish.command),
                    folder,
                    visits,
                    recording,
                    self.progress,
                    watch,
                    output,
                )
            except AskLessError as error:
                said = _last_line(log)
                raise AskLessError(
                    error.slug, error.message + (f": {said}" if said else ""), error.remedy
                ) from None
        return _Turn(answers, durations, frozenset(edited.loaded()))

    def failure_of(self, edits: Sequence[Edit]) -> _Failure | None:
        """What is wrong with edits together; None if nothing is."""
        patch = make(edits, self.root)
        with tempfile.TemporaryDirectory(dir=self.folder) as where:
            folder = Path(where) / "after"
            folder.mkdir()
            try:
                turn = self.with_edits(patch, folder, 1)
            except AskLessError as error:
                return _Failure(f"with it {error.message}")
            lacking = [path for path in patch.files if str(Path(path).resolve()) not in turn.loaded]
            if lacking:
                return _Failure(f"the program did not load {Path(lacking[0]).name} as edited")
            return self._difference(turn) or self._more_queries(folder)

    def _difference(self, turn: _Turn) -> _Failure | None:
        """A page that is not the same. Once one differs, the unchanged program runs once more: it
        may give that, too.
        """
        if self._first_difference(turn) is None:
            return None
        self.as_it_is()
        return self._first_difference(turn)

    def late(self, edits: Sequence[Edit], turns: Sequence[_Turn]) -> Failures:
        """What differs only after more visits: no one knows by which of the edits."""
        failure = next(filter(None, map(self._difference, turns)), None)
        return {edit.findings: failure for edit in edits} if failure is not None else {}

    def _first_difference(self, turn: _Turn) -> _Failure | None:
        for url in self.wish.urls:
            template = template_of([one for t in self.before for one in t.answers[url]])
            for answer in turn.answers[url]:
                difference = first_difference(template, answer)
                if difference is not None:
                    return _Failure(f"{url} is not the same", difference)
        return None

    def _more_queries(self, after: Path) -> _Failure | None:
        for row in compare(self.folder / "before", after).routes:
            before, now = row.queries.before, row.queries.after
            if before is not None and now is not None and now > before + MORE_QUERIES:
                return _Failure(f"{row.route} asks {now:.3g} queries, {before:.3g} before")
        return None

    def failing(self, edits: Sequence[Edit]) -> Failures:
        """The edits that fail, found by halves; the others work together."""
        if not edits:
            return {}
        failure = self.failure_of(edits)
        if failure is None:
            return {}
        if len(edits) == 1:
            return {edits[0].findings: failure}
        middle = len(edits) // 2
        failed = self.failing(edits[:middle]) | self.failing(edits[middle:])
        rest = [edit for edit in edits if edit.findings not in failed]
        if failed or not rest:
            return failed | (self.failing(rest) if rest and len(rest) < len(edits) else {})
        # Each half works, and both do not: the second one is left out.
        return {
            edit.findings: _Failure(f"it does not work together with the others: {failure.reason}")
            for edit in edits[middle:]
        }


def edit_trial(
    findings: documents.FindingsDocument,
    edits: Sequence[Edit],
    wish: Wish,
    root: Path,
    progress: Progress = quiet,
) -> tuple[EditTrialDocument, bytes]:
    """Try edits of a document of findings, and the patch of those that are proven.

    Raises AskLessError: patch-extra-missing, program-missing, program-exited, never-answers,
    visit-failed for the unchanged program; page-fails where one of its pages does not work.
    """
    patch = make(edits, root)
    patchable = [one.edit for one in patch.outcomes if not one.reason]
    with _folder(wish.keep) as folder:
        trial = _Trial(wish, root, folder, progress)
        trial.as_it_is()
        _refuse_errors(trial.before[0])
        trial.as_it_is()
        failed = trial.failing(patchable)
        together = [edit for edit in patchable if edit.findings not in failed]
        turns = _in_turns(trial, together)
        compared = compare(folder / "before", folder / "after") if turns else None
        predicted = _predicted(folder / "before") if turns else {}
        if turns:
            failed |= trial.late(together, [turn for _, turn in turns])
    judged = tuple(
        _judged(
            _as_predicted(one.edit, predicted),
            one.reason,
            failed.get(one.edit.findings),
            compared,
        )
        for one in patch.outcomes
    )
    names = {one.findings for one in judged if one.proven}
    proven = make([edit for edit in together if edit.findings in names], root)
    document = _document(judged, compared)
    document = msgspec.structs.replace(
        document,
        capture=findings.capture,
        rounds=len(turns),
        pages=tuple(_page(url, trial, turns) for url in wish.urls),
        patch=proven.diff.decode("utf-8", "replace"),
    )
    return document, proven.diff


def _predicted(before: Path) -> dict[str, float]:
    """By finding, what its edit should leave of the queries of the pages that were visited."""
    edits = read(before).findings().document.edits
    return {key: edit.queries_after for edit in edits for key in edit.findings}


def _as_predicted(edit: Edit, predicted: Mapping[str, float]) -> Edit:
    """An edit with what is predicted for the visited pages in place of all that were recorded."""
    after = next((predicted[key] for key in edit.findings if key in predicted), edit.queries_after)
    return msgspec.structs.replace(edit, queries_after=after)


def _in_turns(trial: _Trial, edits: Sequence[Edit]) -> list[tuple[_Turn, _Turn]]:
    """The program as it is and with edits, in turns; nothing without edits."""
    patch = make(edits, trial.root)
    rounds = max(trial.wish.rounds, ROUNDS_LEAST) if edits else 0
    after = trial.folder / "after"
    return [
        (trial.as_it_is(), trial.with_edits(patch, after, trial.wish.repeat)) for _ in range(rounds)
    ]


def _document(
    judged: tuple[TriedEdit, ...], compared: documents.CompareDocument | None
) -> EditTrialDocument:
    document = EditTrialDocument(format="askless trial-edits", edits=judged)
    if compared is None:
        return document
    return msgspec.structs.replace(
        document,
        routes=tuple(row for row in compared.routes if any(row.queries)),
        fixed=tuple(one.key for one in compared.fixed),
        remaining=tuple(one.key for one in compared.remaining),
        new=tuple(one.key for one in compared.new),
    )


def _private(path: str, flags: int) -> int:
    """Opens a file that only its owner can read."""
    return os.open(path, flags, 0o600)


@contextmanager
def _folder(keep: Path | None) -> Iterator[Path]:
    """The folder of both captures, which goes with the block unless it is to be kept."""
    if keep is None:
        with tempfile.TemporaryDirectory(prefix="askless-trial-") as where:
            folder = Path(where)
            for side in ("before", "after"):
                (folder / side).mkdir(mode=0o700)
            yield folder
        return
    for side in ("before", "after"):
        try:
            (keep / side).mkdir(parents=True, mode=0o700)
        except FileExistsError:
            raise AskLessError(
                "folder-exists", f"{keep / side} is there already", "name a new folder"
            ) from None
    yield keep


def _refuse_errors(turn: _Turn) -> None:
    for url, answers in turn.answers.items():
        status = answers[-1].status if answers else 0
        if status >= 400:
            raise AskLessError(
                "page-fails",
                f"{url} answers with status {status} before any edit",
                "visit pages that work: an error page proves nothing",
            )


def _judged(
    edit: Edit, reason: str, failure: _Failure | None, compared: documents.CompareDocument | None
) -> TriedEdit:
    row = _row_of(edit, compared)
    reason = reason or (failure.reason if failure is not None else _without_effect(edit, compared))
    return TriedEdit(
        findings=edit.findings,
        title=edit.title,
        at=edit.at,
        code=edit.code,
        route=row.route if row is not None else edit.routes[0],
        proven=not reason,
        reason=reason,
        queries=row.queries if row is not None and failure is None else documents.BeforeAfter(),
        queries_after=edit.queries_after,
        difference=failure.difference if failure is not None else None,
    )


def _row_of(edit: Edit, compared: documents.CompareDocument | None) -> documents.CompareRow | None:
    rows = compared.routes if compared is not None else ()
    return next((row for row in rows if row.route in edit.routes), None)


def _without_effect(edit: Edit, compared: documents.CompareDocument | None) -> str:
    """Why an edit that does no harm is not proven; '' if it is."""
    if compared is None or _row_of(edit, compared) is None:
        return "no page that was visited has its finding: visit " + edit.routes[0]
    return _left(edit, compared) or _slower(edit, compared)


def _left(edit: Edit, compared: documents.CompareDocument) -> str:
    """Why an edit has no effect; '' if it has one."""
    own = set(edit.findings)
    if own & {one.key for one in compared.fixed}:
        return ""
    if remaining := own & {one.key for one in compared.remaining}:
        return "its finding is still there: " + ", ".join(sorted(remaining))
    return "its findings were not met on the visited pages: " + ", ".join(edit.findings)


def _slower(edit: Edit, compared: documents.CompareDocument) -> str:
    for row in compared.routes:
        ratio = row.ratio
        if row.route in edit.routes and ratio is not None and ratio.high < 1 and ratio.certain:
            return f"{row.route} is slower with it"
    return ""


def _page(url: str, trial: _Trial, turns: Sequence[tuple[_Turn, _Turn]]) -> TriedPage:
    answers = [one for turn in trial.before for one in turn.answers[url]]
    before = [median(one.durations_ms[url]) for one, _ in turns]
    after = [median(one.durations_ms[url]) for _, one in turns]
    return TriedPage(
        url=url,
        status=answers[-1].status,
        visits=len(answers) + sum(len(one.answers[url]) for _, one in turns),
        set_apart=set_apart(template_of(answers)),
        before_ms=median(before) if before else 0.0,
        after_ms=median(after) if after else 0.0,
        ratio=ratio_of_turns(before, after) if before else None,
    )


def _last_line(log: Path) -> str:
    """The last line that a program printed, as a rule the end of its traceback."""
    lines = log.read_bytes().decode("utf-8", "replace").split("\n")
    return next((line.strip() for line in reversed(lines) if line.strip()), "")[:300]
