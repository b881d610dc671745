"""An API that was called for a person calls another for the same person: a token exchange, read to the letter.

RFC 8693 sections 2.1 and 4.1. What comes of it is for the person alone, at one further resource, and says by way of
which clients it came.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from jamb.core.authorization.refused import RequestRefused

ACCESS_TOKEN = "urn:ietf:params:oauth:token-type:access_token"  # noqa: S105 - the name of a type
_TYPES = frozenset({ACCESS_TOKEN, "urn:ietf:params:oauth:token-type:jwt"})
# From API to API; a longer way is a circle, or nobody's design.
MOST_WAYS = 4


@dataclass(frozen=True, slots=True)
class ExchangeAsked:
    """What a client wants for a token that it was sent. `scope` None: all that it may do there for the person."""

    subject_token: str
    resource: str
    scope: frozenset[str] | None


def read_exchange(sent: Mapping[str, str], resources: Sequence[str]) -> ExchangeAsked:
    """Return what is asked, from parameters each of which was sent once (`resource`: as often as it was sent).

    Raises:
        RequestRefused: something is missing, or is not offered here.
    """
    for name in ("subject_token", "subject_token_type"):
        if not sent.get(name):
            raise RequestRefused("invalid_request", f"The parameter {name} is missing.")
    if sent.get("actor_token") or sent.get("actor_token_type"):
        described = "The parameter actor_token is not supported: the client that asks is the one that acts."
        raise RequestRefused("invalid_request", described)
    if sent["subject_token_type"] not in _TYPES:
        raise RequestRefused("invalid_request", f"The parameter subject_token_type must be {ACCESS_TOKEN}.")
    if sent.get("requested_token_type", ACCESS_TOKEN) not in {"", *_TYPES}:
        raise RequestRefused("invalid_request", f"The parameter requested_token_type must be {ACCESS_TOKEN}.")
    targets = {*resources, *([sent["audience"]] if sent.get("audience") else [])}
    if len(targets) != 1:
        said = "Name one resource: a token is for one." if targets else "The parameter resource is missing."
        raise RequestRefused("invalid_target", said)
    scope = sent.get("scope")
    return ExchangeAsked(sent["subject_token"], targets.pop(), frozenset(scope.split()) if scope else None)


def ways_of(claims: Mapping[str, Any]) -> tuple[str, ...]:
    """Return the ids of the clients by way of which a token came, the last one first (section 4.1)."""
    found: list[str] = [str(claims["client_id"])]
    acting = claims.get("act")
    while isinstance(acting, Mapping) and len(found) <= MOST_WAYS:
        if acting.get("sub") != found[-1]:
            found.append(str(acting.get("sub")))
        acting = acting.get("act")
    return tuple(found)


def acting(ways: Sequence[str]) -> dict[str, Any]:
    """Return the claim `act` of a token that comes by way of these clients, the last one first."""
    told: dict[str, Any] = {}
    for client_id in reversed(ways):
        told = {"sub": client_id, **({"act": told} if told else {})}
    return told
