"""Assertions by which clients prove themselves (RFC 7523), judged against the public keys that stand for a client.

The audience is this issuer, by its identifier or an endpoint of its own, and nobody else: an assertion that another
server could have been the audience of could be carried here by that server (decision 64).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Any

import jwt

from jamb import jose
from jamb.core.clients.attempts import Outcome
from jamb.core.jwt import read_signed
from jamb.core.text import UnfitText, line_fault, strings_in

ALGORITHMS = ("ES256", "ES384", "ES512", "RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "EdDSA")
LONGEST_ASSERTION = 8192
LONGEST_LIFE = timedelta(minutes=60)
LONGEST_OUTSIDE_LIFE = timedelta(hours=24)
CLOCK_SKEW = timedelta(seconds=60)
LONGEST_ID = 200
# RFC 8725 section 3.11: what was signed as something else is no assertion. An assertion says nothing of its type, that
# it is a JWT (RFC 7519 section 5.1), or that it is one (draft-ietf-oauth-rfc7523bis section 2).
TYPES = frozenset({"", "jwt", "client-authentication+jwt"})
# What of an assertion is compared, kept or shown.
_KEPT_HEADERS, _KEPT_CLAIMS = ("kid", "x5t#S256"), ("iss", "sub", "aud", "jti")


@dataclass(frozen=True, slots=True)
class Assertion:
    """An assertion as it was sent, read but not yet believed."""

    signed: jose.Signed
    algorithm: str
    key_ids: frozenset[str]
    claims: Mapping[str, Any]

    def claim(self, name: str) -> str:
        value = self.claims.get(name)
        return value if isinstance(value, str) else ""


@dataclass(frozen=True, slots=True)
class NotProven(Exception):
    """Why an assertion proves nothing: for the record (`detail`) and, as far as it leaks nothing, for the caller."""

    outcome: Outcome
    detail: str


def read_assertion(text: str, types: frozenset[str] = TYPES, name: str = "assertion") -> Assertion:
    """Return what an assertion says. Raises `NotProven` when it is no signed JWT, or of an algorithm not accepted.

    Args:
        types: what it may say that it is, in lower case. `name`: what it is called where it is refused.
    """
    if len(text) > LONGEST_ASSERTION:
        raise NotProven(Outcome.ASSERTION_MALFORMED, f"The {name} is longer than {LONGEST_ASSERTION} characters.")
    try:
        signed, claims = read_signed(text)
    except UnfitText as error:
        raise NotProven(Outcome.ASSERTION_MALFORMED, f"The {name} is no signed JWT of text.") from error
    header = signed.header
    for members, names in ((header, _KEPT_HEADERS), (claims, _KEPT_CLAIMS)):
        for member in names:
            fault = next(filter(None, map(line_fault, strings_in(members.get(member)))), "")
            if fault:
                raise NotProven(Outcome.ASSERTION_MALFORMED, f"The {name}'s {member} is no text: {fault}.")
    kind, algorithm = header.get("typ", ""), header.get("alg")
    if not isinstance(kind, str) or kind.lower().removeprefix("application/") not in types:
        raise NotProven(Outcome.ASSERTION_MALFORMED, f"The {name} was signed as something else: its typ is not JWT.")
    if algorithm not in ALGORITHMS:
        said = f"The {name}'s algorithm is not accepted; use one of {', '.join(ALGORITHMS)}."
        raise NotProven(Outcome.ASSERTION_MALFORMED, said)
    ids = {header[member] for member in ("kid", "x5t#S256") if isinstance(header.get(member), str)}
    return Assertion(signed, algorithm, frozenset(ids), claims)


def check_claims(
    assertion: Assertion, issuer: str, subject: str, audiences: Sequence[str], now: datetime, life: timedelta
) -> None:
    """Check what an assertion says of itself (RFC 7523 section 3).

    Args:
        audiences: names of ours, our issuer identifier first: whatever it is for must be one of them.
        life: the longest that it may still live.

    Raises:
        NotProven: with the claim that is wrong, what was sent and what is expected.
    """
    check_reading(assertion, audiences, now, life)
    for name, wanted in (("iss", issuer), ("sub", subject)):
        if assertion.claim(name) != wanted:
            said = f"The assertion's {name} is “{assertion.claim(name)[:120]}”, expected “{wanted[:120]}”."
            raise NotProven(Outcome.ASSERTION_ISSUER, said)


def check_reading(assertion: Assertion, audiences: Sequence[str], now: datetime, life: timedelta) -> None:
    """Check what can be seen of an assertion without knowing whose it is: for whom it was made, and when.

    Raises:
        NotProven: as `check_claims`. Whoever holds the assertion may be told: it tells of nothing that stands here.
    """

    def wrong(outcome: Outcome, said: str) -> NotProven:
        return NotProven(outcome, said)

    sent = assertion.claims.get("aud")
    named = sent if isinstance(sent, list) else [sent]
    if not named or any(name not in audiences for name in named):
        shown = ", ".join(str(name)[:120] for name in named[:3] if name) or "nothing"
        raise wrong(Outcome.ASSERTION_AUDIENCE, f"The assertion's aud is {shown}, expected {audiences[0]} alone.")
    ends = _moment(assertion, "exp")
    if ends is None:
        raise wrong(Outcome.ASSERTION_MALFORMED, "The assertion has no exp.")
    if ends <= now - CLOCK_SKEW:
        behind = f"It ended at {ends:%H:%M:%S} UTC and it is {now:%H:%M:%S}: is the client's clock right?"
        raise wrong(Outcome.ASSERTION_TIME, f"The assertion has run out. {behind}")
    if ends > now + life + CLOCK_SKEW:
        raise wrong(
            Outcome.ASSERTION_TIME, f"The assertion lives longer than {int(life.total_seconds() // 60)} minutes."
        )
    starts = max(filter(None, (_moment(assertion, "nbf"), _moment(assertion, "iat"))), default=None)
    if starts is not None and starts > now + CLOCK_SKEW:
        ahead = f"It starts at {starts:%H:%M:%S} UTC and it is {now:%H:%M:%S}: is the client's clock right?"
        raise wrong(Outcome.ASSERTION_TIME, f"The assertion is from the future. {ahead}")


def check_once(assertion: Assertion) -> str:
    """Return the id by which an assertion counts once (RFC 7523 section 3, item 7). Raises `NotProven` without one."""
    found = assertion.claim("jti")
    if not 1 <= len(found) <= LONGEST_ID:
        raise NotProven(Outcome.ASSERTION_MALFORMED, f"The assertion needs a jti of 1 to {LONGEST_ID} characters.")
    return found


def signed_by(assertion: Assertion, keys: Iterable[Mapping[str, Any]]) -> bool:
    """Tell whether one of these public keys made the signature. Only keys whose type fits the algorithm are tried."""
    rows = list(keys)
    named = [one for one in rows if assertion.key_ids & {one.get("kid"), one.get("x5t#S256")}]
    return any(_fits(assertion, one) for one in (named or ([] if assertion.key_ids else rows)))


def _fits(assertion: Assertion, jwk: Mapping[str, Any]) -> bool:
    try:
        members = tuple((name, jwk[name]) for name in ("kty", "crv", "x", "y", "n", "e") if name in jwk)
        return jose.fits(assertion.signed, assertion.algorithm, _key(members, assertion.algorithm).key)
    except (jwt.PyJWTError, ValueError, TypeError, KeyError):
        return False


@lru_cache(maxsize=10_000)
def _key(members: tuple[tuple[str, str], ...], algorithm: str) -> jwt.PyJWK:
    """Return a key ready to verify with: to make it costs more than to use it."""
    return jwt.PyJWK(dict(members), algorithm)


def _moment(assertion: Assertion, name: str) -> datetime | None:
    try:
        found = jose.seconds_of(assertion.claims, name)
        return datetime.fromtimestamp(found, UTC) if found is not None else None
    except (jose.NotGood, ValueError, OverflowError, OSError) as error:
        raise NotProven(Outcome.ASSERTION_MALFORMED, f"The assertion's {name} is not a number of seconds.") from error


def key_names(keys: Sequence[Mapping[str, Any]]) -> str:
    """Return the ids of keys as a hint."""
    return ", ".join(str(one.get("kid", "?"))[:24] for one in keys[:3]) + (" …" if len(keys) > 3 else "")
