"""What the library sends, held against the routes without a service: every method's address, query and body."""

from __future__ import annotations

import inspect
import json
import re
import types
import typing
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import UTC, datetime
from enum import Enum
from pathlib import Path
from typing import Any
from uuid import UUID, uuid4

import httpx
import pytest
from fastapi.routing import APIRoute

from jamb.client import AccessToken, Conflict, Jamb, NotFound, ServiceUnreachable
from jamb.client.jamb import _SECTIONS
from jamb.core.errors import Busy, JambError
from jamb.service.app import ROUTERS
from jamb.wire.base.problems import MEDIA_TYPE, problem_of
from jamb.wire.base.shapes import Sent
from jamb.wire.credentials.rotations import RotationWanted

URL = "http://jamb.example"
ROUTES = [
    (route, re.compile("^" + re.sub(r"\\\{\w+\\\}", "[^/]+", re.escape(route.path)) + "$"))
    for router in ROUTERS
    for route in router.routes
    if isinstance(route, APIRoute)
]
# By name, where a made-up value of the type would be refused before anything is sent.
KNOWN: dict[str, Any] = {
    "reach": None, "data": None, "severity": None, "min_severity": None, "text": "berths.view", "once": "key-1",
    "look_ups": ["a" * 64], "url": "https://hooks.example/x", "domain": "maker.example", "form": "csv", "which": "open",
    "by": "client", "document": {"openapi": "3.1.0"}, "permissions": ["berths.view"], "keys": {"keys": []},
    "secret": "jamb_s1_x", "token": "t", "password": "long-enough-for-anybody-1", "days": 3, "hours": 3, "choices": None,
    "narrower": None, "certificate": "-----BEGIN", "request": "-----BEGIN", "changes": {"warn_days": 9}, "level": None,
    "delivery": None, "successor": None, "charter": None, "scope": None, "terms": None, "collections": [], "wanted": None,
}  # fmt: skip


