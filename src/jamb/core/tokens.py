"""Access tokens: the second of their issue; and reading one for people, every claim in words.

Reading is not verifying: whether the signature fits is the business of whoever is shown the token. The table is the one
place for the words; the console reads it from the service, so that a token never has to leave the browser.
"""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from jamb.core.errors import BadInput

LONGEST = 20_000


@dataclass(frozen=True, slots=True)
class ClaimWords:
    """What a header or claim is called in words, what it means, and where the standards say so."""

    name: str
    title: str
    words: str
    source: str


CLAIMS: Mapping[str, ClaimWords] = {
    one.name: one
    for one in (
        ClaimWords("typ", "Type", "at+jwt is an access token; probe+jwt serves a probe alone", "RFC 9068 2.1"),
        ClaimWords("alg", "Signed by", "the algorithm of the signature", "RFC 7515 4.1.1"),
        ClaimWords("kid", "Key", "which of the issuer's keys signed it", "RFC 7515 4.1.4"),
        ClaimWords("iss", "Issuer", "who made it: the directory", "RFC 9068 2.2"),
        ClaimWords("aud", "Audience", "the one resource that it is for", "RFC 9068 2.2"),
        ClaimWords("sub", "Subject", "for whom: the client itself, or the person it acts for", "RFC 9068 2.2"),
        ClaimWords("client_id", "Client", "the client that asked for it", "RFC 8693 4.3"),
        ClaimWords("scope", "Permissions", "what it may do there, with all that is implied", "RFC 9068 2.2.3"),
        ClaimWords(
            "authorization_details",
            "Reach",
            "where permissions count; one that is not named counts everywhere",
            "RFC 9396 9.1",
        ),
        ClaimWords("iat", "Issued", "when it was made; what was granted later is not in it", "RFC 7519 4.1.6"),
        ClaimWords("nbf", "Not before", "it is refused before", "RFC 7519 4.1.5"),
        ClaimWords("exp", "Runs out", "it is refused from then on", "RFC 7519 4.1.4"),
        ClaimWords("jti", "Token id", "tells this token from every other", "RFC 7519 4.1.7"),
        ClaimWords("act", "By way of", "the clients that pass it on, the last one first", "RFC 8693 4.1"),
        ClaimWords("cnf", "Bound to", "the key that whoever sends it must hold", "RFC 7800 3.1"),
        ClaimWords("sid", "Sign-in", "the sign-in that it belongs to, and ends with", "OpenID Connect Front-Channel 3"),
    )
}
_MOMENTS = frozenset({"iat", "nbf", "exp"})


@dataclass(frozen=True, slots=True)
class ReadClaim:
    """One claim as it stands, and as people say it."""

    name: str
    title: str
    value: str
    words: str
    source: str


@dataclass(frozen=True, slots=True)
class TokenReading:
    """`wrong`: what a resource would refuse it for, by its text alone."""

    header: tuple[ReadClaim, ...]
    claims: tuple[ReadClaim, ...]
    wrong: tuple[str, ...]


def issue_second(now: datetime, narrowed_at: datetime | None) -> int:
    """Return the second of issue. In the second in which something was taken away it is the next one.

    What was taken away is refused to tokens of that second and before it; a token made after it must not look as old.
    """
    second = int(now.timestamp())
    return second if narrowed_at is None else max(second, int(narrowed_at.timestamp()) + 1)


def read_token(text: str, now: datetime) -> TokenReading:
    """Return what a token says. Raises `BadInput` for what is no JWT; the token is never repeated."""
    token = text.strip()
    if token.lower().startswith("bearer "):
        token = token[7:].strip()
    parts = token.split(".")
    if len(parts) != 3 or len(token) > LONGEST:
        allowed = "three parts with dots between, as eyJ….eyJ….abc"
        raise BadInput.field("token", "(not shown)", allowed, "Copy it whole, without quotes or line ends.")
    header, claims = (_part(part, name) for part, name in ((parts[0], "header"), (parts[1], "claims")))
    return TokenReading(_read(header, now), _read(claims, now), tuple(_wrong(header, claims, now)))


def _part(text: str, name: str) -> dict[str, Any]:
    try:
        found = json.loads(base64.urlsafe_b64decode(text + "=" * (-len(text) % 4)))
    except (binascii.Error, ValueError) as error:
        allowed = "a JWT whose parts are base64url of JSON"
        raise BadInput.field("token", f"(not shown; its {name} cannot be read)", allowed, "Copy it whole.") from error
    if not isinstance(found, dict):
        raise BadInput.field("token", f"(not shown; its {name} are no object)", "a JWT")
    return found


def _read(members: Mapping[str, Any], now: datetime) -> tuple[ReadClaim, ...]:
    order = {name: place for place, name in enumerate(CLAIMS)}
    found = []
    for name in sorted(members, key=lambda one: order.get(one, len(order))):
        value, known = members[name], CLAIMS.get(name)
        shown = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
        title = known.title if known else name
        words = known.words if known else "not one that Jamb makes"
        found.append(ReadClaim(name, title, _said(name, value, shown, now), words, known.source if known else ""))
    return tuple(found)


def _said(name: str, value: Any, shown: str, now: datetime) -> str:
    if name in _MOMENTS and isinstance(value, (int, float)) and abs(value) < 1e11:
        moment = datetime.fromtimestamp(value, UTC)
        minutes = round((moment - now).total_seconds() / 60)
        return f"{moment:%Y-%m-%d %H:%M:%S} UTC ({_distance(minutes)})"
    if name == "authorization_details" and isinstance(value, list):
        return "; ".join(_reach(one) for one in value if isinstance(one, dict)) or shown
    return shown


def _distance(minutes: int) -> str:
    if minutes == 0:
        return "now"
    size, unit = (abs(minutes), "minute") if abs(minutes) < 120 else (abs(minutes) // 60, "hour")
    words = f"{size} {unit}{'' if size == 1 else 's'}"
    return f"in {words}" if minutes > 0 else f"{words} ago"


def _reach(entry: Mapping[str, Any]) -> str:
    names = ", ".join(map(str, entry.get("privileges", ())))
    if "only" in entry:
        return f"{names} only in {', '.join(map(str, entry['only']))}"
    if "all_but" in entry:
        return f"{names} in all but {', '.join(map(str, entry['all_but']))}"
    return f"{names} in a way that Jamb does not make"


def _wrong(header: Mapping[str, Any], claims: Mapping[str, Any], now: datetime) -> list[str]:
    found = []
    if str(header.get("typ", "")).lower() not in {"at+jwt", "application/at+jwt", "probe+jwt"}:
        found.append("Its type is not that of an access token: perhaps it is an ID token or an assertion.")
    if str(header.get("alg", "none")).lower() == "none":
        found.append("It is not signed: anyone could have made it.")
    missing = [name for name in ("iss", "aud", "sub", "client_id", "iat", "exp") if name not in claims]
    if missing:
        found.append(f"It lacks {', '.join(missing)}, which an access token must have.")
    seconds = now.timestamp()
    if isinstance(claims.get("exp"), (int, float)) and claims["exp"] <= seconds:
        found.append("It has run out: fetch another.")
    if isinstance(claims.get("nbf"), (int, float)) and claims["nbf"] > seconds:
        found.append("It does not count yet.")
    if isinstance(claims.get("iat"), (int, float)) and claims["iat"] > seconds + 60:
        found.append("It was made in the future: a clock is wrong.")
    return found
