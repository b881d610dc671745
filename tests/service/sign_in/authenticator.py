"""A device with a passkey, as a browser and its authenticator speak for it (W3C Web Authentication Level 3)."""

from __future__ import annotations

import hashlib
import json
import secrets
from base64 import urlsafe_b64decode, urlsafe_b64encode
from dataclasses import dataclass, field
from typing import Any

import cbor2
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256

PRESENT, VERIFIED, HAS_KEY = 0x01, 0x04, 0x40


def _text(data: bytes) -> str:
    return urlsafe_b64encode(data).rstrip(b"=").decode()


def _bytes(text: str) -> bytes:
    return urlsafe_b64decode(text + "=" * (-len(text) % 4))


@dataclass
class Device:
    """What a test may turn wrong: the origin, the host, whether it asked for its person, its count."""

    origin: str
    host: str = "localhost"
    verified: bool = True
    uses: int = 0
    key: ec.EllipticCurvePrivateKey = field(default_factory=lambda: ec.generate_private_key(ec.SECP256R1()))
    id: bytes = field(default_factory=lambda: secrets.token_bytes(32))
    person: bytes = b""

    def made(self, options: dict[str, Any]) -> dict[str, Any]:
        """Answer to the options for a new passkey (section 7.1), without attestation."""
        self.person = _bytes(options["user"]["id"])
        numbers = self.key.public_key().public_numbers()
        public = {1: 2, 3: -7, -1: 1, -2: numbers.x.to_bytes(32, "big"), -3: numbers.y.to_bytes(32, "big")}
        credential = bytes(16) + len(self.id).to_bytes(2, "big") + self.id + cbor2.dumps(public)
        attested = {"fmt": "none", "attStmt": {}, "authData": self._data(HAS_KEY) + credential}
        said = self._said("webauthn.create", options)
        return self._answer({"clientDataJSON": _text(said), "attestationObject": _text(cbor2.dumps(attested))})

    def shown(self, options: dict[str, Any], **said_else: str) -> dict[str, Any]:
        """Answer to the options for a sign-in (section 7.2)."""
        self.uses += 1
        data, said = self._data(), self._said("webauthn.get", {**options, **said_else})
        signature = self.key.sign(data + hashlib.sha256(said).digest(), ec.ECDSA(SHA256()))
        parts = {"clientDataJSON": said, "authenticatorData": data, "signature": signature, "userHandle": self.person}
        return self._answer({name: _text(part) for name, part in parts.items()})

    def _answer(self, response: dict[str, str]) -> dict[str, Any]:
        return {"id": _text(self.id), "rawId": _text(self.id), "type": "public-key", "response": response}

    def _data(self, more: int = 0) -> bytes:
        flags = PRESENT | (VERIFIED if self.verified else 0) | more
        return hashlib.sha256(self.host.encode()).digest() + bytes([flags]) + self.uses.to_bytes(4, "big")

    def _said(self, kind: str, options: dict[str, Any]) -> bytes:
        said = {"type": kind, "challenge": options["challenge"], "origin": self.origin, "crossOrigin": False}
        return json.dumps(said).encode()
