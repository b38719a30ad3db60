"""What a capture holds, and whether it is whole."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from askless.output.text import one_line, safe
from askless.reports import documents


def check(out: Console, document: documents.CheckDocument) -> None:
    """What a capture holds, and whether it is whole."""
    for file in document.files:
        out.print(Text(safe(file.file), style="bold"))
        state = (
            "finished normally"
            if file.closed
            else "not finished: the recorder was killed or is still running"
        )
        out.print(
            Text(
                f"  version {file.version}, recorder {safe(file.recorder)}, program "
                f"{safe(file.program)}; {state}"
            )
        )
        out.print(
            Text(
                f"  {file.lines:,} lines, {file.requests:,} requests ({file.open_requests} "
                f"unfinished), {file.queries:,} queries"
            )
        )
        if file.truncated:
            out.print(Text("  the last line is truncated; everything before it is used"))
        for line, reason in file.bad_lines[:5]:
            out.print(Text(f"  line {line} can't be read: {one_line(reason, 90)}"))
        if len(file.bad_lines) > 5:
            out.print(Text(f"  and {len(file.bad_lines) - 5} more lines"))
        if file.incomplete:
            out.print(Text("  its reader ended before its input"))
        for lost in file.lost:
            out.print(
                Text(f"  lost: {lost.count:,} {safe(lost.what)} ({one_line(lost.reason, 90)})")
            )
        for text in file.notes:
            out.print(Text("  note: " + safe(text)))
    out.print(Text("sound" if document.sound else "incomplete: reports use what could be read"))
