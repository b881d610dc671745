"""A client proves itself by an assertion: signed with a key of its own, or by an issuer outside Jamb (RFC 7523).

1. find what stands for the client; nothing of the kind is said as such
2. check what the assertion says of itself: issuer, subject, audience, times
3. find the credential whose key signed it; keys at an address are fetched, and kept for a while
4. the credential stands: not withdrawn, not past its end, not disabled, not too early
5. an assertion of the client's own counts once
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from hashlib import sha256

from jamb.core.clients.attempts import Outcome
from jamb.core.credentials.assertions import (
    CLOCK_SKEW,
    LONGEST_LIFE,
    LONGEST_OUTSIDE_LIFE,
    Assertion,
    NotProven,
    check_claims,
    check_once,
    check_reading,
    signed_by,
)
from jamb.core.credentials.kinds import CredentialKind
from jamb.service.oauth.outside_keys import Unreachable
from jamb.service.oauth.request import NOT_PROVEN, TokenRequest
from jamb.store.entry.tokens import KEYS_OF, KeyHeld

# What the caller may learn before it has proved itself: what its own assertion shows, nothing of what stands here.
_SAID = {Outcome.ASSERTION_MALFORMED, Outcome.ASSERTION_AUDIENCE, Outcome.ASSERTION_TIME, Outcome.ASSERTION_REPLAYED}


async def prove_by_assertion(asked: TokenRequest, client_kind: str | None, held: Sequence[KeyHeld]) -> None:
    """Set the credential of the request, or refuse it and record why.

    Args:
        client_kind: None: there is no such client here. `held`: what it may prove itself with.
    """
    assertion = asked.proof.assertion
    assert assertion is not None
    life = LONGEST_OUTSIDE_LIFE if asked.proof.outside else LONGEST_LIFE
    try:
        # Before it is known whether there is such a client: what is heard then is the same.
        check_reading(assertion, _audiences(asked), asked.now, life)
        if client_kind is None:
            raise NotProven(Outcome.UNKNOWN_CLIENT, "no such client here")
        await _prove(asked, assertion, life, held)
    except NotProven as error:
        # RFC 7521 section 4.1: a grant that is not good is invalid_grant; a client that is not proven, invalid_client.
        code = "invalid_grant" if asked.proof.outside else "invalid_client"
        described = error.detail if error.outcome in _SAID else NOT_PROVEN
        raise await asked.refuse(error.outcome, code, described, error.detail) from error


async def prove_by_certificate(asked: TokenRequest, client_kind: str | None, keys: Sequence[KeyHeld]) -> None:
    """The certificate with which the client holds the connection is one that stands for it (RFC 8705 section 2.2).

    The tokens that it gets are bound to it (section 3).
    """
    try:
        if client_kind is None:
            raise NotProven(Outcome.UNKNOWN_CLIENT, "no such client here")
        held = _of_kind(keys, outside=False)
        named = [key for key in held if any(one.get("x5t#S256") == asked.proof.certificate for one in key.keys or ())]
        if not named:
            said = f"no certificate of the client has the thumbprint {asked.proof.certificate}"
            raise NotProven(Outcome.ASSERTION_KEY, said)
        found = next((key for key in named if _stands(key, asked.now)), named[0])
        asked.hint = found.hint
        refuse_fallen(found, asked.now)
    except NotProven as error:
        raise await asked.refuse(error.outcome, "invalid_client", NOT_PROVEN, error.detail) from error
    asked.credential_id, asked.certificate = found.id, asked.proof.certificate


async def _prove(asked: TokenRequest, assertion: Assertion, life: timedelta, keys: Sequence[KeyHeld]) -> None:
    client_id, outside = asked.proof.client_id, asked.proof.outside
    held = _of_kind(keys, outside=outside)
    audiences = _audiences(asked)
    if outside:
        named = [one for one in held if (one.issuer, one.subject) == (assertion.claim("iss"), assertion.claim("sub"))]
        held = named or held[:1]
        issuer, subject = held[0].issuer, held[0].subject
    else:
        issuer, subject = client_id, client_id
    check_claims(assertion, issuer, subject, audiences, asked.now, life)
    found = await _signer(asked, assertion, held)
    asked.hint = found.hint
    refuse_fallen(found, asked.now)
    if not outside:
        await _refuse_replay(asked, assertion)
    asked.credential_id = found.id


async def keys_of(asked: TokenRequest) -> list[KeyHeld]:
    """Return what the client may prove itself with, beside secrets."""
    rows = await asked.runtime.reader.rows(KEYS_OF, {"slug": asked.slug, "client": asked.proof.client_id})
    return [KeyHeld(*row) for row in rows]


def _of_kind(keys: Sequence[KeyHeld], *, outside: bool) -> list[KeyHeld]:
    """Return what stands for the client. Raises `NotProven` where nothing of the kind does."""
    held = [one for one in keys if (one.kind == CredentialKind.ISSUER) is outside]
    if not held:
        what = "trust in an outside issuer" if outside else "certificate or key set"
        raise NotProven(Outcome.NO_KEYS, f"the client has no {what}")
    return held


async def signer_of(asked: TokenRequest, assertion: Assertion, *, outside: bool) -> KeyHeld:
    """Return the credential whose key signed something of the client's. Raises `NotProven` where none did."""
    return await _signer(asked, assertion, _of_kind(await keys_of(asked), outside=outside))


