"""Answers of pages: what differs by itself is set apart, and every other difference is found."""

from __future__ import annotations

import json
import random
from typing import Any

import pytest
from hypothesis import given, strategies as st

from askless.core.trials.pages import Answer, first_difference, set_apart, template_of


def page(
    body: str, kind: str = "text/html; charset=utf-8", status: int = 200, **more: str
) -> Answer:
    headers = {"content-type": kind, "date": str(random.random()), **more}
    return Answer(status, tuple(headers.items()), body.encode())


def json_of(value: object) -> Answer:
    return page(json.dumps(value), "application/json")


def office(turn: int, name: str = "Tern", shown: str = "due") -> Answer:
    """A page with a token, a clock, a nonce, a random order and a cache's word, new each time."""
    dice = random.Random(turn)
    tugs = [f"<li class='tug'>Tug {number}</li>" for number in range(6)]
    dice.shuffle(tugs)
    token = "".join(dice.choices("abcdef0123456789", k=32))
    return page(
        f"<html><head><script nonce='{token[:8]}'>let t = '{token}';</script></head><body>"
        f"<form><input type=hidden name=csrf value={token}></form>"
        f"<p>Calls that are {shown} at 14:{dice.randrange(60):02}:{dice.randrange(60):02}</p>"
        f"<table><tr><td>{name}</td><td>12</td></tr></table><ul>{''.join(tugs)}</ul>"
        f"<!-- {'hit' if turn % 2 else 'miss'} --><br><img src=a.png></body></html>",
        **{"set-cookie": f"session={token}; Path=/"},
    )


def test_what_differs_by_itself_is_no_difference() -> None:
    template = template_of([office(turn) for turn in range(6)])
    assert set_apart(template) >= 5
    for turn in range(50, 90):
        assert first_difference(template, office(turn)) is None


@pytest.mark.parametrize(
    ("changed", "after"), [({"name": "Tarn"}, "Tarn"), ({"shown": "dub"}, "dub")]
)
def test_one_character_among_what_differs_is_found(changed: dict[str, str], after: str) -> None:
    template = template_of([office(turn) for turn in range(6)])
    difference = first_difference(template, office(70, **changed))
    assert difference is not None and after in difference.after and difference.where


DIFFERENT: dict[str, tuple[Any, Any]] = {
    "a value": ({"a": [1, {"b": 2}]}, {"a": [1, {"b": 3}]}),
    "a type": ({"a": 1}, {"a": True}),
    "a key less": ({"a": 1, "b": None}, {"a": 1}),
    "a key more": ({"a": 1}, {"a": 1, "b": None}),
    "an item less": ({"a": [1, 2]}, {"a": [1]}),
    "an item more": ({"a": [1]}, {"a": [1, 2]}),
    "the order": ({"a": [1, 2]}, {"a": [2, 1]}),
    "no list": ({"a": [1]}, {"a": {"0": 1}}),
}


@pytest.mark.parametrize("name", DIFFERENT)
def test_each_kind_of_difference_is_found(name: str) -> None:
    before, after = DIFFERENT[name]
    template = template_of([json_of(before), json_of(before)])
    assert first_difference(template, json_of(before)) is None
    difference = first_difference(template, json_of(after))
    assert difference is not None and difference.where.startswith("body.")


def test_a_list_in_any_order_still_has_its_items() -> None:
    template = template_of([json_of(["a", "b", "c"]), json_of(["c", "a", "b"])])
    assert first_difference(template, json_of(["b", "c", "a"])) is None
    difference = first_difference(template, json_of(["b", "c", "d"]))
    assert difference is not None and (difference.before, difference.after) == ("a", "d")


@pytest.mark.parametrize(
    "other",
    [
        page("<p>a</p>", status=404),
        page("<p>a</p>", kind="text/plain"),
        page("<p>a</p>", location="/login"),
        page("<p>a</p>", **{"set-cookie": "other=1"}),
        page("<p class=x>a</p>"),
        page("<p>a</p><p></p>"),
    ],
)
def test_status_headers_and_elements_count(other: Answer) -> None:
    template = template_of([page("<p>a</p>"), page("<p> a </p>\n")])
    assert first_difference(template, page("<p>a</p>")) is None
    assert first_difference(template, other) is not None


TREES = st.recursive(
    st.none() | st.booleans() | st.integers(-9, 9) | st.text("ab 1", max_size=4),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text("xy", max_size=2), inner, max_size=3)
    ),
    max_leaves=12,
)


@given(st.lists(TREES, min_size=1, max_size=4))
def test_every_answer_that_was_learned_from_is_the_same(trees: list[Any]) -> None:
    answers = [json_of(tree) for tree in trees]
    template = template_of(answers)
    assert all(first_difference(template, answer) is None for answer in answers)


@given(TREES, TREES)
def test_of_a_page_that_never_differs_all_else_is_different(tree: Any, other: Any) -> None:
    template = template_of([json_of(tree)] * 3)
    is_same = json.dumps(tree, sort_keys=True) == json.dumps(other, sort_keys=True)
    assert (first_difference(template, json_of(other)) is None) is is_same
    assert set_apart(template) == 0


@given(st.binary(max_size=60), st.sampled_from(["text/html", "application/json", "", "text/plain"]))
def test_any_bytes_can_be_compared(body: bytes, kind: str) -> None:
    answer = Answer(200, (("content-type", kind),), body)
    assert first_difference(template_of([answer]), answer) is None
