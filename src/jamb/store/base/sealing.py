"""Keys for what must not be readable in a copy of the database.

One sealing key of 32 bytes stands outside the database. It opens the root that is kept beside the records, sealed by
it; a key for each use is derived from the root (HKDF, RFC 5869). So another sealing key can take its place, and nothing
that was sealed, signed or hashed is made anew. What is sealed is sealed with AES-256-GCM (NIST SP 800-38D); the
associated data binds each to its row.
"""

from __future__ import annotations

import os
from dataclasses import dataclass, field

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from jamb.core.errors import Misuse

KEY_BYTES = 32
_NONCE_BYTES = 12
_ROOT = "root"


@dataclass(frozen=True, slots=True)
class SealingKey:
    """The key outside of the database. Never shown by repr."""

    key: bytes = field(repr=False)

    def __post_init__(self) -> None:
        if len(self.key) != KEY_BYTES:
            raise Misuse(f"the sealing key must be {KEY_BYTES} bytes, got {len(self.key)}")

    @property
    def mark(self) -> bytes:
        """What is kept in the clear beside the records: it tells keys apart, and nothing of them."""
        return _derive(self.key, b"jamb mark of the sealing key")

    def seal_root(self, root: bytes) -> bytes:
        return _sealed(self._aead, root, _ROOT)

    def open_root(self, sealed: bytes | None) -> bytes:
        """Return the root. None is kept of a database from before there were roots: the key itself is its root."""
        return self.key if sealed is None else _opened(self._aead, sealed, _ROOT)

    @property
    def _aead(self) -> AESGCM:
        return AESGCM(_derive(self.key, b"jamb root"))


class Sealer:
    """Holds the keys that are derived from one root. Never shown by repr."""

    def __init__(self, root: bytes, mark: bytes) -> None:
        """`mark`: that of the sealing key which opened the root."""
        self.mark = mark
        self._root = root
        self._aead = AESGCM(_derive(root, b"jamb signing keys"))
        self.credential_key = _derive(root, b"jamb credential digests")
        self.session_key = _derive(root, b"jamb sessions and codes")
        self.ledger_key = _derive(root, b"jamb ledger heads")

    def seal(self, plain: bytes, bound_to: str) -> bytes:
        return _sealed(self._aead, plain, bound_to)

    def open(self, sealed: bytes, bound_to: str) -> bytes:
        """Return the plain bytes, or raise `Misuse` if this is not the root (or row) it was sealed with."""
        return _opened(self._aead, sealed, bound_to)

    def root_for(self, other: SealingKey) -> bytes:
        """Return the root as another sealing key opens it."""
        return other.seal_root(self._root)


def fresh_key() -> bytes:
    return os.urandom(KEY_BYTES)


def _sealed(aead: AESGCM, plain: bytes, bound_to: str) -> bytes:
    nonce = os.urandom(_NONCE_BYTES)
    return nonce + aead.encrypt(nonce, plain, bound_to.encode())


def _opened(aead: AESGCM, sealed: bytes, bound_to: str) -> bytes:
    try:
        return aead.decrypt(sealed[:_NONCE_BYTES], sealed[_NONCE_BYTES:], bound_to.encode())
    except InvalidTag as error:
        raise Misuse(
            "the sealing key does not open what this database has sealed; "
            "start with the JAMB_SEALING_KEY (or JAMB_HOME) that it was made with"
        ) from error


def _derive(key: bytes, use: bytes) -> bytes:
    return HKDF(SHA256(), KEY_BYTES, None, use).derive(key)
