"""`askless schema`: the JSON Schema of what commands print, and of a capture's lines."""

from __future__ import annotations

import argparse

from askless.core.errors import AskLessError

EXAMPLES = """  askless schema findings          what `askless findings --json` prints
  askless schema capture           a line of a capture file"""


def declare(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "document",
        metavar="DOCUMENT",
        help='"capture", or the name of a document; any other word lists them',
    )
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print one schema."""
    import json
    import sys

    from askless.capture import events
    from askless.reports import documents

    name: str = options.document
    if name != "capture" and name not in documents.DOCUMENTS:
        known = ", ".join(["capture", *documents.DOCUMENTS])
        raise AskLessError("no-document", f"there is no document {name!r}", f"name one of: {known}")
    schema = events.json_schema() if name == "capture" else documents.json_schema(name)
    sys.stdout.write(json.dumps(schema, indent=2) + "\n")
    return 0
