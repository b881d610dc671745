"""The keys that sign a directory's tokens: published, rotated with an overlap, withdrawn at once."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta

from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from jwt.algorithms import ECAlgorithm, RSAAlgorithm
from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.core.directory.signing_keys import (
    MOST_IN_A_DAY,
    PUBLISHED_BEFORE,
    SigningAlgorithm,
    coming_of,
    is_due,
    published_of,
    series_of,
    signing_of,
    state_of,
)
from jamb.core.errors import Conflict, NotFound, Unsuited
from jamb.store.base.sealing import Sealer
from jamb.store.base.work import Unit
from jamb.store.directory import directories
from jamb.store.directory.directories import SigningKeyRow
from jamb.wire.directory import signing_keys as wire

# Two keys of each half year for fifty years.
MOST_LISTED = 200
# Enough until 2030 and past it for what lives a month at most (NIST SP 800-57 part 1, table 4); longer ones take long.
_RSA_BITS = 2048


@dataclass(frozen=True, slots=True)
class SigningKey:
    """A published signing key: its id and public JWK (RFC 7517)."""

    kid: str
    public_jwk: dict[str, str]


def published_keys(backend: Backend, slug: str, now: datetime) -> list[SigningKey]:
    """Return the directory's public keys, newest first (RFC 7517)."""
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        rows = published_of(directories.signing_keys(session, directory.id), now)
        return [SigningKey(row.kid, row.public_jwk) for row in rows]


def list_keys(act: Act) -> list[wire.SigningKey]:
    """Return the keys of the directory, newest first, the last `MOST_LISTED` of them."""
    with act.read() as session:
        rows = directories.signing_keys(session, act.directory.id)
        return [_view(act, row, rows) for row in rows[:MOST_LISTED]]


def _view(act: Act, row: SigningKeyRow, rows: list[SigningKeyRow]) -> wire.SigningKey:
    algorithm = SigningAlgorithm(row.algorithm)
    return wire.SigningKey(
        id=row.kid,
        algorithm=algorithm,
        signs=algorithm.signs(act.directory.policy.access_tokens_by),
        state=state_of(row, rows, act.now),
        made_at=row.created_at,
        signs_from=row.signs_from,
        withdrawn_at=row.withdrawn_at,
    )


def rotate_key(act: Act, reason: str = "", algorithm: SigningAlgorithm = SigningAlgorithm.ES256) -> wire.SigningKey:
    """Publish a new key of an algorithm, which signs a little later.

    Raises:
        Conflict: one that was published before does not sign yet, or too many were made of late.
    """
    with act.change() as unit:
        directories.by_slug(unit.session, act.slug, lock=True)
        rows = directories.signing_keys(unit.session, act.directory.id)
        lately = [row for row in series_of(rows, algorithm) if row.created_at > act.now - timedelta(days=1)]
        if len(lately) >= MOST_IN_A_DAY:
            raise Conflict(
                f"{len(lately)} signing keys of {algorithm} were made within a day.",
                next_step="Wait until tomorrow; to withdraw one is always possible.",
            )
        coming = coming_of(rows, algorithm, act.now)
        if coming is not None:
            raise Conflict(
                f"Key {coming.kid} is published and signs from {coming.signs_from:%Y-%m-%d %H:%M} UTC.",
                next_step="Wait until it signs, or withdraw it.",
            )
        made = _entered(unit, act, algorithm, act.now + PUBLISHED_BEFORE, reason)
        return _view(act, made, [made])


def rotate_by_policy(act: Act) -> int:
    """Rotate the keys that have signed for as long as the policy has it; return how many were.

    Where a directory has no key of an algorithm, as after an upgrade, one is made.
    """
    days = act.directory.policy.signing_key_days
    with act.read() as session:
        rows = directories.signing_keys(session, act.directory.id)
    made = 0
    for algorithm in SigningAlgorithm:
        if not is_due(rows, algorithm, days, act.now):
            continue
        why = f"The policy has a signing key sign for {days} days"
        try:
            rotate_key(act, why if series_of(rows, algorithm) else f"There was none of {algorithm}", algorithm)
        except Conflict:
            continue
        made += 1
    return made


def withdraw_key(act: Act, kid: str, reason: str) -> str:
    """Withdraw a key: nothing that it signed is good any more. Return the key that signs from now on.

    Raises:
        NotFound: the directory has no such key. Conflict: it is withdrawn already. Unsuited: no reason is given.
    """
    if not reason.strip():
        raise Unsuited.field("reason", "nothing", "why: it stays in the ledger")
    with act.change() as unit:
        directories.by_slug(unit.session, act.slug, lock=True)
        rows = directories.signing_keys(unit.session, act.directory.id)
        row = next((row for row in rows if row.kid == kid), None)
        if row is None:
            raise NotFound(f"{act.directory.name} has no signing key {kid[:40]}.", next_step="List its keys.")
        if row.withdrawn_at is not None:
            raise Conflict(f"Key {kid} was withdrawn {row.withdrawn_at:%Y-%m-%d %H:%M} UTC.")
        algorithm = SigningAlgorithm(row.algorithm)
        signing = signing_of(rows, algorithm, act.now)
        row.withdrawn_at = act.now
        unit.session.add(row)
        unit.enter("signing-key.withdrawn", _subject(kid), reason=reason)
        if signing is None or signing is row:
            # An older one would do; a new one was never in anybody else's hands.
            return _entered(unit, act, algorithm, act.now, "Another was withdrawn").kid
        return signing.kid


def add_key(unit: Unit, sealer: Sealer, algorithm: SigningAlgorithm, signs_from: datetime) -> SigningKeyRow:
    """Make a key of a directory, within its unit; whoever does so enters it."""
    directory = unit.directory
    private: ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey
    if algorithm is SigningAlgorithm.ES256:
        private = ec.generate_private_key(ec.SECP256R1())
        public = ECAlgorithm.to_jwk(private.public_key(), as_dict=True)
    else:
        private = rsa.generate_private_key(65537, _RSA_BITS)
        public = RSAAlgorithm.to_jwk(private.public_key(), as_dict=True)
        # What it is for is said by `use` (RFC 7517 section 4.2), and not by both.
        public.pop("key_ops", None)
    kid = secrets.token_hex(8)
    plain = private.private_bytes(Encoding.DER, PrivateFormat.PKCS8, NoEncryption())
    row = SigningKeyRow(
        kid=kid,
        directory_id=directory.id,
        algorithm=algorithm.value,
        public_jwk={**public, "kid": kid, "alg": algorithm.value, "use": "sig"},
        sealed=sealer.seal(plain, f"{directory.id}/{kid}"),
        created_at=unit.now,
        signs_from=signs_from,
    )
    unit.session.add(row)
    return row


def _entered(unit: Unit, act: Act, algorithm: SigningAlgorithm, signs_from: datetime, reason: str) -> SigningKeyRow:
    row = add_key(unit, act.backend.sealer, algorithm, signs_from)
    after = {"algorithm": algorithm.value, "signs from": signs_from.isoformat()}
    unit.enter("signing-key.made", _subject(row.kid), after=after, reason=reason)
    return row


def _subject(kid: str) -> dict[str, str]:
    return {"kind": "signing key", "id": kid, "name": kid}
