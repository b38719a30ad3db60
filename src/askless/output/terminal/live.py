"""The live view: a line for each request as it ends, and one for each finding when it is first
seen.
"""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from askless.output.terminal.drawing import SEVERITY_STYLE
from askless.output.text import milliseconds, one_line
from askless.reports.live import Look

_ROUTE = 34


def heading() -> str:
    """What is above the lines."""
    return f"{'request':<{_ROUTE}}{'status':>7}{'queries':>9}{'repeated':>10}{'database':>11}{'whole':>11}"


def look(out: Console, seen: Look) -> None:
    """What one look has shown."""
    for row in seen.requests:
        route = one_line(row.route, _ROUTE - 1)
        line = Text(f"{route:<{_ROUTE}}{row.status or '':>7}{row.queries:>9,}")
        line.append(f"{row.repeated or '':>10}", style="yellow" if row.repeated else "")
        line.append(f"{milliseconds(row.database_ms):>8} ms{milliseconds(row.request_ms):>8} ms")
        line.append("  to warm up" if row.warm_up else "", style="dim")
        out.print(line)
    for finding in seen.findings:
        line = Text("  found: ")
        line.append(finding.severity, style=SEVERITY_STYLE.get(finding.severity, ""))
        line.append(f" {finding.pattern}", style="bold")
        line.append(
            f" {finding.key}  {one_line(finding.route, _ROUTE)}: "
            f"{one_line(finding.summary or finding.title, 80)}"
        )
        out.print(line)
