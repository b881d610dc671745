"""What a program does not import until it is needed: each would be felt at every start."""

from __future__ import annotations

import subprocess
import sys

import pytest

SERVICE = """
import jamb.service.app as app
from jamb.service.http.routing import JsonRoute
routes = [route for router in app.ROUTERS for route in router.routes if isinstance(route, JsonRoute)]
whole = [route.path for route in routes if route.is_whole]
assert len(routes) > 100 and whole == [], whole
"""


@pytest.mark.parametrize(
    ("program", "unneeded"),
    [
        (SERVICE, {"alembic", "webauthn", "PIL", "typer"}),
        ("import jamb.cli.main", {"pydantic", "httpx"}),
        ("import jamb.cli.main, jamb.cli.base.connection", {"jwt", "cryptography", "jamb.core.audit"}),
        ("import jamb.client; jamb.client.Jamb", {"jwt", "cryptography", "jamb.wire.audit", "jamb.wire.directory"}),
        ("import jamb.guard", {"fastapi", "starlette"}),
    ],
    ids=["service", "help and completion", "command line", "library", "guard"],
)
def test_a_start_waits_for_nothing_that_it_does_not_need(program: str, unneeded: set[str]) -> None:
    assert set(said_by(f"{program}\nimport sys\nprint(*sys.modules)").split()) & unneeded == set()


def test_every_route_can_be_made_whole_and_nothing_is_wrong_with_it() -> None:
    assert (
        said_by(f"{SERVICE}\nfor route in routes: route.dependant\nprint(all(route.is_whole for route in routes))")
        == "True\n"
    )


def said_by(program: str) -> str:
    command = [sys.executable, "-W", "error", "-c", program]
    done = subprocess.run(command, capture_output=True, text=True, timeout=300, check=False)
    assert done.returncode == 0, done.stderr
    return done.stdout
