"""Answers a proxy's question whether a request may pass: with 204 and what the API should know, or with why not.

nginx asks it by `auth_request`, others by what they call forward authentication. The proxy must set the two headers
that name the request itself, whatever its caller sent, and let nobody else reach the gate.
"""

from __future__ import annotations

import json
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from jamb.guard.certificate import HEADER
from jamb.guard.checks import Call, Checks
from jamb.guard.fastapi import MEDIA_TYPE, problem_of
from jamb.guard.keys import RETRY_SECONDS
from jamb.guard.operations import Operations
from jamb.guard.refusals import Refused, WouldBeLetIn
from jamb.guard.resource import metadata_path
from jamb.guard.verify import TokenClaims

# How a proxy names the request it asks about: method, and target with its query.
ORIGINAL, FORWARDED = ("X-Original-Method", "X-Original-URI"), ("X-Forwarded-Method", "X-Forwarded-Uri")


class Gate:
    """Judges requests by the operations of a resource, as its catalogue has them now.

    Args:
        named_by: the headers in which the proxy names the request.
    """

    def __init__(self, checks: Checks, realm: str, named_by: tuple[str, str] = ORIGINAL) -> None:
        self._checks, self._realm, self._named_by = checks, realm, named_by
        if checks.revocations is not None:
            checks.revocations.with_operations = True

    @property
    def _operations(self) -> Operations | None:
        """What was read of the catalogue last; None before anything was."""
        return self._checks.revocations.operations if self._checks.revocations is not None else None

    def application(self) -> Starlette:
        """Return the gate as an ASGI application."""
        routes = [Route("/check", self.check), Route("/ready", self.ready)]
        path = metadata_path(self._checks.audience)
        if path:
            routes.append(Route(path, self.said_of))

        @asynccontextmanager
        async def life(_app: Starlette) -> AsyncIterator[None]:
            self._checks.start()
            yield
            self._checks.close()

        return Starlette(routes=routes, lifespan=life)

    def check(self, request: Request) -> Response:
        """Say whether the request that the headers name may pass."""
        try:
            claims = self._judged(request)
        except WouldBeLetIn:
            # Not 204: a proxy would let it pass, and a probe must be let in nowhere.
            return Response(status_code=403, headers={"Guard-Probe": "let-in"})
        except Refused as error:
            headers = {"WWW-Authenticate": error.challenge(self._realm), "Guard-Reason": error.reason or "no-token"}
            if error.status not in {401, 403}:
                headers["Retry-After"] = str(RETRY_SECONDS)
            return Response(json.dumps(problem_of(error)), error.status, headers, MEDIA_TYPE)
        return Response(status_code=204, headers=_told(claims))

    def _judged(self, request: Request) -> TokenClaims:
        method, target = (request.headers.getlist(name) for name in self._named_by)
        operations = self._operations
        if len(method) != 1 or len(target) != 1:
            said = f"the proxy names no request: it must set {' and '.join(self._named_by)}, once each"
            raise Refused(403, "invalid_request", said, reason="not-named")
        if operations is None:
            raise Refused(503, "temporarily_unavailable", "the operations are not known yet", reason="no-operations")
        found = operations.find(method[0], target[0])
        path = target[0].partition("?")[0]
        call = Call(
            method[0],
            f"{self._checks.url or self._checks.audience.rstrip('/')}{path}",
            request.headers.get("Authorization", ""),
            request.headers.get("DPoP", ""),
            request.headers.getlist(HEADER),
        )
        return self._checks.let_in(call, found.operation.any_of, found.operation.name, found.object)

    def ready(self, _request: Request) -> Response:
        """Say whether requests can be judged: the operations were read."""
        known = self._operations is not None
        return JSONResponse({"ready": known}, 200 if known else 503)

    def said_of(self, _request: Request) -> Response:
        """Say by whom the API's tokens are made (RFC 9728)."""
        operations = self._operations
        self._checks.permissions = operations.permissions if operations is not None else set()
        headers = {"Cache-Control": "public, max-age=300", "Access-Control-Allow-Origin": "*"}
        return JSONResponse(self._checks.protected_resource(self._realm), headers=headers)


def _told(claims: TokenClaims) -> dict[str, str]:
    """Return what the API should know: who calls, for whom, with what, and where that counts.

    Whoever lists objects shows only those in which the permission counts: `Guard-Limits` has, for each permission that
    is bounded, alternatives of collections within which (or, inverted, without which) it counts; all of them must hold.
    """
    limits = {
        name: [
            [{"collections": sorted(extent.collections), "inverted": extent.inverted} for extent in extents]
            for extents in parts
        ]
        for name, parts in claims.limits.items()
        if name in claims.scope
    }
    return {
        "Guard-Client": claims.client_id,
        "Guard-Person": claims.subject if claims.delegated else "",
        "Guard-Scope": " ".join(sorted(claims.scope)),
        "Guard-Limits": json.dumps(limits) if limits else "",
    }
