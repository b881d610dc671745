"""The certificate with which a caller held the connection, as a proxy that ends TLS tells it (RFC 8705, RFC 9440).

By the header Client-Cert: the DER in base64 between colons (RFC 9440 section 2.1), or the PEM escaped as in an address,
which is what nginx can say. The handshake has shown that the caller has its key; here its thumbprint is all there is.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import ssl
from collections.abc import Sequence
from urllib.parse import unquote

HEADER = "Client-Cert"
LONGEST = 16_384
_PEM = "-----BEGIN CERTIFICATE-----"


def thumbprint_of(values: Sequence[str]) -> str:
    """Return the thumbprint of the certificate (x5t#S256, RFC 7515 section 4.1.8); empty: none, or none that is clear.

    Args:
        values: of all headers of this name that came.
    """
    if len(values) != 1 or len(values[0]) > LONGEST:
        return ""
    der = _der_of(values[0].strip())
    return base64.urlsafe_b64encode(hashlib.sha256(der).digest()).rstrip(b"=").decode() if der else ""


def _der_of(text: str) -> bytes:
    try:
        if len(text) > 2 and text[0] == text[-1] == ":":
            return base64.b64decode(text[1:-1], validate=True)
        plain = unquote(text)
        return ssl.PEM_cert_to_DER_cert(plain) if plain.startswith(_PEM) else b""
    except (binascii.Error, ValueError):
        return b""
