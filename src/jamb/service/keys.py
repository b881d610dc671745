"""Signing keys in memory: opened once per process, found by key id. Of a key only its withdrawal changes.

Whether it was withdrawn is looked up again after `LOOK_AGAIN_SECONDS`.
"""

from __future__ import annotations

import time
from typing import cast

from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey, EllipticCurvePublicKey
from cryptography.hazmat.primitives.serialization import load_der_private_key
from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.core.errors import Misuse
from jamb.store.directory.directories import SigningKeyRow

LOOK_AGAIN_SECONDS = 5.0


class Keyring:
    def __init__(self, backend: Backend) -> None:
        self._backend = backend
        self._opened: dict[str, tuple[str, EllipticCurvePrivateKey]] = {}
        self._looked_at: dict[str, float] = {}

    def cached(self, kid: str) -> EllipticCurvePrivateKey | None:
        """Return an opened key without touching the database."""
        found = self._opened.get(kid)
        return found[1] if found else None

    def is_fresh(self, kid: str) -> bool:
        """Tell whether `public` would answer without touching the database."""
        return kid in self._opened and time.monotonic() - self._looked_at.get(kid, float("-inf")) <= LOOK_AGAIN_SECONDS

    def private(self, kid: str) -> EllipticCurvePrivateKey:
        """Return the private key, unsealing it on first use."""
        opened = self._open(kid)
        if opened is None:
            raise Misuse(f"there is no signing key {kid}")
        return opened[1]

    def public(self, kid: str, directory_id: str) -> EllipticCurvePublicKey | None:
        """Return the public key if this directory has one of that id that is not withdrawn."""
        if time.monotonic() - self._looked_at.get(kid, float("-inf")) > LOOK_AGAIN_SECONDS:
            self._opened.pop(kid, None)
        opened = self._open(kid)
        return opened[1].public_key() if opened is not None and opened[0] == directory_id else None

    def _open(self, kid: str) -> tuple[str, EllipticCurvePrivateKey] | None:
        found = self._opened.get(kid)
        if found is None:
            with Session(self._backend.engine) as session:
                row = session.get(SigningKeyRow, kid)
            if row is None or row.withdrawn_at is not None:
                return None
            self._looked_at[kid] = time.monotonic()
            plain = self._backend.sealer.open(row.sealed, f"{row.directory_id}/{kid}")
            key = cast("EllipticCurvePrivateKey", load_der_private_key(plain, None))
            found = self._opened[kid] = (str(row.directory_id), key)
        return found
