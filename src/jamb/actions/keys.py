"""Credentials without a shared secret: certificates, key sets, and issuers outside that are trusted for a client."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import urlsplit
from uuid import uuid4

from jamb.actions.credentials import (
    CredentialView,
    admit_credential,
    checked_label,
    credential_subject,
    credential_view,
)
from jamb.actions.premises import Directory, Premises, find_client
from jamb.core.credentials import (
    Certificate,
    CredentialKind,
    Jwk,
    KeyType,
    check_certificate,
    end_of,
    key_set,
    longest_days,
    read_certificate,
    thumbprint,
)
from jamb.core.credentials.assertions import key_names
from jamb.core.errors import BadInput, Conflict, shorten
from jamb.store import clients, credentials
from jamb.store.keypairs import KeyPair, make_key_pair
from jamb.store.work import Actor, Unit, unit_of_work

LONGEST_ADDRESS = 500


@dataclass(frozen=True, slots=True)
class MadeCertificate:
    """What is returned once: the credential, and the key pair that is kept nowhere."""

    credential: CredentialView
    pair: KeyPair


def add_certificate(
    premises: Premises, directory: Directory, client_id: str, upload: bytes, label: str, actor: Actor, now: datetime
) -> CredentialView:
    """Let a client prove itself with the private key of a certificate: PEM, DER or a PKCS#7 bundle.

    Raises:
        BadInput: what was uploaded is no certificate, or one that cannot be trusted; each reason is named.
        Conflict: the key stands already, here or at another client; or what `admit_credential` refuses.
    """
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        return add_certificate_in(unit, directory, client, upload, label, actor, now)


def add_certificate_in(
    unit: Unit,
    directory: Directory,
    client: clients.ClientRow,
    upload: bytes,
    label: str,
    actor: Actor,
    now: datetime,
    *,
    rotating: bool = False,
) -> CredentialView:
    certificate = read_certificate(upload)
    latest = now + timedelta(days=longest_days(directory.policy, CredentialKind.CERTIFICATE))
    check_certificate(certificate, now, latest)
    return _add_certificate(unit, directory, client, certificate, label, actor, now, rotating=rotating)


def make_certificate(
    premises: Premises,
    directory: Directory,
    client_id: str,
    key_type: KeyType,
    days: int | None,
    label: str,
    actor: Actor,
    now: datetime,
) -> MadeCertificate:
    """Make a key pair and a certificate signed by itself; only the certificate is kept.

    Raises:
        BadInput, LivesTooLong: an end the policy does not allow. Conflict: what `admit_credential` refuses.
    """
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        return make_certificate_in(unit, directory, client, key_type, days, label, actor, now)


def make_certificate_in(
    unit: Unit,
    directory: Directory,
    client: clients.ClientRow,
    key_type: KeyType,
    days: int | None,
    label: str,
    actor: Actor,
    now: datetime,
    *,
    rotating: bool = False,
) -> MadeCertificate:
    ends = end_of(directory.policy, CredentialKind.CERTIFICATE, now, days).replace(microsecond=0)
    pair = make_key_pair(client.id, client.name, directory.name, key_type, now, ends)
    made = read_certificate(pair.certificate)
    return MadeCertificate(_add_certificate(unit, directory, client, made, label, actor, now, rotating=rotating), pair)


def add_keys(
    premises: Premises,
    directory: Directory,
    client_id: str,
    document: Any,
    keys_uri: str,
    days: int | None,
    label: str,
    actor: Actor,
    now: datetime,
) -> CredentialView:
    """Let a client prove itself with keys of its own: a JWK Set, or the https address at which it publishes one.

    Raises:
        BadInput: neither or both; keys that cannot be trusted; an address that is not https.
        Conflict: a key stands already, here or at another client; or what `admit_credential` refuses.
    """
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        return add_keys_in(unit, directory, client, document, keys_uri, days, label, actor, now)


def add_keys_in(
    unit: Unit,
    directory: Directory,
    client: clients.ClientRow,
    document: Any,
    keys_uri: str,
    days: int | None,
    label: str,
    actor: Actor,
    now: datetime,
    *,
    rotating: bool = False,
) -> CredentialView:
    if (document is None) is (not keys_uri):
        raise BadInput.field("keys", "neither or both", "either a key set or the address of one")
    keys = key_set(document) if document is not None else ()
    host = checked_address("keys_uri", keys_uri) if keys_uri else ""
    hint = f"keys at {host}" if host else f"keys {key_names(keys)}"
    ends = end_of(directory.policy, CredentialKind.KEYS, now, days)
    row = credentials.CredentialRow(
        id=uuid4(), client_id=client.id, kind=CredentialKind.KEYS.value, hint=hint, label=checked_label(label),
        keys=list(keys) or None, keys_uri=keys_uri, issued_at=now, issued_by=actor.name, expires_at=ends,
    )  # fmt: skip
    after = {"keys": [one["kid"] for one in keys] or keys_uri}
    return _add(unit, directory, client, row, after, actor, now, rotating=rotating)


def trust_issuer(
    premises: Premises,
    directory: Directory,
    client_id: str,
    issuer: str,
    subject: str,
    document: Any,
    keys_uri: str,
    days: int | None,
    label: str,
    actor: Actor,
    now: datetime,
) -> CredentialView:
    """Trust an issuer outside Jamb to say who a client is: its assertions for one subject stand for the client.

    Args:
        document, keys_uri: the issuer's public keys, or their address; neither: found by the issuer's metadata.

    Raises:
        BadInput: an issuer that is not https or is this one, no subject, keys that cannot be trusted.
        Conflict: a client is trusted for the same subject already; or what `admit_credential` refuses.
    """
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        return trust_issuer_in(
            unit, premises, directory, client, issuer, subject, document, keys_uri, days, label, actor, now
        )


def trust_issuer_in(
    unit: Unit,
    premises: Premises,
    directory: Directory,
    client: clients.ClientRow,
    issuer: str,
    subject: str,
    document: Any,
    keys_uri: str,
    days: int | None,
    label: str,
    actor: Actor,
    now: datetime,
    *,
    rotating: bool = False,
) -> CredentialView:
    host = checked_address("issuer", issuer)
    if urlsplit(issuer).netloc == urlsplit(premises.base_url).netloc:
        raise BadInput.field("issuer", issuer, "an issuer outside Jamb")
    if not 1 <= len(subject) <= LONGEST_ADDRESS:
        allowed = "the sub of the issuer's assertions, to the letter"
        raise BadInput.field("subject", shorten(subject) or "nothing", allowed)
    if document is not None and keys_uri:
        raise BadInput.field("keys", "a key set and an address", "one of them, or neither")
    if keys_uri:
        checked_address("keys_uri", keys_uri)
    keys = key_set(document) if document is not None else ()
    ends = end_of(directory.policy, CredentialKind.ISSUER, now, days)
    for other, name in credentials.trusting(unit.session, directory.id, issuer, subject, now):
        if rotating and other.client_id == client.id:
            continue
        said = f"“{name}” is known by this subject of {host} already ({other.hint})."
        raise Conflict(said, next_step="Withdraw that first, or use another subject.")
    row = credentials.CredentialRow(
        id=uuid4(), client_id=client.id, kind=CredentialKind.ISSUER.value, hint=f"{shorten(subject)} at {host}",
        label=checked_label(label), keys=list(keys) or None, keys_uri=keys_uri, issuer=issuer, subject=subject,
        issued_at=now, issued_by=actor.name, expires_at=ends,
    )  # fmt: skip
    found_by = [one["kid"] for one in keys] or keys_uri or "by metadata"
    after = {"issuer": issuer, "subject": subject, "keys": found_by}
    return _add(unit, directory, client, row, after, actor, now, alone=False, rotating=rotating)


def checked_address(field: str, address: str) -> str:
    """Return the host of an https address. Whether it is an inner one is looked at each time it is fetched.

    Raises `BadInput` otherwise.
    """
    parts = urlsplit(address)
    if (
        parts.scheme != "https"
        or not parts.hostname
        or parts.fragment
        or parts.username
        or len(address) > LONGEST_ADDRESS
    ):
        raise BadInput.field(field, address, "an https address, as https://builds.example")
    return parts.hostname


def _add_certificate(
    unit: Unit,
    directory: Directory,
    client: clients.ClientRow,
    made: Certificate,
    label: str,
    actor: Actor,
    now: datetime,
    *,
    rotating: bool,
) -> CredentialView:
    row = credentials.CredentialRow(
        id=uuid4(), client_id=client.id, kind=CredentialKind.CERTIFICATE.value, hint=f"sha256 {made.thumbprint[:12]}…",
        label=checked_label(label), keys=[made.jwk], certificate=made.der, issued_at=now, issued_by=actor.name,
        starts_at=made.starts_at, expires_at=made.ends_at,
    )  # fmt: skip
    after = {"certificate": made.subject, "thumbprint": made.thumbprint, "key": made.key}
    return _add(unit, directory, client, row, after, actor, now, rotating=rotating)


def _add(
    unit: Unit,
    directory: Directory,
    client: clients.ClientRow,
    row: credentials.CredentialRow,
    after: dict[str, Any],
    actor: Actor,
    now: datetime,
    *,
    alone: bool = True,
    rotating: bool = False,
) -> CredentialView:
    """Add a credential; `alone`: its keys may stand at no other client, for whoever holds one could be either."""
    admit_credential(unit.session, directory, client, CredentialKind(row.kind), now, rotating=rotating)
    if alone:
        row.key_thumbprints = [thumbprint(one) for one in row.keys or ()]
        _refuse_shared(unit, directory, client, row.key_thumbprints, now)
    unit.session.add(row)
    ends = row.expires_at.isoformat(timespec="seconds") if row.expires_at is not None else "no end"
    unit.enter(actor, "credential.added", credential_subject(row), now=now, after={**after, "ends": ends})
    return credential_view(row, now, directory.policy)


def _refuse_shared(
    unit: Unit, directory: Directory, client: clients.ClientRow, thumbprints: Iterable[str], now: datetime
) -> None:
    for other, name in credentials.holding_keys(unit.session, directory.id, thumbprints, now):
        if other.client_id == client.id:
            raise Conflict(f"{other.hint} has this key already.", next_step="Make another key pair.")
        raise Conflict(
            f"“{name}” proves itself with this key already ({other.hint}).",
            next_step="Make a key pair for each client: whoever holds a shared key can be either.",
        )


__all__ = ["Jwk", "KeyType", "MadeCertificate", "add_certificate", "add_keys", "make_certificate", "trust_issuer"]