def _audiences(asked: TokenRequest) -> list[str]:
    """Return what an assertion may be for, our issuer identifier first, and former ones while they hold.

    A client's own may name the endpoint that it is sent to, or the token endpoint (RFC 7523 section 3, RFC 9126 section
    2): many libraries do. What an outside issuer makes is for the issuer alone (decision 64).
    """
    issuers = list(asked.runtime.backend.issuers(asked.slug, asked.now))
    if asked.proof.outside:
        return issuers
    return [*issuers, *(f"{issuer}/{endpoint}" for issuer in issuers for endpoint in _PROVEN_AT)]


# Endpoints at which clients prove themselves.
_PROVEN_AT = ("token", "par", "introspect", "revoke", "rotation")


async def _signer(asked: TokenRequest, assertion: Assertion, held: Sequence[KeyHeld]) -> KeyHeld:
    """Return the credential whose key signed, one that stands before one that does not."""
    unreachable = ""
    for one in sorted(held, key=lambda row: not _stands(row, asked.now)):
        keys = one.keys
        if keys is None:
            try:
                fetched = asked.runtime.outside_keys
                keys = await fetched.keys(one.keys_uri or None, one.issuer, assertion.key_ids)
            except Unreachable as error:
                unreachable = str(error)
                continue
        if signed_by(assertion, keys):
            return one
    if unreachable:
        raise NotProven(Outcome.KEYS_UNREACHABLE, unreachable)
    named = ", ".join(sorted(assertion.key_ids)) or "no key"
    raise NotProven(
        Outcome.ASSERTION_KEY, f"no key of the client made the signature; the assertion names {named[:200]}"
    )


def _stands(one: KeyHeld, now: datetime) -> bool:
    ended = one.withdrawn_at is not None or (one.expires_at is not None and one.expires_at <= now)
    return not ended and one.disabled_at is None and (one.starts_at is None or one.starts_at <= now + CLOCK_SKEW)


def refuse_fallen(one: KeyHeld, now: datetime) -> None:
    if one.withdrawn_at is not None:
        raise NotProven(Outcome.KEY_WITHDRAWN, f"{one.hint} was withdrawn on {one.withdrawn_at:%Y-%m-%d}")
    if one.expires_at is not None and one.expires_at <= now:
        raise NotProven(Outcome.KEY_EXPIRED, f"{one.hint} expired on {one.expires_at:%Y-%m-%d %H:%M} UTC")
    if one.disabled_at is not None:
        raise NotProven(Outcome.CREDENTIAL_DISABLED, f"{one.hint} was disabled on {one.disabled_at:%Y-%m-%d}")
    if one.starts_at is not None and one.starts_at > now + CLOCK_SKEW:
        raise NotProven(Outcome.KEY_EXPIRED, f"{one.hint} starts on {one.starts_at:%Y-%m-%d %H:%M} UTC")


async def _refuse_replay(asked: TokenRequest, assertion: Assertion) -> None:
    ends = datetime.fromtimestamp(float(assertion.claims["exp"]), UTC) + 2 * CLOCK_SKEW
    digest = sha256(check_once(assertion).encode()).digest()
    if not await asked.runtime.once.first(asked.proof.client_id, digest, ends):
        raise NotProven(
            Outcome.ASSERTION_REPLAYED, "This assertion was used before: make each one anew, with its own jti."
        )
