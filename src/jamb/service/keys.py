"""Signing keys in memory: opened once per process, found by key id. Of a key only its withdrawal changes.

Whether it was withdrawn, and which one signs by an algorithm, is looked up again after `LOOK_AGAIN_SECONDS`.
"""

from __future__ import annotations

import time
from datetime import datetime
from typing import cast
from uuid import UUID

from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey, EllipticCurvePublicKey
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey, RSAPublicKey
from cryptography.hazmat.primitives.serialization import load_der_private_key
from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.core.errors import Misuse
from jamb.store.directory.directories import SigningKeyRow, signing_key

LOOK_AGAIN_SECONDS = 5.0
PrivateKey = EllipticCurvePrivateKey | RSAPrivateKey
PublicKey = EllipticCurvePublicKey | RSAPublicKey


def algorithm_of(key: PrivateKey | PublicKey) -> SigningAlgorithm:
    """Return the algorithm of a signing key (RFC 7518 section 3.1): each has one."""
    return SigningAlgorithm.RS256 if isinstance(key, RSAPrivateKey | RSAPublicKey) else SigningAlgorithm.ES256


class Keyring:
    def __init__(self, backend: Backend) -> None:
        self._backend = backend
        self._opened: dict[str, tuple[str, PrivateKey]] = {}
        self._looked_at: dict[str, float] = {}
        self._signing: dict[tuple[UUID, SigningAlgorithm], tuple[str, float]] = {}

    def signing_cached(self, directory_id: UUID, by: SigningAlgorithm) -> str | None:
        """Return the id of the key that signs by an algorithm, if that was looked up of late."""
        kid, looked_at = self._signing.get((directory_id, by), ("", float("-inf")))
        # One that was found withdrawn meanwhile is opened no more: another signs.
        return kid if kid in self._opened and time.monotonic() - looked_at <= LOOK_AGAIN_SECONDS else None

    def signing(self, directory_id: UUID, by: SigningAlgorithm, now: datetime) -> str:
        """Return the id of the key that signs by an algorithm."""
        with Session(self._backend.engine) as session:
            kid = signing_key(session, directory_id, by, now).kid
        self._signing[directory_id, by] = kid, time.monotonic()
        return kid

    def cached(self, kid: str) -> PrivateKey | None:
        """Return an opened key without touching the database."""
        found = self._opened.get(kid)
        return found[1] if found else None

    def is_fresh(self, kid: str) -> bool:
        """Tell whether `public` would answer without touching the database."""
        return kid in self._opened and time.monotonic() - self._looked_at.get(kid, float("-inf")) <= LOOK_AGAIN_SECONDS

    def private(self, kid: str) -> PrivateKey:
        """Return the private key, unsealing it on first use."""
        opened = self._open(kid)
        if opened is None:
            raise Misuse(f"there is no signing key {kid}")
        return opened[1]

    def public(self, kid: str, directory_id: str) -> PublicKey | None:
        """Return the public key if this directory has one of that id that is not withdrawn."""
        if time.monotonic() - self._looked_at.get(kid, float("-inf")) > LOOK_AGAIN_SECONDS:
            self._opened.pop(kid, None)
        opened = self._open(kid)
        return opened[1].public_key() if opened is not None and opened[0] == directory_id else None

    def _open(self, kid: str) -> tuple[str, PrivateKey] | None:
        found = self._opened.get(kid)
        if found is None:
            with Session(self._backend.engine) as session:
                row = session.get(SigningKeyRow, kid)
            if row is None or row.withdrawn_at is not None:
                return None
            self._looked_at[kid] = time.monotonic()
            plain = self._backend.sealer.open(row.sealed, f"{row.directory_id}/{kid}")
            key = cast("PrivateKey", load_der_private_key(plain, None))
            found = self._opened[kid] = (str(row.directory_id), key)
        return found