@pytest.fixture(autouse=True)
def elsewhere(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """What a method writes goes to a folder of the test."""
    monkeypatch.chdir(tmp_path)


def methods() -> Iterator[tuple[str, str]]:
    """Yield each public method of each part of the library."""
    jamb = Jamb(URL, "port", AccessToken("t"), http=httpx.MockTransport(lambda _: httpx.Response(200)))
    for section in _SECTIONS:
        for name, _ in inspect.getmembers(getattr(jamb, section), inspect.ismethod):
            if not name.startswith("_"):
                yield section, name


def made(name: str, kind: Any) -> Any:
    """Return a value of a type, made up."""
    if name in KNOWN and KNOWN[name] is not None:
        return KNOWN[name]
    origin, args = typing.get_origin(kind), typing.get_args(kind)
    if origin in (types.UnionType, typing.Union):
        return None if type(None) in args else made(name, args[0])
    if origin is not None:
        inner = made(name, args[0]) if args else None
        return {} if issubclass(origin, typing.Mapping) else [inner] if inner is not None else []
    for wanted, value in (
        (bool, True),
        (int, 1),
        (float, 1.0),
        (str, "x"),
        (UUID, uuid4()),
        (datetime, datetime.now(UTC)),
        (bytes, b"x"),
        (Path, Path("file")),
        (RotationWanted, RotationWanted(client="x", credential=uuid4(), id=uuid4())),
    ):
        if kind is wanted:
            return value
    if inspect.isclass(kind) and issubclass(kind, Enum):
        return next(iter(kind))
    return None


def call(method: Callable[..., Any], whole: bool) -> None:
    """Call a method with made-up arguments: those it needs or, where whole, all."""
    hints = typing.get_type_hints(method)
    given = {}
    for name, parameter in inspect.signature(method).parameters.items():
        if parameter.kind is inspect.Parameter.VAR_KEYWORD:
            members = typing.get_type_hints(typing.get_args(hints[name])[0]) if whole else {}
            given |= {member: made(member, kind) for member, kind in members.items()}
            continue
        if parameter.default is not parameter.empty and not whole:
            continue
        value = made(name, hints[name])
        if parameter.default is parameter.empty or value is not None:
            given[name] = value
    answer = method(**given)
    if isinstance(answer, Iterator):
        next(answer, None)


def route_of(request: httpx.Request) -> APIRoute | None:
    for route, pattern in ROUTES:
        if request.method in route.methods and pattern.match(request.url.path):
            return route
    return None


@pytest.mark.parametrize("whole", [False, True], ids=["what it needs", "all it takes"])
@pytest.mark.parametrize(("section", "name"), sorted(methods()))
def test_what_a_method_sends_is_what_a_route_reads(section: str, name: str, whole: bool) -> None:
    sent: list[httpx.Request] = []

    def keep(request: httpx.Request) -> httpx.Response:
        sent.append(request)
        return httpx.Response(200, json=[])

    # The answer is none, and some arguments are not for made-up values: what was sent before counts.
    with (
        suppress(JambError, AttributeError, IndexError, TypeError, OSError),
        Jamb(URL, "port", AccessToken("t"), http=httpx.MockTransport(keep)) as jamb,
    ):
        call(getattr(getattr(jamb, section), name), whole)
    for request in sent:
        route = route_of(request)
        assert route is not None, f"{request.method} {request.url.path} is nowhere"
        known = {field.alias for field in route.dependant.query_params} | {
            field.alias for one in route.dependant.dependencies for field in one.query_params
        }
        assert set(request.url.params) <= known, f"{request.url} has what nobody reads"
        if request.content:
            body, field = json.loads(request.content), route.body_field
            assert field is not None, f"{request.method} {request.url.path} takes no body"
            unknown = members_of(field.field_info.annotation)
            assert unknown is None or set(body) <= unknown, f"{set(body) - unknown} of {request.url.path}"


def members_of(shape: Any) -> set[str] | None:
    """Return the members that a body may have; None: it is no model."""
    if inspect.isclass(shape) and issubclass(shape, Sent):
        return {field.alias or name for name, field in shape.model_fields.items()}
    inner = [found for one in typing.get_args(shape) if (found := members_of(one)) is not None]
    return set().union(*inner) if inner else None


def test_most_methods_send_something() -> None:
    count, reached = 0, 0
    for section, name in methods():
        sent: list[httpx.Request] = []
        transport = httpx.MockTransport(lambda request, sent=sent: sent.append(request) or httpx.Response(200, json=[]))
        with (
            suppress(JambError, AttributeError, IndexError, TypeError, OSError),
            Jamb(URL, "port", AccessToken("t"), http=transport) as jamb,
        ):
            call(getattr(getattr(jamb, section), name), whole=False)
        count, reached = count + 1, reached + bool(sent)
    assert count > 80
    assert reached > 0.9 * count


def answered(error: JambError, *, after: int | None = None) -> httpx.Response:
    problem = problem_of(error)
    headers = {"Content-Type": MEDIA_TYPE} | ({"Retry-After": str(after)} if after is not None else {})
    return httpx.Response(problem.status, content=problem.model_dump_json(), headers=headers)


@pytest.mark.parametrize(
    "error", [NotFound("none here"), Conflict("not now", next_step="Later."), Busy("full")], ids=lambda one: one.code
)
def test_a_problem_is_the_exception_it_was(error: JambError) -> None:
    http = httpx.MockTransport(lambda _: answered(error))
    with Jamb(URL, "port", AccessToken("t"), http=http) as jamb, pytest.raises(type(error)) as told:
        jamb.clients.read("x")
    assert (told.value.message, told.value.next_step) == (error.message, error.next_step)


def test_a_read_that_is_told_to_come_again_comes_again_and_a_change_only_under_its_key() -> None:
    asked: list[str] = []

    def busy_once(request: httpx.Request) -> httpx.Response:
        asked.append(request.method)
        return answered(Busy("full"), after=0) if len(asked) == 1 else httpx.Response(200, json=[])

    def tried(do: Callable[[Jamb], object], **options: Any) -> int:
        asked.clear()
        http = httpx.MockTransport(busy_once)
        with suppress(Busy, ServiceUnreachable), Jamb(URL, "port", AccessToken("t"), http=http, **options) as jamb:
            do(jamb)
        return len(asked)

    assert tried(lambda jamb: list(jamb.people.list())) == 2
    assert tried(lambda jamb: list(jamb.people.list()), tries_again=0) == 1
    assert tried(lambda jamb: jamb.clients.register("x", "y")) == 1
    assert tried(lambda jamb: jamb.clients.register("x", "y", once="key-1")) == 2


def test_pages_are_fetched_as_they_are_reached() -> None:
    pages = {None: {"items": [], "next": "two", "total": 0}, "two": {"items": [], "next": None, "total": 0}}
    asked: list[str | None] = []

    def page(request: httpx.Request) -> httpx.Response:
        asked.append(request.url.params.get("cursor"))
        return httpx.Response(200, json=pages[asked[-1]])

    with Jamb(URL, "port", AccessToken("t"), http=httpx.MockTransport(page)) as jamb:
        assert list(jamb.clients.list()) == []
    assert asked == [None, "two"]
