"""Each document's schema: every key is described, and what the commands print is valid by it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import jsonschema
import pytest

from askless.reports import document, documents, key_descriptions
from tests.conftest import run


@pytest.mark.parametrize("name", documents.DOCUMENTS)
def test_every_key_is_described(name: str) -> None:
    schema = run("schema", name).json
    properties = [
        one for kind in schema["$defs"].values() for one in kind.get("properties", {}).values()
    ]
    assert len(properties) > 2 and all(one["description"] for one in properties)
    assert (
        documents.version_of(name) == document.VERSION
        and f"version {document.VERSION}" in schema["title"]
    )


def test_no_description_is_without_its_key() -> None:
    kinds: dict[str, Any] = {}
    for name in documents.DOCUMENTS:
        kinds |= documents.json_schema(name)["$defs"]
    keys = {key for kind in kinds.values() for key in kind.get("properties", {})}
    described = {
        f"{kind}.{key}" for kind, one in kinds.items() for key in one.get("properties", {})
    }
    assert set(key_descriptions._KEYS) <= keys and set(key_descriptions._OF_TYPE) <= described


def test_no_list_has_positions_with_meanings() -> None:
    """What a place in a list would mean has a name."""
    for name in documents.DOCUMENTS:
        for kind, one in documents.json_schema(name)["$defs"].items():
            for key, value in one.get("properties", {}).items():
                assert "prefixItems" not in str(value), f"{kind}.{key}"


@pytest.mark.parametrize(
    ("words", "name"),
    [
        (("requests",), "requests"), (("requests", "--each"), "requests-each"), (("timeline",), "timeline"),
        (("findings",), "findings"), (("capture", "check"), "check"), (("growth",), "growth"),
        (("growth", "--over-time"), "growth-over-time"), (("report",), "report"), (("gate", "--baseline", "tuned"), "gate"),
        (("compare", "tuned"), "compare"),
    ],
)  # fmt: skip
def test_what_is_printed_is_valid(
    words: tuple[str, ...], name: str, pages: dict[str, Path]
) -> None:
    command = [pages.get(word, word) for word in words]
    ran = run(*command[:2], pages["grown"], *command[2:], "--json") if words[0] == "capture" else run(
        command[0], pages["grown"], *command[1:], "--json"
    )  # fmt: skip
    assert ran.code in (0, 1), ran.err
    jsonschema.validate(ran.json, run("schema", name).json)
