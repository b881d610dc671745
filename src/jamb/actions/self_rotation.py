"""A client rotates its own secret, with the secret it has: no administrator is needed, and nothing is ever lost."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlmodel import Session, select

from jamb.actions import rotations as steps
from jamb.actions.premises import Directory, Premises, find_directory
from jamb.core.clients import ClientState
from jamb.core.credentials import CredentialState, digest_secret
from jamb.core.errors import Forbidden, NotFound, NotSignedIn
from jamb.core.rotation import RotationState
from jamb.store import clients, rotations
from jamb.store.credentials import CredentialRow
from jamb.store.work import Actor, observation


@dataclass(frozen=True, slots=True)
class Own:
    """What a client learns of the secret that it sent. `follows`: the rotation in which it is the new one."""

    ends: datetime | None
    state: RotationState | None
    follows: bool
    quiet_at: datetime | None


@dataclass(frozen=True, slots=True)
class Renewed:
    """The new secret, and until when the old one is valid beside it."""

    secret: str
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


def look(premises: Premises, slug: str, client_id: str, secret: str, now: datetime) -> Own:
    """Return when the secret ends and how far its rotation is. Raises `NotSignedIn` unless it works."""
    proven = _prove(premises, slug, client_id, secret, now)
    if proven.rotation is None:
        return Own(proven.credential.expires_at, None, False, None)
    view = steps.read_rotation(premises, slug, client_id, proven.rotation.id, now)
    follows = proven.rotation.new_id == proven.credential.id
    return Own(proven.credential.expires_at, view.state, follows, view.quiet_at)


def renew(premises: Premises, slug: str, client_id: str, secret: str, now: datetime) -> Renewed:
    """Open a rotation of the secret that was sent, or issue its new secret again while nothing used that.

    So a client that never heard the answer simply asks again.

    Raises:
        NotSignedIn: the secret does not work. Forbidden: the policy leaves it to administrators.
        Conflict: the new secret of its rotation is in use already, or it is itself the new one of a rotation.
    """
    proven = _prove(premises, slug, client_id, secret, now)
    _may(proven.directory)
    if proven.rotation is not None and proven.rotation.old_id == proven.credential.id:
        opened = steps.reissue(premises, proven.directory, client_id, proven.rotation.id, proven.actor, now)
    else:
        opened = steps.open_rotation(
            premises, proven.directory, client_id, proven.credential.id, None, None, None, proven.actor, now
        )
    made = opened.added.sheets[0].secret
    assert made is not None
    return Renewed(made, opened.rotation.new.expires_at, opened.rotation.overlap_ends_at)


def finish(premises: Premises, slug: str, client_id: str, secret: str, now: datetime) -> None:
    """Withdraw the old secret, by whoever has the new one, once nothing uses the old one.

    Raises:
        NotFound: this secret follows no other. StillInUse: the old one is not quiet. Others as `renew`.
    """
    proven = _prove(premises, slug, client_id, secret, now)
    _may(proven.directory)
    if proven.rotation is None or proven.rotation.new_id != proven.credential.id:
        raise NotFound("This secret is not the new one of a rotation.", next_step="Send the new secret.")
    if proven.credential.first_used_at is None:
        # Who sends it here has it: that is a use like any other.
        with observation(premises.engine) as session:
            row = session.get(CredentialRow, proven.credential.id)
            assert row is not None
            row.first_used_at = row.last_used_at = now
            session.add(row)
    steps.close(premises, proven.directory, client_id, proven.rotation.id, False, "", proven.actor, now)


def _prove(premises: Premises, slug: str, client_id: str, secret: str, now: datetime) -> _Proven:
    digest = digest_secret(premises.sealer.credential_key, secret)
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        row = session.exec(select(CredentialRow).where(CredentialRow.digest == digest)).first()
        client = clients.by_id(session, directory.id, client_id)
        works = {CredentialState.LIVE, CredentialState.EXPIRING}
        if (
            row is None
            or client is None
            or row.client_id != client.id
            or client.state != ClientState.LIVE
            or row.state(now, directory.policy.notice) not in works
        ):
            raise NotSignedIn("Client authentication failed: check the client id and the secret.")
        rotation = rotations.open_of_credential(session, row.id)
        session.expunge_all()
        return _Proven(directory, client, row, rotation)


def _may(directory: Directory) -> None:
    if not directory.policy.self_rotation:
        raise Forbidden(
            f"{directory.name} leaves the rotation of secrets to its custodians.",
            next_step="Ask a custodian to open the rotation.",
        )
