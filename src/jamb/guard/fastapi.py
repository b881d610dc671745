"""The guard as FastAPI dependencies: two lines in a protected API."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from http import HTTPStatus
from pathlib import Path
from typing import Any

import httpx
from fastapi import FastAPI, Request
from fastapi.responses import Response

from jamb.guard.dpop import BadProof, SeenProofs, check_time, check_token, read_proof
from jamb.guard.keys import RETRY_SECONDS, IssuerKeys
from jamb.guard.reach import RevocationsReader
from jamb.guard.refusals import Refused, WouldBeLetIn
from jamb.guard.report import UsageReporter
from jamb.guard.resource import document, metadata_path, metadata_url
from jamb.guard.token import OwnToken
from jamb.guard.verify import TokenClaims, bounded, require_permission, verify

MEDIA_TYPE = "application/problem+json"


class Guard:
    """Lets requests in by the token they carry, counts what was used, and acts on what the issuer takes away.

    Args:
        reporter: where uses are counted; None counts nothing.
        revocations: the issuer's revocations; None keeps to what tokens say, and tokens that are bounded are refused.
        also_issuer: another name of the issuer whose tokens are good: the next or the former one, while it moves.
        url: where callers reach the API, as "https://berths.example", for proofs of possession (RFC 9449); empty: as
            the request names it. Give it where a proxy stands before the API.
    """

    def __init__(
        self,
        issuer: str,
        audience: str,
        reporter: UsageReporter | None = None,
        revocations: RevocationsReader | None = None,
        also_issuer: str = "",
        url: str = "",
    ) -> None:
        self._url, self._seen = url.rstrip("/"), SeenProofs()
        # What its operations require, for what the API says of itself.
        self.permissions: set[str] = set()
        self._issuers = [issuer, also_issuer] if also_issuer else [issuer]
        self.issuer, self.audience, self.reporter, self.revocations = issuer, audience, reporter, revocations
        self._keys = IssuerKeys(issuer)

    @classmethod
    def for_resource(
        cls,
        resource: str,
        issuer: str,
        audience: str,
        api: str,
        client_id: str,
        client_secret: str,
        also_issuer: str = "",
        url: str = "",
    ) -> Guard:
        """Return a guard that reports uses and acts on what is taken away, as the client named as the resource's guard.

        Args:
            resource: the short name of the resource in its directory.
            issuer: the directory's issuer, as "https://jamb.example/d/port".
            audience: the resource's identifier, for which tokens are made.
            api: the directory in Jamb's own API, as "https://jamb.example/api/v1/directories/port".
            client_id, client_secret: of the resource's guard, with the permissions usage.report and revocations.read.
        """
        token = OwnToken(issuer, api, client_id, client_secret, httpx.Client(timeout=5))
        return cls(
            issuer,
            audience,
            UsageReporter(f"{api}/usage", resource, token),
            RevocationsReader(f"{api}/revocations", resource, token),
            also_issuer,
            url,
        )

    @classmethod
    def from_file(cls, path: str | Path) -> Guard:
        """Return the guard of a file that `jamb resources guard RESOURCE --save FILE` wrote; keep it as a secret."""
        return cls.for_resource(**json.loads(Path(path).read_text()))

    def requires(self, *any_of: str, operation: str, object_in: str = "") -> Callable[[Request], TokenClaims]:
        """Return a dependency that lets in tokens with one of these permissions, as a use of the operation.

        Args:
            object_in: the path parameter that names the object; the permission must count for it. Without, whoever
                lists objects shows only those that `TokenClaims.reaches`.
        """

        self.permissions |= set(any_of)

        def check(request: Request) -> TokenClaims:
            try:
                return let_in(request)
            except Refused as error:
                error.metadata = metadata_url(self.audience)
                raise

        def let_in(request: Request) -> TokenClaims:
            scheme, token = _token_of(request)
            claims = verify(token, self._issuers, self.audience, self._keys.get, probes=True)
            self._check_key(request, scheme, token, claims)
            name = str(request.path_params[object_in]) if object_in else None
            kind = "delegated" if claims.delegated else "application"
            try:
                claims = bounded(claims, self.revocations.revocations if self.revocations is not None else None)
                require_permission(claims, any_of, name)
            except Refused as error:
                if self.reporter is not None and not claims.probe:
                    self.reporter.refused(claims.client_id, operation, kind, error.reason, name or "")
                raise
            if claims.probe:
                raise WouldBeLetIn
            if self.reporter is not None:
                person = claims.subject if claims.delegated else ""
                self.reporter.used(claims.client_id, operation, kind, name, person)
            return claims

        return check

    def _check_key(self, request: Request, scheme: str, token: str, claims: TokenClaims) -> None:
        """Raise `Refused` unless whoever sends the token holds the key it is bound to (RFC 9449 section 7)."""
        if not claims.key and scheme == "bearer":
            return
        try:
            if not claims.key:
                raise BadProof("the token is bound to no key: send it as a bearer token")
            if scheme != "dpop":
                raise BadProof("the token is bound to a key: send it with the scheme DPoP and a proof")
            url = f"{self._url or str(request.base_url).rstrip('/')}{request.url.path}"
            proof = read_proof(request.headers.get("DPoP", ""), request.method, url)
            check_time(proof, time.time())
            check_token(proof, token, claims.key)
            if not self._seen.first(proof):
                raise BadProof("it was used before: make one for each request")
        except BadProof as error:
            # Section 7.1: of a token that is good itself, the proof is what is wrong.
            code = "invalid_token" if scheme != "dpop" or not claims.key else "invalid_dpop_proof"
            raise Refused(401, code, str(error), reason="possession", scheme="DPoP") from error

    def protected_resource(self, name: str) -> dict[str, Any]:
        """Return what the API says of itself under this name (RFC 9728 section 2)."""
        return document(self.audience, self._issuers, self.permissions, name)

    def start(self) -> None:
        """Start reporting and reading, each in a thread of its own."""
        self._keys.read_soon()
        for part in (self.reporter, self.revocations):
            if part is not None:
                part.start()

    def close(self) -> None:
        """Send what is left and stop."""
        for part in (self.reporter, self.revocations):
            if part is not None:
                part.close()


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
        body = {
            "type": "about:blank",
            "title": HTTPStatus(error.status).phrase,
            "status": error.status,
            "detail": error.description,
        }
        if error.scope:
            body["missing_permission"] = error.scope
        # RFC 6750 section 3.1 challenges who sent no good token; of a 503 the token may be as good as any.
        away = error.status == HTTPStatus.SERVICE_UNAVAILABLE
        headers = {"Retry-After": str(RETRY_SECONDS)} if away else {"WWW-Authenticate": error.challenge(realm)}
        return Response(json.dumps(body), error.status, headers, MEDIA_TYPE)


def _token_of(request: Request) -> tuple[str, str]:
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() not in {"bearer", "dpop"} or not token.strip():
        # RFC 6750 section 3.1: no error code where no token was sent.
        raise Refused(401, "", "send an access token in the Authorization header")
    return scheme.lower(), token.strip()
