"""Finding the route of a request by the parts of its path, where the framework tries one route after the other."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

from fastapi import APIRouter
from fastapi.telemetry._api import _route_selected
from starlette.routing import BaseRoute, Match, Route
from starlette.types import Receive, Scope, Send

_HOLDS_MORE = re.compile(r"\{\w+:")


@dataclass(slots=True)
class _Part:
    """What lies below one part of a path: by the next part as it is, or by any."""

    known: dict[str, _Part] = field(default_factory=dict)
    any: _Part | None = None
    # With their places in the order in which they were added.
    routes: list[tuple[int, Route]] = field(default_factory=list)

    def below(self, part: str) -> _Part:
        if "{" not in part:
            return self.known.setdefault(part, _Part())
        self.any = self.any or _Part()
        return self.any

    def found(self, parts: list[str], at: int = 0) -> Iterator[tuple[int, Route]]:
        if at == len(parts):
            yield from self.routes
            return
        for one in (self.known.get(parts[at]), self.any):
            if one is not None:
                yield from one.found(parts, at + 1)


class RouteTable(BaseRoute):
    """The routes of some routers, found at once. Stands before them: what it does not know they look for themselves.

    A route with a part of its path that may hold "/" stays with its router, and so does who names another method.
    """

    def __init__(self, routers: Iterable[APIRouter]) -> None:
        self._first = _Part()
        routes = [route for router in routers for route in router.routes if isinstance(route, Route)]
        for place, route in enumerate(routes):
            if _HOLDS_MORE.search(route.path):
                continue
            part = self._first
            for name in route.path.split("/"):
                part = part.below(name)
            part.routes.append((place, route))

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        if scope["type"] != "http":
            return Match.NONE, {}
        for _, route in sorted(self._first.found(scope["path"].split("/")), key=lambda found: found[0]):
            match, child = route.matches(scope)
            if match is Match.FULL:
                return match, {**child, "route": route}
        return Match.NONE, {}

    async def handle(self, scope: Scope, receive: Receive, send: Send) -> None:
        route: Any = scope["route"]
        # A span is named by the route, as the framework would have named it.
        _route_selected(scope=scope, path=route.path_format)
        await route.handle(scope, receive, send)
