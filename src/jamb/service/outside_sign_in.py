"""Jamb as a client of outside OpenID providers, by which people sign in (OpenID Connect Core section 3.1).

Authorization code with PKCE (RFC 7636), `state` and `nonce` for one browser (RFC 9700 section 4.7), the issuer checked
in metadata, answer (RFC 9207) and ID token, so that no provider speaks for another (RFC 9700 section 4.4).
"""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import time
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from hmac import compare_digest
from typing import Any
from urllib.parse import quote, urlencode
from uuid import UUID

from jamb.actions.base.backend import Backend
from jamb.core.addresses import UnfitAddress, read_address
from jamb.core.credentials.assertions import NotProven, check_reading, read_assertion, signed_by
from jamb.core.credentials.public_keys import key_set
from jamb.core.directory.providers import Provider
from jamb.core.errors import BadInput, Misuse
from jamb.core.text import UnfitText, read_json
from jamb.service.egress import Egress, NotSpokenTo

SCOPE = "openid email profile"
LIFE = timedelta(minutes=10)
# Of metadata and keys; and of each wait for a provider.
KEPT_SECONDS = 600.0
AGAIN_SECONDS = 15.0
WAIT_SECONDS = 5.0
LONGEST_ANSWER = 200_000
MOST_KEPT = 1000
LONGEST_TOKEN_LIFE = timedelta(hours=24)


class NotAnswered(Exception):
    """A provider does not do what it must; the message says what, for whoever reads the log."""


@dataclass(frozen=True, slots=True)
class Begun:
    """A sign-in that a browser began: kept sealed in a cookie of it, and nowhere else.

    `then`: the page of ours where it goes afterwards.
    """

    provider_id: str
    state: str
    nonce: str
    verifier: str
    then: str
    until: float

    def sealed(self, backend: Backend) -> str:
        sealed = backend.sealer.seal(json.dumps(asdict(self)).encode(), "sign-in by a provider")
        return base64.urlsafe_b64encode(sealed).decode().rstrip("=")


def begun_in(backend: Backend, cookie: str, state: str, now: datetime) -> Begun | None:
    """Return what a browser began, if this is the answer to it, and in time."""
    try:
        sealed = base64.urlsafe_b64decode(cookie + "=" * (-len(cookie) % 4))
        found = Begun(**json.loads(backend.sealer.open(sealed, "sign-in by a provider")))
    except (ValueError, TypeError, Misuse):
        return None
    return found if compare_digest(found.state, state) and found.until > now.timestamp() else None


@dataclass(slots=True)
class _Known:
    metadata: Mapping[str, Any]
    keys: Any
    read_at: float


