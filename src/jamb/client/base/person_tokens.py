"""Tokens of a person, renewed before they run out: once for all threads, tasks and processes that share them.

The refresh token that follows takes the place of the last (RFC 6749 section 6); the last counts no more.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from contextlib import nullcontext
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import httpx

from jamb.client.base.auth import post, unreachable
from jamb.client.base.flows import proven
from jamb.client.base.kept_tokens import KeptTokens, TokenStore, alone
from jamb.client.base.one_renewal import OneRenewal, Steps, Turn
from jamb.client.base.trust import trusted
from jamb.core.errors import NotSignedIn, ServiceUnreachable

if TYPE_CHECKING:
    from jamb.client.base.dpop import ProofKey

_RENEW_BEFORE_SECONDS = 30


@dataclass(frozen=True, slots=True)
class Issuer:
    """Where an issuer answers, from its metadata (RFC 8414, OpenID Connect Discovery)."""

    issuer: str
    authorization_endpoint: str
    token_endpoint: str
    device_authorization_endpoint: str

    @classmethod
    def read(cls, issuer: str) -> Issuer:
        """Return the endpoints of an issuer. Raises `ServiceUnreachable` where nothing of the kind answers."""
        url = f"{issuer.rstrip('/')}/.well-known/openid-configuration"
        try:
            told: dict[str, Any] = httpx.get(url, timeout=15, verify=trusted(url)).raise_for_status().json()
        except httpx.TransportError as error:
            raise unreachable(url, error) from error
        except (httpx.HTTPStatusError, ValueError) as error:
            raise ServiceUnreachable(f"{url} does not answer as an issuer does.") from error
        # RFC 8414 section 3.3: one that says it is another is not believed.
        if told.get("issuer") != issuer.rstrip("/"):
            raise ServiceUnreachable(f"{url} is of another issuer, {str(told.get('issuer'))[:120]}.")
        return cls(
            told["issuer"],
            told["authorization_endpoint"],
            told["token_endpoint"],
            told["device_authorization_endpoint"],
        )


@dataclass(frozen=True, slots=True)
class PersonSignIn:
    """What a program wants a person to sign in for. Kept tokens count for the very same alone.

    `proof_key`: tokens are bound to it (RFC 9449). `kept`: where they are kept for other runs and processes.
    """

    issuer: Issuer
    client_id: str
    scope: str = ""
    resource: str = ""
    proof_key: ProofKey | None = None
    kept: TokenStore | None = None

    def kept_tokens(self) -> KeptTokens | None:
        known = KeptTokens.read(self.kept.read()) if self.kept is not None else None
        return known if known is not None and self._keeping(known.answer()) == known else None

    def keep(self, answer: Mapping[str, Any]) -> None:
        if self.kept is not None:
            self.kept.write(self._keeping(answer).text())

    def _keeping(self, answer: Mapping[str, Any]) -> KeptTokens:
        return KeptTokens(
            self.issuer.issuer,
            self.client_id,
            self.scope,
            self.resource,
            self.proof_key.thumbprint if self.proof_key is not None else "",
            str(answer["access_token"]),
            str(answer.get("refresh_token", "")),
            float(answer.get("expires_at") or time.time() + float(answer["expires_in"])),
        )


class PersonTokens(OneRenewal):
    """Sends a person's access token, and renews it before it runs out. Safe to share between threads and tasks."""

    def __init__(self, wanted: PersonSignIn, answer: Mapping[str, Any]) -> None:
        super().__init__()
        self._wanted = wanted
        self._take(answer)

    def __repr__(self) -> str:
        return f"{type(self).__name__}(client_id={self.client_id!r})"

    @property
    def client_id(self) -> str:
        return self._wanted.client_id

    @property
    def access_token(self) -> str:
        """An access token that still lives for a while. Raises `NotSignedIn` where it cannot be renewed."""
        if time.monotonic() >= self._ends:
            with self._lock:
                if time.monotonic() >= self._ends:
                    self._renew()
        return self._access

    def _steps(self, request: httpx.Request) -> Steps:
        if time.monotonic() >= self._ends:
            yield from self._renewed(self._access)
        held = self._access
        answer = yield from proven(request, self._wanted.proof_key, held)
        if answer.status_code == httpx.codes.UNAUTHORIZED:
            yield from self._renewed(held)
            yield from proven(request, self._wanted.proof_key, self._access)

    def _renewed(self, known: str) -> Steps:
        """Renew the tokens, unless another flow did meanwhile."""
        yield Turn.TAKE
        yield self._renew if self._access == known else Turn.GIVE

    def _take(self, answer: Mapping[str, Any]) -> None:
        self._access = str(answer["access_token"])
        self._refresh = str(answer.get("refresh_token", ""))
        self._ends = time.monotonic() + float(answer["expires_in"]) - _RENEW_BEFORE_SECONDS

    def _renew(self) -> None:
        kept = self._wanted.kept
        with alone(kept) if kept is not None else nullcontext():
            known = self._wanted.kept_tokens()
            if known is not None and known.access_token != self._access:
                # Another process renewed them, and used up the refresh token that is held here.
                self._take(known.answer())
                if time.monotonic() < self._ends:
                    return
            answer = self._fresh()
            # The one before counts no more, whether this one can be kept or not.
            self._take(answer)
            self._wanted.keep(answer)

    def _fresh(self) -> Mapping[str, Any]:
        if not self._refresh:
            step = "Sign in again; ask for offline_access to stay signed in."
            raise NotSignedIn("The token has run out.", next_step=step)
        form = {"grant_type": "refresh_token", "refresh_token": self._refresh, "client_id": self.client_id}
        answer = post(self._wanted.issuer.token_endpoint, form, self._wanted.proof_key)
        return {"refresh_token": self._refresh, **answer}


def signed_in(wanted: PersonSignIn, sign_in: Callable[[], Mapping[str, Any]]) -> PersonTokens:
    """Return the tokens that are kept, where they still count; else those of a sign-in, and keep them.

    Args:
        sign_in: asks the person, and returns the answer of the token endpoint.
    """
    # Whether anything can be kept is seen before anybody is asked.
    with alone(wanted.kept) if wanted.kept is not None else nullcontext():
        known = wanted.kept_tokens()
    if known is not None:
        held = PersonTokens(wanted, known.answer())
        try:
            _ = held.access_token
        except NotSignedIn:
            # It ran out, or the person ended it: they are asked anew.
            pass
        else:
            return held
    answer = sign_in()
    with alone(wanted.kept) if wanted.kept is not None else nullcontext():
        wanted.keep(answer)
    return PersonTokens(wanted, answer)
