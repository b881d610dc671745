"""Is this access token good for this API, and does it carry the permission? RFC 9068 section 4, RFC 6750 section 3.1.

1. the header names a JWT access token and an asymmetric algorithm that we accept
2. the signature fits a key of the issuer
3. issuer, audience and lifetime fit
4. what the issuer took away since is left out (its revocations, `jamb.guard.reach`)
5. the scope carries one of the permissions that unlock the operation, and it counts for the object (RFC 9396)
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any

import jwt

from jamb import jose
from jamb.guard.reach import Limits, Revocations, limits_of, within
from jamb.guard.refusals import Refused

# Only asymmetric ones: with these a guard cannot be tricked into checking a signature with a public key as a secret.
ALGORITHMS = ("ES256", "RS256", "EdDSA")
CLOCK_SKEW_SECONDS = 30
# RFC 9068 section 2.2.
REQUIRED = ("iss", "exp", "aud", "sub", "client_id", "iat", "jti")
LONGEST_TOKEN = 8192
# Of so many headers what they say is kept: an issuer has a few keys. What a stranger pushes out is only read again.
HEADERS_KEPT = 64
# Of clients that passed a token on, those that came last.
MOST_WAYS = 8
# Made by the issuer to try a client: everything is checked as for an access token, and then nothing is done.
PROBE_TYPE = "probe+jwt"


@dataclass(frozen=True, slots=True)
class TokenClaims:
    """What a verified token says. `limits`: where permissions count; one that is not named counts everywhere.

    `probe`: it asks whether it would be let in, and must be let in nowhere. `key`: thumbprint of the key that whoever
    sends it must hold (RFC 9449 section 6.1); empty: of none. `by_way_of`: ids of the clients that passed on what the
    person allowed (RFC 8693 section 4.1), the last one first; empty: the client was allowed it itself. `certificate`:
    thumbprint of the one that must hold the connection (RFC 8705 section 3.1); empty: of none.
    """

    client_id: str
    subject: str
    scope: frozenset[str]
    issued_at: int
    expires_at: int
    limits: Mapping[str, Limits] = field(default_factory=dict)
    members: Mapping[str, frozenset[str]] = field(default_factory=dict)
    probe: bool = False
    key: str = ""
    by_way_of: tuple[str, ...] = ()
    certificate: str = ""

    def reaches(self, permission: str, name: str) -> bool:
        """Tell whether a permission that the token carries counts for this object: to show only what may be seen."""
        return permission in self.scope and within(self.limits.get(permission, ()), name, self.members)

    @property
    def delegated(self) -> bool:
        """Tell whether the client acts for somebody else than itself (RFC 9068 section 2.2)."""
        return self.subject != self.client_id


def verify(
    token: str,
    issuer: str | Sequence[str],
    audience: str,
    key_of: Callable[[str], jwt.PyJWK | None],
    *,
    probes: bool = False,
) -> TokenClaims:
    """Return the claims of a good token, or raise `Refused` with error invalid_token.

    Args:
        issuer: of several, each is good: while an issuer moves to another address.
        key_of: returns the issuer's key of an id, or None when the issuer has no such key.
        probes: whether the caller knows what to do with the claims of a probe: to let it in nowhere.
    """
    if len(token) > LONGEST_TOKEN:
        raise _invalid("the token is too long")
    try:
        read = jose.read(token, _header)
    except jose.NotGood as error:
        raise _invalid("the token is not a JWT") from error
    header = read.header
    kind = str(header.get("typ", "")).lower().removeprefix("application/")
    if kind != "at+jwt" and not (probes and kind == PROBE_TYPE):
        raise _invalid("the token is not an access token")
    if header.get("alg") not in ALGORITHMS:
        raise _invalid("the token's algorithm is not accepted")
    key = key_of(str(header.get("kid", "")))
    if key is None:
        raise _invalid("the token is signed with a key that the issuer does not publish")
    claims = _judged(read, key, (issuer,) if isinstance(issuer, str) else issuer, audience)
    key_bound, certificate = _confirmed(claims.get("cnf"))
    return TokenClaims(
        str(claims["client_id"]),
        str(claims["sub"]),
        frozenset(str(claims.get("scope", "")).split()),
        int(claims["iat"]),
        int(claims["exp"]),
        _limits(claims.get("authorization_details")),
        probe=kind == PROBE_TYPE,
        key=key_bound,
        certificate=certificate,
        by_way_of=_ways(claims),
    )


# What the first part of a token says, which all tokens of a key have in common.
_header = lru_cache(maxsize=HEADERS_KEPT)(jose.header_of)


def _judged(read: jose.Signed, key: jwt.PyJWK, issuers: Sequence[str], audience: str) -> Mapping[str, Any]:
    """Return the claims if the key signed them, and they are in force and for this audience."""
    if not jose.fits(read, key.algorithm_name, key.key):
        raise _invalid("the token does not verify")
    try:
        claims = jose.object_of(read.claims)
        jose.judge(claims, issuers, (audience,), time.time(), required=REQUIRED, skew=CLOCK_SKEW_SECONDS)
    except jose.Expired as error:
        raise _invalid("the token has run out") from error
    except jose.WrongAudience as error:
        raise _invalid("the token is for another resource") from error
    except jose.WrongIssuer as error:
        raise _invalid("the token is from another issuer") from error
    except jose.NotGood as error:
        raise _invalid("the token does not verify") from error
    return claims


def _confirmed(confirmed: Any) -> tuple[str, str]:
    """Return the key and the certificate that a token is bound to, each empty where it is to none."""
    if confirmed is None:
        return "", ""
    members = confirmed if isinstance(confirmed, Mapping) else {}
    key, certificate = members.get("jkt", ""), members.get("x5t#S256", "")
    known = isinstance(key, str) and isinstance(certificate, str) and members.keys() <= {"jkt", "x5t#S256"}
    if not known or not (key or certificate):
        # RFC 7800 section 3.1: what is not understood is not ignored.
        raise _invalid("the token is bound in a way that this API does not understand")
    return key, certificate


def _ways(claims: Mapping[str, Any]) -> tuple[str, ...]:
    """Return who passed it on (RFC 8693 section 4.1); the client itself, which stands first, is not said again."""
    found: list[str] = []
    acting = claims.get("act")
    while isinstance(acting, Mapping) and len(found) < MOST_WAYS:
        found.append(str(acting.get("sub", "")))
        acting = acting.get("act")
    return tuple(found[1:] if found[:1] == [claims["client_id"]] else found)


def _limits(details: Any) -> Mapping[str, Limits]:
    try:
        return limits_of(details)
    except (ValueError, TypeError) as error:
        # RFC 9396 section 5: details that are not understood are not ignored.
        raise _invalid("the token is bounded in a way that this API does not understand") from error


def bounded(claims: TokenClaims, revocations: Revocations | None) -> TokenClaims:
    """Return the claims with what the issuer took away since, or raise `Refused` when nothing is left.

    Without revocations a token that is bounded cannot be judged: it is refused until there are some.
    """
    if revocations is None:
        if claims.limits:
            raise Refused(
                503, "temporarily_unavailable", "the API cannot judge bounded tokens yet", reason="no-revocations"
            )
        return claims
    further = revocations.taken_away(claims.client_id, claims.subject, claims.issued_at)
    if further is None:
        raise Refused(401, "invalid_token", "the token was revoked: fetch a new one", reason="revoked")
    if not claims.limits and not further:
        # What counts everywhere needs no members of collections.
        return claims
    limits = {name: (*claims.limits.get(name, ()), *further.get(name, ())) for name in {*claims.limits, *further}}
    return replace(claims, limits=limits, members=revocations.members)


def require_permission(claims: TokenClaims, any_of: Iterable[str], name: str | None = None) -> None:
    """Raise `Refused` with error insufficient_scope unless the token carries one of the permissions.

    Args:
        name: the object of the request; one of the permissions must count for it.
    """
    names = list(any_of)
    carried = [one for one in names if one in claims.scope]
    # A permission that was taken away altogether counts nowhere: its limits have a part that nothing fits.
    counting = [one for one in carried if all(claims.limits.get(one, ()))]
    if carried and not counting:
        described = f"the permission {carried[0]} was withdrawn: fetch a new token"
        raise Refused(403, "insufficient_scope", described, carried[0], reason="withdrawn")
    if name is not None and counting and not any(claims.reaches(one, name) for one in counting):
        described = f"the permission {counting[0]} does not reach {_quotable(name)}"
        raise Refused(403, "insufficient_scope", described, counting[0], reason="reach")
    if not carried:
        raise Refused(
            403, "insufficient_scope", f"the token lacks the permission {' or '.join(names)}", " ".join(names[:1])
        )


def _quotable(name: str) -> str:
    """Return an object's name fit for a quoted string of a header (RFC 6750 section 3)."""
    return "".join(ch if " " <= ch <= "~" and ch not in '"\\' else "?" for ch in name[:80])


def _invalid(description: str) -> Refused:
    return Refused(401, "invalid_token", description)
