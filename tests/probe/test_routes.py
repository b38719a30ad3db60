"""Names of routes: by whatever pattern a framework has, or by the path's shape."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given, strategies as st

from tests.conftest import recorder_on_path


@pytest.fixture(scope="module")
def routes() -> Iterator[Any]:
    """The recorder's own module, as a recorded program has it."""
    with recorder_on_path():
        from askless_probe.web import routes as found  # type: ignore[import-not-found]

        yield found


@pytest.mark.parametrize(
    ("regex", "path"),
    [
        (r"calls/^(?P<number>\d+)/$", "calls/{number}/"),
        (r"^((?:[\w\-]+/)*)$", "{1}"),
        (
            r"^berths/(?P<quay>[\w-]+)/(?P<number>\d{1,3})\.(?P<form>json|xml)/?$",
            "berths/{quay}/{number}.{form}/",
        ),
        (r"^api/(?:v1|v2)/calls$", "api/v1/calls"),
        (r"^tariffs/([^/]+)/\d+\Z", "tariffs/{1}/{}"),
        (r"^(?i:Pilots)/[a-z]{2}/$", "Pilots/{}/"),
        (r"port/<int:number>/^(?P<pk>[^/.]+)/$", "port/{number}/{pk}/"),
        (r"^\.well-known/x\\y$", r".well-known/x\y"),
        (r"^files/.*$", "files/{}"),
        (r"^calls(?=/)/(?:all/)?$", "calls/all/"),
    ],
)
def test_no_rest_of_a_regular_expression_is_left(routes: Any, regex: str, path: str) -> None:
    assert routes.from_regex(regex) == path


@pytest.mark.parametrize(
    ("path", "shape"),
    [
        ("/d/book/102.json", "/d/book/{id}.json"),
        ("/calls/1,2,3", "/calls/{id}"),
        ("/vessels/H00042/calls", "/vessels/{id}/calls"),
        ("/runs/0123456789abcdef0123/files", "/runs/{id}/files"),
        ("/runs/6f9619ff-8b86-d011-b42d-00cf4fc964ff", "/runs/{id}"),
        ("/calls/1/2/3/4", "/calls/{ids}"),
        ("/api/2.0/calls", "/api/2.0/calls"),
        ("/v2/harbour-office", "/v2/harbour-office"),
        ("/static/logo.png", "/static/logo.png"),
        ("/", "/"),
    ],
)
def test_what_looks_like_an_identifier(routes: Any, path: str, shape: str) -> None:
    assert routes.guessed("GET", path) == "GET " + shape


def test_a_pattern_that_takes_any_path_is_told_apart_by_the_path(routes: Any) -> None:
    assert routes.named("GET", "/{path}", "/news/2026/spring-tide/") == "GET /news/{}/{}"
    assert routes.named("GET", "/{path}", "/about/") == "GET /{path}"
    assert routes.named("GET", "/calls/{number}", "/calls/7") == "GET /calls/{number}"
    names = {
        routes.named("GET", "/pages/{path}", f"/pages/quay-{chr(97 + n)}x/{n}") for n in range(26)
    }
    names |= {
        routes.named("GET", "/pages/{path}", f"/pages/pier-{chr(97 + n)}y/x") for n in range(26)
    }
    names |= {
        routes.named("GET", "/pages/{path}", f"/pages/mole-{chr(97 + n)}z/x") for n in range(26)
    }
    assert len(names) == routes.KINDS_MOST + 1


@given(st.text(alphabet="^$()[]{}|?*+\\.dwPa</>:-1", max_size=30))
def test_any_pattern_gives_a_name(routes: Any, pattern: str) -> None:
    for name in (
        routes.from_regex(pattern),
        routes.from_converters(pattern),
        routes.guessed("GET", "/" + pattern),
    ):
        assert isinstance(name, str)


@pytest.mark.parametrize(
    "part",
    ["17", "3f2504e0-4f89-11d3-9a0c-0305e82c3301", "deadbeefdeadbeef", "H00042", "eyJhbGciOiJIUzI1NiJ9abc", "calls", "reset", "2026-11-27", "a1"],
)  # fmt: skip
def test_other_sources_name_routes_alike(routes: Any, part: str) -> None:
    """A token in a path is in no name of a route, whatever recorded it."""
    from askless.sources.attribution.route_templates import route_of

    assert route_of("GET", f"/reset/{part}") == routes.guessed("GET", f"/reset/{part}")
    assert (part in route_of("GET", f"/reset/{part}")) == (part in ("calls", "reset", "a1"))
