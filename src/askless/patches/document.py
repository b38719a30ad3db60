"""What `askless findings --patch` prints as JSON."""

from __future__ import annotations

from pathlib import Path

from askless.patches.making import Patch
from askless.reports.documents import FindingsDocument, PatchDocument, PatchedEdit


def document_of(findings: FindingsDocument, patch: Patch, root: Path) -> PatchDocument:
    """The document of a patch that was made of the edits of findings."""
    return PatchDocument(
        format="askless patch",
        capture=findings.capture,
        notes=findings.notes,
        root=str(root),
        patch=patch.diff.decode("utf-8", "replace"),
        edits=tuple(
            PatchedEdit(
                findings=one.edit.findings,
                title=one.edit.title,
                at=one.edit.at,
                code=one.edit.code,
                patched=not one.reason,
                reason=one.reason,
            )
            for one in patch.outcomes
        ),
    )
