"""The table finds the route that the framework finds when it tries one after the other."""

from __future__ import annotations

from fastapi.routing import APIRoute
from hypothesis import given
from hypothesis import strategies as st
from starlette.routing import Match, Route
from starlette.types import Scope

from jamb.service.app import ROUTERS
from jamb.service.http.route_table import RouteTable

TABLE = RouteTable(ROUTERS)
ROUTES: list[Route] = [route for router in ROUTERS for route in router.routes if isinstance(route, Route)]
PARTS = sorted({part for route in ROUTES for part in route.path.split("/")})


def asked(method: str, path: str) -> Scope:
    return {"type": "http", "method": method, "path": path, "headers": []}


def one_after_the_other(scope: Scope) -> Route | None:
    return next((route for route in ROUTES if route.matches(scope)[0] is Match.FULL), None)


def at_once(scope: Scope) -> Route | None:
    match, child = TABLE.matches(scope)
    return child["route"] if match is Match.FULL else None


def test_every_route_of_the_api_is_found_by_its_own_address() -> None:
    found = {}
    for route in ROUTES:
        if isinstance(route, APIRoute) and route.path.startswith("/api/"):
            (method,) = route.methods
            found[route.name] = at_once(asked(method, route.path.replace("{", "a-").replace("}", "")))
    assert len(found) > 150
    assert {name: route.name if route else None for name, route in found.items()} == {name: name for name in found}


@given(st.sampled_from(["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"]), st.data())
def test_any_address_leads_where_it_led_before(method: str, data: st.DataObject) -> None:
    whole = data.draw(st.sampled_from([route.path for route in ROUTES])).split("/")
    for at in data.draw(st.lists(st.integers(1, len(whole)), max_size=2)):
        whole[at : at + data.draw(st.integers(0, 1))] = data.draw(
            st.lists(st.sampled_from([*PARTS, "", "x"]), max_size=2)
        )
    scope = asked(method, "/".join(whole))
    expected, found = one_after_the_other(scope), at_once(scope)
    # What may hold more than one part, such as the pages of the console, is left to the routers.
    assert found is expected or (found is None and expected is not None and ":" in expected.path)
