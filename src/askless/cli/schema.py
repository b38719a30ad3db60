"""`askless schema`: the JSON Schema of what commands print, and of a capture's lines."""

from __future__ import annotations

import argparse
import json
import sys
from typing import Any

from askless.capture import events
from askless.cli.common import command
from askless.output import documents

EXAMPLES = """  askless schema findings          what `askless findings --json` prints
  askless schema capture           a line of a capture file"""


def add(commands: Any, name: str) -> None:
    """Declare the command."""
    parser = command(commands, name, "print the JSON Schema of a document", EXAMPLES)
    parser.add_argument("document", choices=["capture", *documents.DOCUMENTS], help="which document")
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    """Print one schema."""
    name: str = options.document
    schema = events.json_schema() if name == "capture" else documents.json_schema(name)
    sys.stdout.write(json.dumps(schema, indent=2) + "\n")
    return 0
