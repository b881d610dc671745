"""Keys for what must not be readable in a copy of the database.

One sealing key of 32 bytes stands outside the database; a key for each use is derived from it (HKDF, RFC 5869).
Signing keys are sealed with AES-256-GCM (NIST SP 800-38D); the associated data binds each to its row.
"""

from __future__ import annotations

import os

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

from jamb.core.errors import Misuse

KEY_BYTES = 32
_NONCE_BYTES = 12


class Sealer:
    """Holds the derived keys of one sealing key. Never shown by repr."""

    def __init__(self, sealing_key: bytes) -> None:
        if len(sealing_key) != KEY_BYTES:
            raise Misuse(f"the sealing key must be {KEY_BYTES} bytes, got {len(sealing_key)}")
        self._aead = AESGCM(_derive(sealing_key, b"jamb signing keys"))
        self.credential_key = _derive(sealing_key, b"jamb credential digests")
        self.session_key = _derive(sealing_key, b"jamb sessions and codes")
        self.ledger_key = _derive(sealing_key, b"jamb ledger heads")
        # Kept in the clear beside the records: it tells keys apart, and nothing of them.
        self.mark = _derive(sealing_key, b"jamb mark of the sealing key")

    def seal(self, plain: bytes, bound_to: str) -> bytes:
        nonce = os.urandom(_NONCE_BYTES)
        return nonce + self._aead.encrypt(nonce, plain, bound_to.encode())

    def open(self, sealed: bytes, bound_to: str) -> bytes:
        """Return the plain bytes, or raise `Misuse` if this is not the key (or row) it was sealed with."""
        try:
            return self._aead.decrypt(sealed[:_NONCE_BYTES], sealed[_NONCE_BYTES:], bound_to.encode())
        except InvalidTag as error:
            raise Misuse(
                "the sealing key does not open this database's signing keys; "
                "start with the JAMB_SEALING_KEY (or JAMB_HOME) that it was made with"
            ) from error


def _derive(sealing_key: bytes, use: bytes) -> bytes:
    return HKDF(SHA256(), KEY_BYTES, None, use).derive(sealing_key)
