"""The guard as FastAPI dependencies: two lines in a protected API."""

from __future__ import annotations

import json
from collections.abc import Callable

from fastapi import FastAPI, Request
from fastapi.responses import Response

from jamb.guard.keys import IssuerKeys
from jamb.guard.report import UsageReporter
from jamb.guard.verify import Refused, TokenClaims, require_permission, verify

MEDIA_TYPE = "application/problem+json"


class Guard:
    """Lets requests in by the token they carry, and counts what was used."""

    def __init__(self, issuer: str, audience: str, reporter: UsageReporter | None = None) -> None:
        self.issuer, self.audience, self.reporter = issuer, audience, reporter
        self._keys = IssuerKeys(issuer)

    def requires(self, *any_of: str, operation: str) -> Callable[[Request], TokenClaims]:
        """Return a dependency that lets in tokens with one of these permissions, as a use of the operation."""

        def check(request: Request) -> TokenClaims:
            claims = verify(_token_of(request), self.issuer, self.audience, self._keys.get)
            require_permission(claims, any_of)
            if self.reporter is not None:
                kind = "delegated" if claims.delegated else "application"
                self.reporter.used(claims.client_id, operation, kind)
            return claims

        return check


def add_guard_handler(app: FastAPI, realm: str) -> None:
    """Answer refusals as RFC 6750 has it, with a problem document for people."""

    @app.exception_handler(Refused)
    async def refused(_request: Request, error: Refused) -> Response:
        body = {
            "type": "about:blank",
            "title": "Forbidden" if error.status == 403 else "Unauthorized",
            "status": error.status,
            "detail": error.description,
        }
        if error.scope:
            body["missing_permission"] = error.scope
        headers = {"WWW-Authenticate": error.challenge(realm)}
        return Response(json.dumps(body), error.status, headers, MEDIA_TYPE)


def _token_of(request: Request) -> str:
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not token.strip():
        # RFC 6750 section 3.1: no error code where no token was sent.
        raise Refused(401, "", "send an access token in the Authorization header")
    return token.strip()
