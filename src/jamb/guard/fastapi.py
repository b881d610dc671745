"""The guard as FastAPI dependencies: two lines in a protected API."""

from __future__ import annotations

import json
from collections.abc import Callable
from http import HTTPStatus

from fastapi import FastAPI, Request
from fastapi.responses import Response

from jamb.guard.certificate import HEADER
from jamb.guard.checks import Call, Checks
from jamb.guard.keys import RETRY_SECONDS
from jamb.guard.refusals import Refused, WouldBeLetIn
from jamb.guard.resource import metadata_path
from jamb.guard.verify import TokenClaims

MEDIA_TYPE = "application/problem+json"


class Guard(Checks):
    """Lets requests of a FastAPI application in; what it takes and checks: see `Checks`."""

    def requires(self, *any_of: str, operation: str, object_in: str = "") -> Callable[[Request], TokenClaims]:
        """Return a dependency that lets in tokens with one of these permissions, as a use of the operation.

        Args:
            object_in: the path parameter that names the object; the permission must count for it. Without, whoever
                lists objects shows only those that `TokenClaims.reaches`.
        """

        self.permissions |= set(any_of)

        def check(request: Request) -> TokenClaims:
            call = Call(
                request.method,
                f"{self.url or str(request.base_url).rstrip('/')}{request.url.path}",
                request.headers.get("Authorization", ""),
                request.headers.get("DPoP", ""),
                request.headers.getlist(HEADER),
            )
            name = str(request.path_params[object_in]) if object_in else None
            return self.let_in(call, any_of, operation, name)

        return check


def add_guard_handler(app: FastAPI, realm: str, guard: Guard | None = None) -> None:
    """Answer refusals as RFC 6750 has it, with a problem document for people; and probes that passed by 204.

    With the guard of the API, the API also says by whom its tokens are made, to clients that ask it (RFC 9728).
    """
    path = metadata_path(guard.audience) if guard is not None else ""
    if guard is not None and path:

        @app.get(path, include_in_schema=False)
        async def protected_resource() -> Response:
            headers = {"Cache-Control": "public, max-age=300", "Access-Control-Allow-Origin": "*"}
            return Response(json.dumps(guard.protected_resource(realm)), 200, headers, "application/json")

    @app.exception_handler(WouldBeLetIn)
    async def let_in(_request: Request, _probe: WouldBeLetIn) -> Response:
        return Response(status_code=204)

    @app.exception_handler(Refused)
    async def refused(_request: Request, error: Refused) -> Response:
        # RFC 6750 section 3.1 challenges who sent no good token; of a 503 the token may be as good as any.
        away = error.status == HTTPStatus.SERVICE_UNAVAILABLE
        headers = {"Retry-After": str(RETRY_SECONDS)} if away else {"WWW-Authenticate": error.challenge(realm)}
        return Response(json.dumps(problem_of(error)), error.status, headers, MEDIA_TYPE)


def problem_of(error: Refused) -> dict[str, object]:
    """Return a refusal in words (RFC 9457)."""
    body: dict[str, object] = {
        "type": "about:blank",
        "title": HTTPStatus(error.status).phrase,
        "status": error.status,
        "detail": error.description,
    }
    if error.scope:
        body["missing_permission"] = error.scope
    return body
