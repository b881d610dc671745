"""What an application does to sign people in by a directory, with nothing but the issuer's address to begin with.

What is held of a person stays in this process, under a cookie: the browser never sees a token.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode, urlsplit

import httpx
import jwt
from fastapi import Request

from jamb.core.authorization.pkce import challenge_of

MOST_KEPT = 500
_SECONDS = 10
_ALGORITHMS = ["ES256", "EdDSA", "RS256"]


@dataclass
class Visit:
    """What is known of a browser: the sign-in that it began, or the tokens of the person."""

    state: str = ""
    nonce: str = ""
    verifier: str = ""
    tokens: dict[str, Any] = field(default_factory=dict)
    name: str = ""
    # The sign-in at the issuer, which may end there (`sid`, OpenID Connect Back-Channel Logout, section 2.1).
    signed_in: str = ""


class Refused(Exception):
    """What the issuer answered instead of tokens, in words for a page."""


@dataclass
class RelyingParty:
    """`issuer`, `client_id` and perhaps a `secret` are all that it was told; the rest it finds in the metadata.

    `own_url`: where its pages begin, at a path of one part, after which its cookie is called; answers come to `back`
    below it.
    """

    title: str
    issuer: str
    client_id: str
    own_url: str
    scope: str
    secret: str = ""
    visits: dict[str, Visit] = field(default_factory=dict)

    @property
    def back(self) -> str:
        return f"{self.own_url}/back"

    @property
    def path(self) -> str:
        return urlsplit(self.own_url).path

    @property
    def cookie(self) -> str:
        return self.path[1:]

    def visit(self, request: Request) -> Visit | None:
        return self.visits.get(request.cookies.get(self.cookie, ""))

    async def metadata(self, http: httpx.AsyncClient) -> dict[str, Any]:
        """Read what the issuer says of itself (OpenID Connect Discovery, section 4)."""
        found = await http.get(f"{self.issuer}/.well-known/openid-configuration")
        told: dict[str, Any] = found.raise_for_status().json()
        return told

    def keep(self, visit: Visit) -> str:
        """Keep what is known of a browser; return its cookie. The oldest is forgotten when there are too many."""
        while len(self.visits) >= MOST_KEPT:
            self.visits.pop(next(iter(self.visits)))
        cookie = secrets.token_urlsafe(24)
        self.visits[cookie] = visit
        return cookie

    async def begin(self) -> tuple[str, str]:
        """Return a fresh cookie, and where the person goes to sign in."""
        async with httpx.AsyncClient(timeout=_SECONDS) as http:
            found = await self.metadata(http)
        made = Visit(secrets.token_urlsafe(16), secrets.token_urlsafe(16), secrets.token_urlsafe(48))
        asked = {
            "response_type": "code",
            "client_id": self.client_id,
            "redirect_uri": self.back,
            "scope": self.scope,
            "state": made.state,
            "nonce": made.nonce,
            "code_challenge": challenge_of(made.verifier),
            "code_challenge_method": "S256",
        }
        return self.keep(made), f"{found['authorization_endpoint']}?{urlencode(asked)}"

    async def end(self, visit: Visit, answer: dict[str, str]) -> None:
        """Fetch the tokens of an answer that came back, or raise `Refused`."""
        # RFC 9700 section 4.7 and RFC 9207: the answer is to what this browser asked, and from whom it asked.
        expected = visit.state and secrets.compare_digest(answer.get("state", ""), visit.state)
        if not expected or answer.get("iss") != self.issuer:
            raise Refused("This answer belongs to no sign-in of this browser.")
        visit.state = ""
        if error := answer.get("error", ""):
            raise Refused(words_of(error))
        form = {
            "grant_type": "authorization_code",
            "code": answer.get("code", ""),
            "code_verifier": visit.verifier,
            "redirect_uri": self.back,
        }
        told = await self.ask("token_endpoint", form)
        if not told.is_success:
            raise Refused(words_of(error_of(told)))
        await self.welcome(visit, told.json())

    async def welcome(self, visit: Visit, tokens: dict[str, Any]) -> None:
        """Keep the tokens of a person, once the ID token is theirs (OpenID Connect Core, section 3.1.3.7)."""
        claims = await self.checked(tokens["id_token"])
        if claims.get("nonce", "") != visit.nonce:
            raise Refused("This ID token belongs to another sign-in.")
        visit.tokens, visit.signed_in = tokens, str(claims.get("sid", ""))
        async with httpx.AsyncClient(timeout=_SECONDS) as http:
            told = await http.get((await self.metadata(http))["userinfo_endpoint"], headers=_bearer(visit))
        person = told.raise_for_status().json()
        # Section 5.3.2: what is told of anybody else is not used.
        visit.name = str(person.get("name", "")) if person["sub"] == claims["sub"] else ""

    async def checked(self, token: str) -> dict[str, Any]:
        """Return the claims of a token that the issuer signed for this application, or raise `Refused`."""
        async with httpx.AsyncClient(timeout=_SECONDS) as http:
            keys = (await http.get((await self.metadata(http))["jwks_uri"])).raise_for_status().json()
        try:
            key = jwt.PyJWKSet.from_dict(keys)[jwt.get_unverified_header(token)["kid"]]
            claims: dict[str, Any] = jwt.decode(
                token, key, algorithms=_ALGORITHMS, audience=self.client_id, issuer=self.issuer
            )
        except (jwt.PyJWTError, KeyError) as fault:
            raise Refused(f"The token is not the issuer's: {type(fault).__name__}.") from fault
        return claims

    async def ask(self, endpoint: str, form: dict[str, str]) -> httpx.Response:
        """Post a form to an endpoint of the issuer, as this application."""
        basic = httpx.BasicAuth(self.client_id, self.secret) if self.secret else None
        async with httpx.AsyncClient(timeout=_SECONDS, auth=basic) as http:
            sent = form if self.secret else {**form, "client_id": self.client_id}
            return await http.post((await self.metadata(http))[endpoint], data=sent)

    async def call(self, visit: Visit, url: str) -> httpx.Response:
        """Call an API for the person; a token that has run out is renewed once (RFC 6749, section 6)."""
        async with httpx.AsyncClient(timeout=_SECONDS) as http:
            found = await http.get(url, headers=_bearer(visit))
            if found.status_code == httpx.codes.UNAUTHORIZED and "refresh_token" in visit.tokens:
                form = {"grant_type": "refresh_token", "refresh_token": visit.tokens["refresh_token"]}
                renewed = await self.ask("token_endpoint", form)
                if renewed.is_success:
                    visit.tokens |= renewed.json()
                    found = await http.get(url, headers=_bearer(visit))
        return found

    async def leave(self, cookie: str) -> Visit | None:
        """Forget a browser, and end what its refresh token could still get (RFC 7009)."""
        visit = self.visits.pop(cookie, None)
        if visit is not None and "refresh_token" in visit.tokens:
            await self.ask("revocation_endpoint", {"token": visit.tokens["refresh_token"]})
        return visit


def _bearer(visit: Visit) -> dict[str, str]:
    return {"Authorization": f"Bearer {visit.tokens['access_token']}"}


def error_of(answer: httpx.Response) -> str:
    """Return the error code of a token answer (RFC 6749, section 5.2), or its status."""
    try:
        return str(answer.json()["error"])
    except (ValueError, KeyError, TypeError):
        return f"status {answer.status_code}"


def words_of(error: str) -> str:
    return "You did not allow it." if error == "access_denied" else f"The answer was: {error}."
