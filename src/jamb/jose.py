"""A signed JWT in its compact form (RFC 7515 section 3.1, RFC 7519), read once, checked strictly, and quickly.

The algorithms are PyJWT's. Its `decode` is not used where every call has a token: it looks at each character by itself,
which takes as long as the signature. A test holds that whatever is taken here is taken there.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Collection, Mapping
from math import isfinite
from typing import Any, NamedTuple

import jwt
from jwt.algorithms import get_default_algorithms

_ALGORITHMS = get_default_algorithms()


class NotGood(ValueError):
    """It is no signed JWT, its signature does not fit, or a claim that must be there is not, or is of another type."""


class Expired(NotGood):
    """Its end has come (RFC 7519 section 4.1.4)."""


class WrongIssuer(NotGood):
    """It is from another issuer (section 4.1.1)."""


class WrongAudience(NotGood):
    """It is for another audience (section 4.1.3)."""


class Signed(NamedTuple):
    """A JWT as it was sent, of which nothing is believed yet. `claims`: the text of a JSON object, perhaps."""

    header: Mapping[str, Any]
    claims: bytes
    signed: bytes
    signature: bytes


def _no_number(name: str) -> float:
    raise NotGood(f"{name} is no JSON")


# RFC 8259 section 6 has no NaN, which is neither before nor after any moment.
_JSON = json.JSONDecoder(parse_constant=_no_number)


def object_of(text: bytes) -> Mapping[str, Any]:
    """Return the members of a JSON object in UTF-8. Raises `NotGood` for anything else."""
    try:
        found = _JSON.decode(text.decode())
    except (ValueError, RecursionError) as error:
        raise NotGood("a part of it is no JSON") from error
    if not isinstance(found, dict):
        raise NotGood("a part of it is no JSON object")
    return found


def header_of(part: bytes, object_of: Callable[[bytes], Mapping[str, Any]] = object_of) -> Mapping[str, Any]:
    """Return what the first part of a JWT says. Raises `NotGood` for none, and for one not understood."""
    found = object_of(decoded(part))
    # RFC 7515 section 4.1.11: no extension is understood here; RFC 7797, whose `b64` is one, neither.
    if "crit" in found or "b64" in found or not isinstance(found.get("kid", ""), str):
        raise NotGood("its header is not understood")
    return found


def read(token: str, header_of: Callable[[bytes], Mapping[str, Any]] = header_of) -> Signed:
    """Return the parts of a JWT. Raises `NotGood` where it is none.

    Args:
        header_of: reads the first part; a caller who sees the same ones again and again may keep what they say.
    """
    try:
        sent = token.encode("ascii")
        head, claims, signature = sent.split(b".")
    except ValueError as error:
        raise NotGood("it has not three parts of base64url") from error
    return Signed(header_of(head), decoded(claims), sent[: len(head) + 1 + len(claims)], decoded(signature))


def decoded(part: bytes) -> bytes:
    """Return what base64url stands for (RFC 7515 section 2: without padding). Raises `NotGood` for anything else.

    What does not read is passed over by the decoder, so only what is written as it would be written again was all read.
    """
    try:
        found = base64.urlsafe_b64decode(part + b"=" * (-len(part) % 4))
    except ValueError as error:
        raise NotGood("a part of it is not base64url") from error
    if base64.urlsafe_b64encode(found).rstrip(b"=") != part:
        raise NotGood("a part of it is not base64url")
    return found


def fits(token: Signed, algorithm: str, key: Any) -> bool:
    """Tell whether a public key made the signature by the algorithm that the token must name (RFC 8725 section 3.1)."""
    if token.header.get("alg") != algorithm:
        return False
    how = _ALGORITHMS[algorithm]
    try:
        return how.verify(token.signed, how.prepare_key(key), token.signature)
    except (jwt.PyJWTError, ValueError, TypeError):
        return False


def judge(
    claims: Mapping[str, Any],
    issuers: Collection[str],
    audiences: Collection[str] | None,
    now: float,
    *,
    required: Collection[str],
    skew: float = 0,
    ended: bool = False,
    ahead: bool = False,
) -> None:
    """Raise `NotGood`, or what says more, unless the claims are whole, in force, of an issuer and for an audience.

    Args:
        audiences: None: whoever it is for. `now`, `skew`: seconds; by so much clocks may differ.
        ended, ahead: whether it may have run out, or say that it was issued later than now.
    """
    for name in required:
        if claims.get(name) is None:
            raise NotGood(f"its {name} is missing")
    for name in ("sub", "jti"):
        if not isinstance(claims.get(name, ""), str):
            raise NotGood(f"its {name} is no text")
    for name in ("nbf",) if ahead else ("nbf", "iat"):
        starts = seconds_of(claims, name)
        if starts is not None and starts > now + skew:
            raise NotGood("it is from the future")
    ends = seconds_of(claims, "exp")
    if not ended and ends is not None and ends <= now - skew:
        raise Expired("it has run out")
    issuer = claims.get("iss")
    if not isinstance(issuer, str) or issuer not in issuers:
        raise WrongIssuer("it is from another issuer")
    if audiences is not None and not _meant(claims.get("aud"), audiences):
        raise WrongAudience("it is for another audience")


def _meant(named: Any, audiences: Collection[str]) -> bool:
    """Tell whether one of these audiences is named (RFC 7519 section 4.1.3: a text, or a list of texts)."""
    if isinstance(named, str):
        return named in audiences
    texts = isinstance(named, list) and all(isinstance(one, str) for one in named)
    return texts and any(one in audiences for one in named)


def seconds_of(claims: Mapping[str, Any], name: str) -> float | None:
    """Return a NumericDate (RFC 7519 section 2), or None where there is none. Raises `NotGood` for anything else.

    A null is no number either: whoever sends it means to say something.
    """
    if name not in claims:
        return None
    found = claims[name]
    if type(found) is int or (type(found) is float and isfinite(found)):
        return found
    raise NotGood(f"its {name} is no number of seconds")
