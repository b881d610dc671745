"""The kinds of credential, and by which method of the standards each proves a client."""

from __future__ import annotations

from enum import StrEnum


class CredentialKind(StrEnum):
    """How a client proves itself.

    secret: shared with Jamb (RFC 6749 section 2.3.1). certificate and keys: the client signs an assertion with a
    private key that only it has (RFC 7523 section 2.2). issuer: an issuer outside Jamb says who it is (section 2.1).
    """

    SECRET = "secret"  # noqa: S105 - the name of a kind
    CERTIFICATE = "certificate"
    KEYS = "keys"
    ISSUER = "issuer"

    @property
    def words(self) -> str:
        return _WORDS[self]

    @property
    def serves(self) -> tuple[str, ...]:
        """The methods it serves: client authentication methods of the registry of RFC 7591, or a grant type."""
        return _SERVES[self]


class KeyType(StrEnum):
    """Of key pairs made here: P-256 is the default; RSA is for programs that know nothing else."""

    P256 = "p256"
    RSA3072 = "rsa3072"


_WORDS = {
    CredentialKind.SECRET: "secret",
    CredentialKind.CERTIFICATE: "certificate",
    CredentialKind.KEYS: "key set",
    CredentialKind.ISSUER: "outside issuer",
}
_SERVES = {
    CredentialKind.SECRET: ("client_secret_basic", "client_secret_post"),
    CredentialKind.CERTIFICATE: ("private_key_jwt",),
    CredentialKind.KEYS: ("private_key_jwt",),
    CredentialKind.ISSUER: ("urn:ietf:params:oauth:grant-type:jwt-bearer",),
}
