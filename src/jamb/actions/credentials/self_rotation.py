"""A client rotates its own secret or key, with the one it has: no administrator is needed, nothing is ever lost."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.actions.credentials import rotations as steps
from jamb.actions.credentials.adding import Addition, keys_in
from jamb.actions.credentials.opening import open_rotation
from jamb.core.clients.clients import ClientState
from jamb.core.credentials.certificates import pem_of
from jamb.core.credentials.secrets import digest_secret
from jamb.core.credentials.term import CredentialState
from jamb.core.directory.directories import Directory
from jamb.core.errors import Conflict, Forbidden, NotFound, NotSignedIn, Unsuited
from jamb.core.rotation import RotationState
from jamb.store.base.work import Actor, observation
from jamb.store.clients import clients
from jamb.store.credentials import rotations
from jamb.store.credentials.credentials import CredentialRow, by_digest


@dataclass(frozen=True, slots=True)
class Shown:
    """What a client proved itself with: the secret that it sent, or the credential whose key signed."""

    secret: str = ""
    credential_id: UUID | None = None

    def find(self, session: Session, backend: Backend) -> CredentialRow | None:
        if self.credential_id is not None:
            return session.get(CredentialRow, self.credential_id)
        digest = digest_secret(backend.sealer.credential_key, self.secret)
        return by_digest(session, digest)


@dataclass(frozen=True, slots=True)
class Own:
    """What a client learns of what it proved itself with. `follows`: whether it is the new one of its rotation."""

    ends: datetime | None
    state: RotationState | None
    follows: bool
    quiet_at: datetime | None


@dataclass(frozen=True, slots=True)
class Renewed:
    """The new secret, or the certificate of the new key, and until when the old one is valid beside it."""

    secret: str | None
    certificate: str | None
    ends: datetime | None
    overlap_ends_at: datetime


@dataclass(frozen=True, slots=True)
class _Proven:
    directory: Directory
    client: clients.ClientRow
    credential: CredentialRow
    rotation: rotations.RotationRow | None

    @property
    def actor(self) -> Actor:
        return Actor("client", self.client.id, self.client.name, self.client.name)


def look(backend: Backend, slug: str, client_id: str, shown: Shown, now: datetime) -> Own:
    """Return when what it shows ends and how far its rotation is. Raises `NotSignedIn` unless it works."""
    proven = _prove(backend, slug, client_id, shown, now)
    if proven.rotation is None:
        return Own(proven.credential.expires_at, None, False, None)
    view = steps.read_rotation(Act(backend, proven.directory, proven.actor, now), client_id, proven.rotation.id)
    follows = proven.rotation.new_id == proven.credential.id
    return Own(proven.credential.expires_at, view.state, follows, view.quiet_at)


def known(backend: Backend, slug: str, client_id: str) -> tuple[UUID, str | None]:
    """Return the directory's id and the client's kind; None for a client that is not there."""
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        client = clients.by_id(session, directory.id, client_id)
        return directory.id, None if client is None else client.kind


def renew(
    backend: Backend, slug: str, client_id: str, shown: Shown, successor: Addition | None, now: datetime
) -> Renewed:
    """Open a rotation of what was shown, or tell again of the one that is open while nothing used its new credential.

    So a client that never heard the answer simply asks again: a secret is issued anew, a key is the same one.

    Args:
        successor: the client's next key, if it has one; None: a secret is made here.

    Raises:
        NotSignedIn: what was shown does not work. Forbidden: the policy leaves it to administrators.
        BadInput: a key was shown, but no next one. Conflict: the new credential of its rotation is in use already, or
            what was shown is itself the new one of a rotation.
    """
    proven = _prove(backend, slug, client_id, shown, now)
    _may(proven.directory)
    act = Act(backend, proven.directory, proven.actor, now)
    if proven.rotation is not None and proven.rotation.old_id == proven.credential.id:
        if successor is not None:
            return _again(backend, proven, successor)
        opened = steps.reissue(act, client_id, proven.rotation.id)
    else:
        if shown.credential_id is not None and successor is None:
            raise Unsuited.field("jwks", "nothing", "the client's next public key: a JWK Set, or a certificate")
        opened = open_rotation(act, client_id, proven.credential.id, successor, None, None)
    facts = opened.added.credential.certificate
    certificate = facts.pem if facts is not None else None
    return Renewed(opened.added.secret, certificate, opened.rotation.new.expires_at, opened.rotation.overlap_ends_at)


def _again(backend: Backend, proven: _Proven, successor: Addition) -> Renewed:
    """Return the rotation that is open for this very key. Raises `Conflict` for another."""
    assert proven.rotation is not None
    with Session(backend.engine) as session:
        new = session.get_one(CredentialRow, proven.rotation.new_id)
        if not set(keys_in(successor)) & set(new.key_thumbprints or ()):
            raise Conflict(
                f"A rotation to another key is open already ({new.hint}).",
                next_step="Send that key again, or have a custodian abandon the rotation.",
            )
        certificate = pem_of(new.certificate) if new.certificate is not None else None
        return Renewed(None, certificate, new.expires_at, proven.rotation.overlap_ends_at)


def finish(backend: Backend, slug: str, client_id: str, shown: Shown, now: datetime) -> None:
    """Withdraw the old one, by whoever has the new one, once nothing uses the old one.

    Raises:
        NotFound: what was shown follows no other. StillInUse: the old one is not quiet. Others as `renew`.
    """
    proven = _prove(backend, slug, client_id, shown, now)
    _may(proven.directory)
    if proven.rotation is None or proven.rotation.new_id != proven.credential.id:
        raise NotFound("This is not the new credential of a rotation.", next_step="Use the new one.")
    if proven.credential.first_used_at is None:
        # Who shows it here has it: that is a use like any other.
        with observation(backend.engine) as session:
            row = session.get(CredentialRow, proven.credential.id)
            assert row is not None
            row.first_used_at = row.last_used_at = now
            session.add(row)
    steps.close(Act(backend, proven.directory, proven.actor, now), client_id, proven.rotation.id, False, "")


def _prove(backend: Backend, slug: str, client_id: str, shown: Shown, now: datetime) -> _Proven:
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        row = shown.find(session, backend)
        client = clients.by_id(session, directory.id, client_id)
        works = {CredentialState.LIVE, CredentialState.EXPIRING}
        if (
            row is None
            or client is None
            or row.client_id != client.id
            or client.state != ClientState.LIVE
            or row.state(now, directory.policy.warn_before) not in works
        ):
            raise NotSignedIn("Client authentication failed: check the client id and how it proves itself.")
        rotation = rotations.open_of_credential(session, row.id)
        session.expunge_all()
        return _Proven(directory, client, row, rotation)


def _may(directory: Directory) -> None:
    if not directory.policy.self_rotation:
        raise Forbidden(
            f"{directory.name} leaves rotation to its custodians.",
            next_step="Ask a custodian to open the rotation.",
        )