class Providers:
    """What is known of outside providers, for one process."""

    def __init__(self, egress: Egress, inner_hosts: frozenset[str]) -> None:
        self._egress, self._inner_hosts = egress, inner_hosts
        self._known: dict[str, _Known] = {}
        # Whoever is away is not asked at each press of a button.
        self._away: dict[str, tuple[float, str]] = {}

    async def begin(
        self, provider: Provider, provider_id: UUID, redirect_uri: str, then: str, now: datetime
    ) -> tuple[Begun, str]:
        """Return what the browser keeps, and where it goes. Raises `NotAnswered`."""
        known = await self._of(provider.issuer)
        begun = Begun(
            str(provider_id),
            secrets.token_urlsafe(24),
            secrets.token_urlsafe(24),
            secrets.token_urlsafe(48),
            then,
            (now + LIFE).timestamp(),
        )
        challenge = base64.urlsafe_b64encode(hashlib.sha256(begun.verifier.encode()).digest()).decode().rstrip("=")
        asked = {
            "response_type": "code",
            "client_id": provider.client_id,
            "redirect_uri": redirect_uri,
            "scope": SCOPE,
            "state": begun.state,
            "nonce": begun.nonce,
            "code_challenge": challenge,
            "code_challenge_method": "S256",
        }
        endpoint = self._endpoint(known, "authorization_endpoint")
        return begun, f"{endpoint}{'&' if '?' in endpoint else '?'}{urlencode(asked)}"

    async def claims(
        self,
        provider: Provider,
        secret: str,
        begun: Begun,
        sent: Mapping[str, str],
        redirect_uri: str,
        now: datetime,
    ) -> Mapping[str, Any]:
        """Redeem a code and return the claims of the ID token that comes with it (Core section 3.1.3.7).

        Raises:
            NotAnswered: the provider answers otherwise, or its token is not good.
        """
        known = await self._of(provider.issuer)
        named = sent.get("iss")
        promised = known.metadata.get("authorization_response_iss_parameter_supported") is True
        if named != provider.issuer and (named is not None or promised):
            raise NotAnswered(f"the answer is of {str(named)[:80]}, not of {provider.issuer}")
        answer = await self._redeem(provider, secret, known, sent.get("code", ""), begun.verifier, redirect_uri)
        token = answer.get("id_token")
        if not isinstance(token, str):
            raise NotAnswered("its answer has no id_token")
        return await self._verified(provider, known, token, begun.nonce, now)

    async def _redeem(
        self, provider: Provider, secret: str, known: _Known, code: str, verifier: str, redirect_uri: str
    ) -> Mapping[str, Any]:
        form = {
            "grant_type": "authorization_code",
            "code": code,
            "redirect_uri": redirect_uri,
            "code_verifier": verifier,
            "client_id": provider.client_id,
        }
        headers = {"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
        methods = known.metadata.get("token_endpoint_auth_methods_supported", ["client_secret_basic"])
        if secret and "client_secret_basic" in methods:
            pair = f"{quote(provider.client_id, safe='')}:{quote(secret, safe='')}"
            headers["Authorization"] = f"Basic {base64.b64encode(pair.encode()).decode()}"
        elif secret:
            form["client_secret"] = secret
        return await self._asked("POST", self._endpoint(known, "token_endpoint"), headers, urlencode(form))

    async def _verified(
        self, provider: Provider, known: _Known, token: str, nonce: str, now: datetime
    ) -> Mapping[str, Any]:
        try:
            said = read_assertion(token, name="ID token")
            check_reading(said, [provider.client_id], now, LONGEST_TOKEN_LIFE)
        except NotProven as error:
            raise NotAnswered(error.detail) from error
        if said.claim("iss") != provider.issuer:
            raise NotAnswered("its ID token is of another issuer")
        if not compare_digest(said.claim("nonce").encode(), nonce.encode()):
            raise NotAnswered("its ID token was made for another sign-in")
        if not signed_by(said, known.keys):
            # Perhaps by a key that is new.
            known = await self._of(provider.issuer, older_than=AGAIN_SECONDS)
            if not signed_by(said, known.keys):
                raise NotAnswered("no key of it made the signature of its ID token")
        return said.claims

    async def _of(self, issuer: str, older_than: float = KEPT_SECONDS) -> _Known:
        known = self._known.get(issuer)
        if known is not None and time.monotonic() - known.read_at < older_than:
            return known
        away_since, said = self._away.get(issuer, (float("-inf"), ""))
        if time.monotonic() - away_since < AGAIN_SECONDS:
            raise NotAnswered(said)
        if len(self._known) + len(self._away) >= MOST_KEPT:
            self._known.clear()
            self._away.clear()
        try:
            made = self._known[issuer] = await self._read(issuer)
        except NotAnswered as error:
            self._away[issuer] = (time.monotonic(), str(error))
            raise
        return made

    async def _read(self, issuer: str) -> _Known:
        headers = {"Accept": "application/json"}
        metadata = await self._asked("GET", f"{issuer.rstrip('/')}/.well-known/openid-configuration", headers)
        if metadata.get("issuer") != issuer:
            raise NotAnswered("its metadata is of another issuer")
        try:
            keys = key_set(await self._asked("GET", str(metadata.get("jwks_uri", "")), headers))
        except BadInput as error:
            raise NotAnswered(f"its keys cannot be read: {error.message}") from error
        return _Known(metadata, keys, time.monotonic())

    def _endpoint(self, known: _Known, name: str) -> str:
        return self._fit(str(known.metadata.get(name, "")))

    def _fit(self, address: str) -> str:
        """Return an address that may be spoken to: by https, or http to an inner host that a setting names."""
        try:
            parts = read_address(address.partition("?")[0])
        except UnfitAddress as error:
            raise NotAnswered(f"it names no address: {error}") from error
        if parts.scheme != "https" and parts.host not in self._inner_hosts:
            raise NotAnswered(f"{parts.host} is not reached by https")
        return address

    async def _asked(
        self, method: str, address: str, headers: Mapping[str, str], content: str | None = None
    ) -> Mapping[str, Any]:
        try:
            heard = await self._egress.ask(
                method,
                self._fit(address),
                seconds=WAIT_SECONDS,
                max_bytes=LONGEST_ANSWER,
                whole=True,
                headers=headers,
                content=content,
            )
            found = read_json(heard.body)
        except (NotSpokenTo, UnfitText) as error:
            raise NotAnswered(f"{address[:120]}: {error}") from error
        if not heard.is_success or not isinstance(found, dict):
            said = found.get("error", "") if isinstance(found, dict) else ""
            raise NotAnswered(f"{address[:120]} answered {heard.status} {str(said)[:60]}")
        return found
