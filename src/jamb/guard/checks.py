"""What a guard checks of one call, whichever framework or proxy it comes by, and what it counts of it."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Self

import httpx

from jamb.guard.certificate import thumbprint_of
from jamb.guard.dpop import BadProof, SeenProofs, check_time, check_token, read_proof
from jamb.guard.keys import IssuerKeys
from jamb.guard.reach import RevocationsReader
from jamb.guard.refusals import Refused, WouldBeLetIn
from jamb.guard.report import UsageReporter
from jamb.guard.resource import document, metadata_url
from jamb.guard.token import OwnToken
from jamb.guard.verify import TokenClaims, bounded, require_permission, verify


@dataclass(frozen=True, slots=True)
class Call:
    """A call as it came. `url`: as its caller wrote it, without query; `authorization`, `proof`: these headers.

    `certificates`: the headers Client-Cert (RFC 9440), as they came.
    """

    method: str
    url: str
    authorization: str
    proof: str
    certificates: Sequence[str] = ()


class Checks:
    """Lets calls in by the token they carry, counts what was used, and acts on what the issuer takes away.

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
        # Whether a proxy before the API sets Client-Cert on each request, or takes it away (RFC 9440); without, tokens
        # that are bound to a certificate are refused.
        self.certificates = False
        # What its operations require, for what the API says of itself.
        self.permissions: set[str] = set()
        self.url, self._seen = url.rstrip("/"), SeenProofs()
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
    ) -> Self:
        """Return a guard that reports uses and acts on what is taken away, as the client named as the resource's guard.

        Args:
            resource: the short name of the resource in its directory.
            issuer: the directory's issuer, as "https://jamb.example/d/port".
            audience: the resource's identifier, for which tokens are made.
            api: the directory in Jamb's own API, as "https://jamb.example/api/v1/directories/port".
            client_id, client_secret: of the resource's guard, with the permissions usage.report and revocations.read.
        """
        # One for all: each reads the authorities that the machine trusts, and has connections of its own.
        http = httpx.Client(timeout=5)
        token = OwnToken(issuer, api, client_id, client_secret, http)
        return cls(
            issuer,
            audience,
            UsageReporter(f"{api}/usage", resource, token, http),
            RevocationsReader(f"{api}/revocations", resource, token, http),
            also_issuer,
            url,
        )

    @classmethod
    def from_file(cls, path: str | Path) -> Self:
        """Return the guard of a file that `jamb resources guard RESOURCE --save FILE` wrote; keep it as a secret."""
        values = json.loads(Path(path).read_text())
        certificates = bool(values.pop("certificates", False))
        made = cls.for_resource(**values)
        made.certificates = certificates
        return made

    def let_in(self, call: Call, any_of: Sequence[str], operation: str, name: str | None) -> TokenClaims:
        """Return the claims of a call that is let in, as a use of the operation.

        Args:
            any_of: permissions, one of which the token must carry.
            name: the object of the call, for which the permission must count; None: it concerns none.

        Raises:
            Refused: it is not let in. WouldBeLetIn: it would be, and is a probe: nothing may be done.
        """
        try:
            return self._judged(call, any_of, operation, name)
        except Refused as error:
            error.metadata = metadata_url(self.audience)
            raise

    def _judged(self, call: Call, any_of: Sequence[str], operation: str, name: str | None) -> TokenClaims:
        scheme, token = _token_of(call.authorization)
        claims = verify(token, self._issuers, self.audience, self._keys.get, probes=True)
        self._check_key(call, scheme, token, claims)
        held = thumbprint_of(call.certificates) if self.certificates else ""
        if claims.certificate and held != claims.certificate:
            # RFC 8705 section 3.
            said = "the token is bound to a certificate that does not hold this connection"
            raise Refused(401, "invalid_token", said, reason="possession")
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

    def _check_key(self, call: Call, scheme: str, token: str, claims: TokenClaims) -> None:
        """Raise `Refused` unless whoever sends the token holds the key it is bound to (RFC 9449 section 7)."""
        if not claims.key and scheme == "bearer":
            return
        try:
            if not claims.key:
                raise BadProof("the token is bound to no key: send it as a bearer token")
            if scheme != "dpop":
                raise BadProof("the token is bound to a key: send it with the scheme DPoP and a proof")
            proof = read_proof(call.proof, call.method, call.url)
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
        self._keys.close()


def _token_of(authorization: str) -> tuple[str, str]:
    scheme, _, token = authorization.partition(" ")
    if scheme.lower() not in {"bearer", "dpop"} or not token.strip():
        # RFC 6750 section 3.1: no error code where no token was sent.
        raise Refused(401, "", "send an access token in the Authorization header")
    return scheme.lower(), token.strip()
