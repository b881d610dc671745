"""Credentials: secrets, certificates, keys, and issuers outside that are trusted."""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Mapping, Sequence
from typing import Any
from uuid import UUID

from jamb.client.base.section import Section, idempotency_header, path_segment
from jamb.core.credentials.kinds import CredentialKind, KeyType
from jamb.wire.clients.clients import Dossier
from jamb.wire.credentials.credentials import Credential, IssuedSecret, MadeCertificate
from jamb.wire.credentials.rotations import User


class Credentials(Section):
    """Of every kind. `days` until it ends: the policy's default when left out."""

    def list(self, client_id: str) -> Sequence[Credential]:
        return self._transport.one(Dossier, "GET", f"/clients/{path_segment(client_id)}").credentials

    def add_certificate(self, client_id: str, certificate: str | bytes, *, label: str = "") -> Credential:
        """Let the client prove itself with the key of a certificate: PEM, DER or a PKCS#7 bundle."""
        sent = {"certificate": _text_of(certificate), "label": label}
        return self._add(client_id, {"kind": "certificate", **sent})

    def request_certificate(
        self, client_id: str, request: str | bytes, *, days: int | None = None, label: str = ""
    ) -> Credential:
        """Have the directory's authority issue a certificate for a key of the client's: PKCS#10, in PEM or DER.

        The certificate itself is `certificate.pem` of what is returned.
        """
        body = {"request": _text_of(request), "days": days, "label": label}
        return self._add(client_id, {"kind": "certificate-request", **body})

    def make_certificate(
        self,
        client_id: str,
        *,
        key_type: KeyType = KeyType.P256,
        days: int | None = None,
        label: str = "",
        instead_of: UUID | None = None,
        once: str | None = None,
    ) -> MadeCertificate:
        """Make a key pair with its certificate; this answer is the only one that ever has the private key."""
        lost = str(instead_of) if instead_of is not None else None
        body = {"key_type": key_type.value, "days": days, "label": label, "instead_of": lost}
        path = f"/clients/{path_segment(client_id)}/certificates"
        return self._transport.one(MadeCertificate, "POST", path, json=body, headers=idempotency_header(once))

    def add_keys(
        self,
        client_id: str,
        keys: Mapping[str, Any] | None = None,
        *,
        keys_uri: str = "",
        days: int | None = None,
        label: str = "",
    ) -> Credential:
        """Let the client prove itself with keys of its own: a JWK Set, or the https address of one."""
        body = {"kind": "keys", "keys": keys, "keys_uri": keys_uri, "days": days, "label": label}
        return self._add(client_id, body)

    def trust_issuer(
        self,
        client_id: str,
        issuer: str,
        subject: str,
        *,
        keys: Mapping[str, Any] | None = None,
        keys_uri: str = "",
        days: int | None = None,
        label: str = "",
    ) -> Credential:
        """Trust an outside issuer's assertions for one subject; its keys are found by its metadata if left out."""
        body = {"issuer": issuer, "subject": subject, "keys": keys, "keys_uri": keys_uri, "days": days, "label": label}
        return self._add(client_id, {"kind": "issuer", **body})

    def disable(self, client_id: str, credential_id: UUID, *, reason: str = "") -> Credential:
        """Let a credential prove nothing until it is enabled again."""
        return self._state(client_id, credential_id, False, reason)

    def enable(self, client_id: str, credential_id: UUID, *, reason: str = "") -> Credential:
        return self._state(client_id, credential_id, True, reason)

    def withdraw(self, client_id: str, credential_id: UUID, *, reason: str = "") -> Credential:
        """End a credential now, for good."""
        path = f"/clients/{path_segment(client_id)}/credentials/{credential_id}/withdrawal"
        return self._transport.one(Credential, "POST", path, json={"reason": reason})

    def users(self, client_id: str, credential_id: UUID) -> Sequence[User]:
        """Return from where and with which programs it was used in the last thirty days, the latest first."""
        path = f"/clients/{path_segment(client_id)}/credentials/{credential_id}/users"
        return self._transport.many(User, "GET", path)

    def _add(self, client_id: str, body: dict[str, Any]) -> Credential:
        return self._transport.one(Credential, "POST", f"/clients/{path_segment(client_id)}/credentials", json=body)

    def _state(self, client_id: str, credential_id: UUID, enabled: bool, reason: str) -> Credential:
        path = f"/clients/{path_segment(client_id)}/credentials/{credential_id}/state"
        return self._transport.one(Credential, "POST", path, json={"enabled": enabled, "reason": reason})


def _text_of(upload: str | bytes) -> str:
    """Return PEM as it is, and anything else in base64."""
    if isinstance(upload, str):
        return upload
    return upload.decode("latin-1") if b"-----BEGIN" in upload else b64encode(upload).decode()


class Secrets(Section):
    """Secrets among the credentials."""

    def issue(
        self,
        client_id: str,
        *,
        days: int | None = None,
        label: str = "",
        instead_of: UUID | None = None,
        once: str | None = None,
    ) -> IssuedSecret:
        """Issue a secret; this answer is the only one that ever has it.

        Args:
            instead_of: a lost credential, withdrawn in the same step.
        """
        body = {"days": days, "label": label, "instead_of": str(instead_of) if instead_of is not None else None}
        path = f"/clients/{path_segment(client_id)}/secrets"
        return self._transport.one(IssuedSecret, "POST", path, json=body, headers=idempotency_header(once))

    def list(self, client_id: str) -> Sequence[Credential]:
        held = self._transport.one(Dossier, "GET", f"/clients/{path_segment(client_id)}").credentials
        return [one for one in held if one.kind is CredentialKind.SECRET]
