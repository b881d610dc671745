"""Handovers: links that show a new credential once, opened without signing in; and credentials sealed to a key."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from urllib.parse import urlsplit
from uuid import UUID

import httpx

from jamb.client.base.auth import unreachable
from jamb.client.base.section import Section, idempotency_header, path_segment
from jamb.client.base.trust import trusted
from jamb.core.credentials.handover import DEFAULT_HOURS, Deliver
from jamb.core.credentials.kinds import CredentialKind, KeyType
from jamb.core.errors import BadInput, ServiceUnreachable
from jamb.wire.base.problems import MEDIA_TYPE, Problem, error_of
from jamb.wire.credentials.handovers import (
    HandedOver,
    Handover,
    MadeHandover,
    OwnRecipientKey,
    Recipient,
    SealedCredential,
    WaitingHandover,
)


class Handovers(Section):
    def make(
        self,
        client_id: str,
        *,
        kind: CredentialKind = CredentialKind.SECRET,
        key_type: KeyType = KeyType.P256,
        days: int | None = None,
        label: str = "",
        instead_of: UUID | None = None,
        hours: int = DEFAULT_HOURS,
        passphrase: str = "",
        note: str = "",
        deliver: Deliver = Deliver.LINK,
        once: str | None = None,
    ) -> MadeHandover:
        """Make a secret, or a certificate with its key pair, that only whoever opens the link sees.

        Args:
            deliver: the link to the caller, or to the owners in their mails and to nobody else.
            hours: until the link runs out.
            passphrase: asked for beside the link; pass it on by another way.
        """
        body = {
            "credential": _wanted(kind, key_type),
            "days": days,
            "label": label,
            "hours": hours,
            "passphrase": passphrase,
            "note": note,
            "deliver": deliver.value,
            "instead_of": str(instead_of) if instead_of is not None else None,
        }
        path = f"/clients/{path_segment(client_id)}/handovers"
        return self._transport.one(MadeHandover, "POST", path, json=body, headers=idempotency_header(once))

    def list(self, client_id: str) -> list[Handover]:
        """Return a client's links, newest first."""
        return self._transport.many(Handover, "GET", f"/clients/{path_segment(client_id)}/handovers")

    def recipients(self, client_id: str) -> Sequence[Recipient]:
        """Return to whom a credential of the client can be sealed."""
        return self._transport.many(Recipient, "GET", f"/clients/{path_segment(client_id)}/recipients")

    def seal(
        self,
        client_id: str,
        recipient: UUID,
        *,
        kind: CredentialKind = CredentialKind.SECRET,
        key_type: KeyType = KeyType.P256,
        days: int | None = None,
        label: str = "",
        instead_of: UUID | None = None,
        once: str | None = None,
    ) -> SealedCredential:
        """Make a secret, or a certificate with its key pair, that only the recipient can read: by `unseal`."""
        lost = str(instead_of) if instead_of is not None else None
        body = {
            "credential": _wanted(kind, key_type),
            "days": days,
            "label": label,
            "instead_of": lost,
            "recipient": str(recipient),
        }
        path = f"/clients/{path_segment(client_id)}/sealings"
        return self._transport.one(SealedCredential, "POST", path, json=body, headers=idempotency_header(once))

    def own_key(self) -> OwnRecipientKey:
        """Return the public key to which credentials for the caller are sealed."""
        return self._transport.one(OwnRecipientKey, "GET", "/recipient-key")

    def set_own_key(self, key: str) -> OwnRecipientKey:
        """Register that key: a JWK or PEM, the public part alone; an empty text takes it away."""
        return self._transport.one(OwnRecipientKey, "PUT", "/recipient-key", json={"key": key})

    def withdraw(self, client_id: str, handover_id: UUID) -> Handover:
        """Take a link back before it is opened; its credential stands."""
        path = f"/clients/{path_segment(client_id)}/handovers/{handover_id}/withdrawal"
        return self._transport.one(Handover, "POST", path)


def _wanted(kind: CredentialKind, key_type: KeyType) -> dict[str, str]:
    if kind is CredentialKind.SECRET:
        return {"kind": "secret"}
    return {"kind": "made-certificate", "key_type": key_type.value}


class HandoverLink:
    """A link that one was given. Never shown by repr."""

    def __init__(self, link: str) -> None:
        parts = urlsplit(link.strip())
        place, _, identity = parts.path.rpartition("/")
        if parts.scheme not in {"https", "http"} or not place.endswith("/handover") or not parts.fragment:
            raise BadInput.field("link", "(not shown)", "a whole handover link, with what is behind the #")
        self._root = f"{parts.scheme}://{parts.netloc}{place.removesuffix('/handover')}/api/v1/handovers/{path_segment(identity)}"
        self._key = parts.fragment

    def look(self) -> WaitingHandover:
        """Return what the link is about. Nothing is opened by looking."""
        return WaitingHandover.model_validate(self._send("look", {}))

    def open(self, passphrase: str = "") -> HandedOver:
        """Return what the link carries. It is shown this once: keep it before anything else."""
        return HandedOver.model_validate(self._send("opening", {"passphrase": passphrase}))

    def _send(self, what: str, body: dict[str, str]) -> Any:
        url = f"{self._root}/{what}"
        try:
            answer = httpx.post(url, json={"key": self._key, **body}, timeout=30, verify=trusted(url))
        except httpx.TransportError as error:
            raise unreachable(url, error) from error
        if answer.headers.get("content-type", "").startswith(MEDIA_TYPE):
            raise error_of(Problem.model_validate_json(answer.content))
        if not answer.is_success:
            raise ServiceUnreachable(f"{url} answered {answer.status_code}, not as Jamb does.")
        return answer.json()
