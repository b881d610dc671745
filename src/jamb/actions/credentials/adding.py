"""Adding a credential of any kind: beside those a client has, in place of a lost one, or as another's successor."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from functools import cached_property
from typing import Any
from uuid import UUID, uuid4

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client
from jamb.actions.base.subjects import credential_subject
from jamb.actions.base.views import credential_view
from jamb.actions.credentials.credentials import withdraw_in
from jamb.actions.credentials.sheets import sheets_of
from jamb.actions.credentials.surroundings import Surroundings
from jamb.actions.judgement.judging import Wanted, judge_acting, take_turn
from jamb.core.addresses import UnfitAddress, read_address
from jamb.core.clients.clients import ClientKind, ClientState
from jamb.core.consent.agreements import ActKind
from jamb.core.credentials.allowed import refuse_credential
from jamb.core.credentials.assertions import key_names
from jamb.core.credentials.certificates import Certificate, check_certificate, read_certificate
from jamb.core.credentials.issuing import certify, client_name, client_uri, read_request
from jamb.core.credentials.kinds import CredentialKind, KeyType
from jamb.core.credentials.leaks import fingerprint_of, look_up_of
from jamb.core.credentials.public_keys import jwk_of, key_set, thumbprint
from jamb.core.credentials.secrets import digest_secret, hint_of, secret_from
from jamb.core.credentials.term import end_of, longest_days
from jamb.core.directory.policy import ANY_WEIGHT
from jamb.core.errors import BadInput, Conflict, Unsuited, shorten
from jamb.store.base.work import Unit
from jamb.store.clients.clients import ClientRow
from jamb.store.credentials.credentials import CredentialRow, holding_keys, trusting
from jamb.store.credentials.keypairs import KeyPair, make_key_pair
from jamb.store.directory.authorities import signing_authority
from jamb.wire.credentials.credentials import Credential, Sheet

LABEL_LONGEST = 80
LONGEST_ADDRESS = 500


@dataclass(frozen=True)
class Added:
    """A new credential, and what of it is shown once: a secret with its sheets, or a key pair.

    `replaced`: the lost credential that was withdrawn in the same step, if any.
    """

    credential: Credential
    secret: str | None = field(default=None, repr=False)
    # Of many at once they are made when the turn is another's.
    make_sheets: Callable[[], tuple[Sheet, ...]] = tuple
    pair: KeyPair | None = None
    replaced: Credential | None = None

    @cached_property
    def sheets(self) -> tuple[Sheet, ...]:
        return self.make_sheets()


@dataclass(frozen=True, slots=True)
class Place:
    """Where a credential is put: a locked client within an open unit.

    `rotating`: another one goes for it, so that it does not count against how many may stand at once.
    `read`: what was read of the client together with others; None: it is read when it is needed.
    """

    act: Act
    unit: Unit
    client: ClientRow
    label: str
    rotating: bool = False
    # Who can read what is made here, or chooses whose key it is; empty: nobody but who can act as the client already.
    seen_by: str = ""
    read: Surroundings | None = None

    @property
    def surroundings(self) -> Surroundings:
        return self.read if self.read is not None else Surroundings(self.unit, (self.client.id,))

    def ends(self, kind: CredentialKind, days: int | None) -> datetime:
        return end_of(self.act.directory.policy, kind, self.act.now, days)

    def put(self, kind: CredentialKind, after: dict[str, Any], **columns: Any) -> Credential:
        """Put a credential of these columns, if the client may be given one, and enter `after` in the ledger."""
        self._admit(kind)
        row = CredentialRow(
            id=uuid4(),
            client_id=self.client.id,
            directory_id=self.act.directory.id,
            kind=kind.value,
            label=_checked_label(self.label),
            issued_at=self.act.now,
            issued_by=self.act.actor.name,
            seen_by_id=self.seen_by,
            **columns,
        )
        if self.read is not None:
            self.read.add(row)
        else:
            self.unit.session.add(row)
        action = "secret.issued" if kind is CredentialKind.SECRET else "credential.added"
        ends = row.expires_at.isoformat(timespec="seconds") if row.expires_at is not None else "no expiry"
        told = {**after, "ends": ends, **({} if self.seen_by == self.act.actor.id else {"unseen": True})}
        self.unit.enter(action, credential_subject(row), after=told)
        return credential_view(row, self.act.now, self.act.directory.policy)

    def _admit(self, kind: CredentialKind) -> None:
        client, policy, surroundings = self.client, self.act.directory.policy, self.surroundings
        if client.state != ClientState.LIVE:
            raise Conflict(f"“{client.name}” is disabled.", next_step="Enable it before adding a credential.")
        standing = surroundings.standing(client.id) - self.rotating
        weight = 0.0
        # To weigh a client reads all that it holds: only where the policy bounds the weight at all.
        if kind is CredentialKind.SECRET and policy.secret_heaviest_weight < ANY_WEIGHT:
            weight = surroundings.weights[client.id]
        refuse_credential(policy, client.name, ClientKind(client.kind), kind, standing, weight)


@dataclass(frozen=True, slots=True)
class SecretIssued:
    """A secret that expires after `days` (the policy's default when None)."""

    days: int | None = None

    def put(self, at: Place) -> Added:
        ends = at.ends(CredentialKind.SECRET, self.days)
        secret = secret_from(secrets.token_bytes(32))
        hint, digest = hint_of(secret), digest_secret(at.act.backend.sealer.credential_key, secret)
        fingerprint = fingerprint_of(at.act.backend.sealer.credential_key, look_up_of(secret))
        added = at.put(
            CredentialKind.SECRET, {"hint": hint}, hint=hint, digest=digest, fingerprint=fingerprint, expires_at=ends
        )
        facts = at.surroundings.sheets
        facts.read()
        return Added(added, secret, lambda: sheets_of(at.act, facts, at.client, CredentialKind.SECRET, secret, ends))


@dataclass(frozen=True, slots=True)
class CertificateMade:
    """A certificate signed by itself, made here with its key pair; only the certificate is kept."""

    key_type: KeyType = KeyType.P256
    days: int | None = None

    def put(self, at: Place) -> Added:
        ends = at.ends(CredentialKind.CERTIFICATE, self.days).replace(microsecond=0)
        pair = make_key_pair(at.client.id, at.client.name, at.act.directory.name, self.key_type, at.act.now, ends)
        return Added(_put_certificate(at, read_certificate(pair.certificate)), pair=pair)


@dataclass(frozen=True, slots=True)
class CertificateGiven:
    """A certificate whose private key only the client has: PEM, DER or a PKCS#7 bundle."""

    upload: bytes

    def put(self, at: Place) -> Added:
        given = read_certificate(self.upload)
        latest = at.act.now + timedelta(days=longest_days(at.act.directory.policy, CredentialKind.CERTIFICATE))
        check_certificate(given, at.act.now, latest)
        return Added(_put_certificate(at, given))


@dataclass(frozen=True, slots=True)
class CertificateRequested:
    """A certificate that the directory's own authority issues for a key of the client's (PKCS#10, RFC 2986)."""

    upload: bytes
    days: int | None = None

    def put(self, at: Place) -> Added:
        key = read_request(self.upload)
        ends = at.ends(CredentialKind.CERTIFICATE, self.days).replace(microsecond=0)
        directory = at.act.directory
        row, authority, fresh = signing_authority(
            at.unit.session, at.act.backend.sealer, directory.id, directory.name, at.act.now, ends
        )
        if fresh:
            subject = {"kind": "directory", "id": str(directory.id), "name": directory.name}
            at.unit.enter("authority.made", subject, after={"ends": row.expires_at.isoformat()})
        name = client_name(at.client.id, at.client.name, directory.name)
        serial, uri = x509.random_serial_number(), client_uri(at.client.id)
        made = certify(name, key, authority, serial, at.act.now, ends, uri=uri)
        return Added(_put_certificate(at, read_certificate(made.public_bytes(Encoding.DER))))


@dataclass(frozen=True, slots=True)
class KeysGiven:
    """Keys of the client's own: a JWK Set, or the https address at which it publishes one."""

    document: Any = None
    keys_uri: str = ""
    days: int | None = None

    def put(self, at: Place) -> Added:
        if (self.document is None) is (not self.keys_uri):
            raise BadInput.field("keys", "neither or both", "either a key set or the address of one")
        keys = key_set(self.document) if self.document is not None else ()
        hint = f"keys {key_names(keys)}" if keys else f"keys at {_host_of('keys_uri', self.keys_uri)}"
        thumbprints, ends = [thumbprint(key) for key in keys], at.ends(CredentialKind.KEYS, self.days)
        _refuse_shared(at, thumbprints)
        after = {"keys": [key["kid"] for key in keys] or self.keys_uri}
        return Added(
            at.put(
                CredentialKind.KEYS,
                after,
                hint=hint,
                keys=list(keys) or None,
                key_thumbprints=thumbprints,
                keys_uri=self.keys_uri,
                expires_at=ends,
            )
        )


@dataclass(frozen=True, slots=True)
class IssuerTrusted:
    """An issuer outside Jamb that says who the client is: its assertions for one subject stand for the client.

    `document`, `keys_uri`: the issuer's public keys, or their address; neither: found by the issuer's metadata.
    """

    issuer: str
    subject: str
    document: Any = None
    keys_uri: str = ""
    days: int | None = None

    def put(self, at: Place) -> Added:
        host = _host_of("issuer", self.issuer)
        if read_address(self.issuer).netloc.lower() == read_address(at.act.backend.base_url).netloc.lower():
            raise Unsuited.field("issuer", self.issuer, "an issuer outside Jamb")
        if not 1 <= len(self.subject) <= LONGEST_ADDRESS:
            allowed = "the sub of the issuer's assertions, to the mail"
            raise BadInput.field("subject", shorten(self.subject) or "nothing", allowed)
        if self.document is not None and self.keys_uri:
            raise BadInput.field("keys", "a key set and an address", "one of them, or neither")
        if self.keys_uri:
            _host_of("keys_uri", self.keys_uri)
        self._refuse_known(at, host)
        keys = key_set(self.document) if self.document is not None else ()
        found_by = [key["kid"] for key in keys] or self.keys_uri or "by metadata"
        after = {"issuer": self.issuer, "subject": self.subject, "keys": found_by}
        return Added(
            at.put(
                CredentialKind.ISSUER,
                after,
                hint=f"{shorten(self.subject)} at {host}",
                keys=list(keys) or None,
                keys_uri=self.keys_uri,
                issuer=self.issuer,
                subject=self.subject,
                expires_at=at.ends(CredentialKind.ISSUER, self.days),
            )
        )

    def _refuse_known(self, at: Place, host: str) -> None:
        for other, name in trusting(at.unit.session, at.act.directory.id, self.issuer, self.subject, at.act.now):
            if at.rotating and other.client_id == at.client.id:
                continue
            said = f"“{name}” is known by this subject of {host} already ({other.hint})."
            raise Conflict(said, next_step="Withdraw that first, or use another subject.")


@dataclass(frozen=True, slots=True)
class Delivery:
    """How a new credential reaches whoever is to have it.

    Attributes:
        then: what is done with it in the same transaction.
        gains: who could act as the client with what is made here, from the client's place: ids of people and clients;
            None: whoever adds it, because they see it. Whoever chooses whose key it is gains by that, whatever is
            delivered to whom.
    """

    then: Then | None = None
    gains: Callable[[Place], list[str]] | None = None

    def judge(self, at: Place, wanted: Addition) -> Place:
        """Judge who comes to act as the client by it, and return the place with who sees it."""
        elsewhere = self.gains is not None and isinstance(wanted, MADE_HERE)
        gainers = self.gains(at) if self.gains is not None and elsewhere else [at.act.actor.id]
        if at.act.actor.id == at.client.id:
            # It proves itself with one already.
            return at
        alone = gainers[0] if len(gainers) == 1 and at.act.actor.kind in {"person", "client"} else ""
        if not elsewhere and at.client.id in at.surroundings.harmless:
            return replace(at, seen_by=alone)
        what = {"kind": type(wanted).__name__, **_told_apart(wanted)}
        if gainers != [at.act.actor.id]:
            what["for"] = sorted(gainers)
        judge_acting(
            at.unit,
            at.client,
            gainers,
            Wanted(ActKind.CREDENTIAL, f"“{at.client.name}”", what, at.client.id),
            "Have it delivered to the owners, so that you never see it: that needs nobody else.",
        )
        return replace(at, seen_by=alone)

    def carry(self, at: Place, wanted: Addition, added: Added) -> None:
        """Bring what was made here to whoever is to have it; of the rest there is nothing that anybody lacks."""
        if self.then is not None and isinstance(wanted, MADE_HERE):
            if at.read is not None:
                at.read.write()
            self.then(at, added)


SHOWN = Delivery()
# What nobody has before it is added; of all else whoever adds it has the key, or knows who has.
MADE_HERE = (SecretIssued, CertificateMade)
Then = Callable[[Place, Added], None]
Addition = SecretIssued | CertificateMade | CertificateGiven | CertificateRequested | KeysGiven | IssuerTrusted


def add_credential(
    act: Act,
    client_id: str,
    wanted: Addition,
    label: str,
    *,
    instead_of: UUID | None = None,
    delivery: Delivery = SHOWN,
) -> Added:
    """Add a credential to a client.

    Args:
        label: what it is for, as people here would say.
        instead_of: a lost credential that is withdrawn in the same step.
        delivery: how it reaches whoever is to have it; left out, it is shown to whoever adds it.

    Raises:
        NeedsAgreement: whoever would see it could then do more than they may; it waits at the consent desk.
        BadInput, LivesTooLong: what cannot be trusted, each reason named; an end that the policy does not allow; a
            secret for a client that may do too much for one.
        Conflict: a public client keeps no credential (RFC 6749 section 2.1), a disabled one gets none; it has as many
            as the policy allows at once; the key stands already; another client is known by the subject.
        NotFound, AlreadyEnded: of the credential that would be replaced.
    """
    with act.change() as unit:
        take_turn(unit)
        client = find_client(unit.session, act.directory, client_id, lock=True)
        lost = None
        if instead_of is not None:
            reason = "Lost: another was issued in its place"
            lost = withdraw_in(unit, client, instead_of, reason)
        at = delivery.judge(Place(act, unit, client, label), wanted)
        added = replace(wanted.put(at), replaced=lost)
        delivery.carry(at, wanted, added)
        return added


def alike(row: CredentialRow, days: int | None) -> Addition:
    """Return what would add a credential like this one. Raises `BadInput` where only the client can make it."""
    match CredentialKind(row.kind):
        case CredentialKind.SECRET:
            return SecretIssued(days)
        case CredentialKind.CERTIFICATE:
            rsa = any(key.get("kty") == "RSA" for key in row.keys or ())
            return CertificateMade(KeyType.RSA3072 if rsa else KeyType.P256, days)
        case CredentialKind.ISSUER:
            document = {"keys": row.keys} if row.keys else None
            return IssuerTrusted(row.issuer, row.subject, document, row.keys_uri, days)
        case CredentialKind.KEYS:
            if row.keys_uri:
                return KeysGiven(None, row.keys_uri, days)
            allowed = "a key set with the client's new public keys"
            raise Unsuited.field("successor", "nothing", allowed, "Have the client make them, then open it with those.")


def _told_apart(wanted: Addition) -> dict[str, Any]:
    """Return by what an addition is known from others of its kind: whose key it is."""
    match wanted:
        case KeysGiven():
            return {"keys": sorted(keys_in(wanted)) or wanted.keys_uri}
        case IssuerTrusted():
            return {"issuer": wanted.issuer, "subject": wanted.subject, "keys_uri": wanted.keys_uri}
        case CertificateGiven() | CertificateRequested():
            return {"keys": sorted(keys_in(wanted))}
    return {}


def keys_in(wanted: Addition) -> list[str]:
    """Return the thumbprints (RFC 7638) of the keys that would be added. Raises `BadInput` for what cannot be read."""
    match wanted:
        case CertificateGiven():
            return [thumbprint(read_certificate(wanted.upload).jwk)]
        case CertificateRequested():
            return [thumbprint(jwk_of(read_request(wanted.upload)))]
        case KeysGiven() if wanted.document is not None:
            return [thumbprint(one) for one in key_set(wanted.document)]
    return []


def _put_certificate(at: Place, made: Certificate) -> Credential:
    thumbprints = [thumbprint(made.jwk)]
    _refuse_shared(at, thumbprints)
    after = {"certificate": made.subject, "thumbprint": made.thumbprint, "key": made.key}
    return at.put(
        CredentialKind.CERTIFICATE,
        after,
        hint=f"sha256 {made.thumbprint[:12]}…",
        keys=[made.jwk],
        key_thumbprints=thumbprints,
        certificate=made.der,
        starts_at=made.starts_at,
        expires_at=made.ends_at,
    )


def _refuse_shared(at: Place, thumbprints: list[str]) -> None:
    """Refuse a key that stands already: whoever holds one that two clients share could be either."""
    for other, name in holding_keys(at.unit.session, at.act.directory.id, thumbprints, at.act.now):
        if other.client_id == at.client.id:
            raise Conflict(f"{other.hint} has this key already.", next_step="Make another key pair.")
        raise Conflict(
            f"“{name}” proves itself with this key already ({other.hint}).",
            next_step="Make a key pair for each client: whoever holds a shared key can be either.",
        )


def _checked_label(label: str) -> str:
    """Return a label with its white space in order. Raises `BadInput` when it is too long."""
    words = " ".join(label.split())
    if len(words) > LABEL_LONGEST:
        raise BadInput.field("label", f"{len(words)} characters", f"at most {LABEL_LONGEST} characters")
    return words


def _host_of(field: str, address: str) -> str:
    """Return the host of an https address. Whether it is an inner one is looked at each time it is fetched.

    Raises `BadInput` otherwise.
    """
    try:
        return read_address(address, ("https",), LONGEST_ADDRESS).host
    except UnfitAddress as error:
        raise BadInput.field(field, address, f"an https address, as https://builds.example; {error}") from error
