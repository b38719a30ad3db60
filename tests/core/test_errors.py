"""Every error has a slug in the one table, and the table has no slug that nothing raises."""

from __future__ import annotations

import ast
import pickle
import re
from pathlib import Path

from askless.core import errors
from askless.core.systems import REGISTRY, system_of

ROOT = Path(__file__).parent.parent.parent
SOURCE = ROOT / "src" / "askless"


def raised() -> dict[str, str]:
    """Slugs that the code names, each with one of the files."""
    slugs: dict[str, str] = {}
    for path in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            called = getattr(node.func, "id", "") if isinstance(node, ast.Call) else ""
            if called == "AskLessError" and isinstance(node, ast.Call):
                for one in ast.walk(node.args[0]):
                    if isinstance(one, ast.Constant) and isinstance(one.value, str):
                        slugs[one.value] = path.name
    return slugs


def test_every_slug_that_is_raised_is_in_the_table() -> None:
    slugs = raised()
    slugs.pop("no-", None)  # no-request, no-finding: by what is looked up
    assert len(slugs) > 100 and not slugs.keys() - errors.SLUGS.keys(), (
        slugs.keys() - errors.SLUGS.keys()
    )
    told = {meaning.slug for name in REGISTRY for meaning in system_of(name).meanings}
    assert told and told <= errors.SLUGS.keys()


def test_every_slug_of_the_table_is_raised() -> None:
    text = "\n".join(path.read_text() for path in SOURCE.rglob("*.py") if path.name != "errors.py")
    assert [
        slug
        for slug in errors.SLUGS
        if f'"{slug}"' not in text and not slug.startswith(("no-request", "no-finding"))
    ] == []


def test_an_error_has_the_class_of_its_slug() -> None:
    for slug, (kind, _) in errors.SLUGS.items():
        error = errors.AskLessError(slug, "what", "what to do")
        assert type(error) is kind and issubclass(kind, errors.AskLessError) and error.slug == slug
        again = pickle.loads(pickle.dumps(error))
        assert (type(again), again.slug, str(again), again.remedy) == (
            kind,
            slug,
            "what",
            "what to do",
        )


def test_the_page_has_every_slug_with_its_description() -> None:
    page = (ROOT / "docs" / "errors.md").read_text()
    for slug, (kind, text) in errors.SLUGS.items():
        assert f"| `{slug}` | {text} |" in page and f"## {kind.__name__}" in page
    assert len(re.findall(r"^\| `", page, re.MULTILINE)) == len(errors.SLUGS)
