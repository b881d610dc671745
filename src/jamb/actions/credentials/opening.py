"""Opening rotations: another credential beside one, for one client or for many at once."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import nullcontext
from dataclasses import dataclass
from uuid import UUID, uuid4

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import check_live, find_client
from jamb.actions.base.subjects import client_subject
from jamb.actions.credentials.adding import SHOWN, Added, Addition, Delivery, Place, alike
from jamb.actions.credentials.credentials import find_credential, no_credential
from jamb.actions.credentials.rotations import Opened, said_moment, view, views
from jamb.actions.credentials.surroundings import Surroundings
from jamb.actions.judgement.judging import harmless, take_turn
from jamb.core.errors import AlreadyOpened, Conflict, NeedsAgreement, Refusal
from jamb.core.rotation import overlap_end
from jamb.store.base.work import Unit
from jamb.store.clients import clients
from jamb.store.credentials import credentials, rotations
from jamb.store.credentials.credentials import CredentialRow


@dataclass(frozen=True, slots=True)
class ToOpen:
    """A rotation that is to be opened. `rotation_id`: chosen by whoever asks, so that it can be asked for again."""

    client_id: str
    credential_id: UUID
    rotation_id: UUID


def open_rotation(
    act: Act,
    client_id: str,
    credential_id: UUID,
    successor: Addition | None,
    days: int | None,
    overlap_days: int | None,
    rotation_id: UUID | None = None,
    delivery: Delivery = SHOWN,
) -> Opened:
    """Put another credential beside one; both are valid until the old one is withdrawn.

    Args:
        successor: what follows; None: one like the old, made here, that lives for `days`.
        overlap_days: how long both are meant to stand; the policy's when None.
        rotation_id: chosen by the caller, so that one who never heard the answer can ask for it.
        delivery: how the new credential reaches whoever is to have it; left out, it is shown to whoever opens it.

    Raises:
        Conflict: the old one does not stand, or takes part in a rotation already. BadInput: what cannot follow.
    """
    with act.change() as unit:
        take_turn(unit)
        client = find_client(unit.session, act.directory, client_id, lock=True)
        old = find_credential(unit.session, client, credential_id)
        _refuse_ended(act, old)
        if rotation_id is not None and unit.session.get(rotations.RotationRow, rotation_id) is not None:
            raise _opened_already(rotation_id)
        if rotations.open_of_credential(unit.session, old.id) is not None:
            raise _taking_part(old)
        at = Place(act, unit, client, old.label, rotating=True)
        row, added = _open(at, old, successor or alike(old, days), overlap_days, rotation_id or uuid4(), delivery)
        # What it names is there before it is.
        unit.session.flush()
        rotations.write(unit.session, [row])
        return Opened(
            view(unit.session, act.directory, rotations.by_ids(unit.session, [row.id])[row.id], act.now), added
        )


Delivering = Callable[[ToOpen], Delivery]


def shown(_: ToOpen) -> Delivery:
    """Return the delivery by which whoever opens a rotation sees what follows."""
    return SHOWN


def open_rotations(
    act: Act,
    wanted: Sequence[ToOpen],
    days: int | None,
    overlap_days: int | None,
    delivering: Delivering = shown,
) -> list[Opened | Refusal]:
    """Put another credential like it beside each of many, in one transaction.

    Args:
        delivering: how what follows each reaches whoever is to have it; left out, all are shown to whoever opens them.

    Returns:
        for each that was asked for, in the same order, what was opened or why it was not: nothing of that one is left.
        What needs another person's yes is not asked for here: opened alone, it is.
    """
    terms = _Terms(days, overlap_days, delivering)
    with act.change() as unit:
        take_turn(unit)
        try:
            with unit.attempt():
                return _Many(act, unit, wanted, terms).open()
        except Refusal:
            # Where one cannot be opened, each is undone alone: that costs more, and is rare.
            return _Many(act, unit, wanted, terms).open(apart=True)


@dataclass(frozen=True, slots=True)
class _Terms:
    days: int | None
    overlap_days: int | None
    delivering: Delivering


class _Many:
    """Rotations of many clients: what decides about them is read at once, and written at once."""

    def __init__(self, act: Act, unit: Unit, wanted: Sequence[ToOpen], terms: _Terms) -> None:
        self.act, self.unit, self.wanted, self.terms = act, unit, wanted, terms
        session = unit.session
        self.clients = clients.locked(session, act.directory.id, {asked.client_id for asked in wanted})
        self.old = {row.id: row for row in credentials.by_ids(session, {asked.credential_id for asked in wanted})}
        self.busy = rotations.open_of_credentials(session, self.old)
        self.known = set(rotations.by_ids(session, {asked.rotation_id for asked in wanted}))
        ids = tuple(self.clients)
        self.read = Surroundings(unit, ids, harmless(unit, ids))

    def open(self, *, apart: bool = False) -> list[Opened | Refusal]:
        """Open each. `apart`: what cannot be opened is undone alone and returned, and not raised."""
        results: list[tuple[rotations.NewRotation, Added] | Refusal] = []
        for asked in self.wanted:
            try:
                with self.unit.attempt() if apart else nullcontext():
                    results.append(self._open(asked))
                    if apart:
                        self.read.write()
            except Refusal as error:
                if not apart:
                    raise
                self.read.forget()
                results.append(_alone(error) if isinstance(error, NeedsAgreement) else error)
        rows = [done[0] for done in results if not isinstance(done, Refusal)]
        self.read.write()
        rotations.write(self.unit.session, rows)
        made = rotations.by_ids(self.unit.session, [row.id for row in rows])
        found = views(self.unit.session, self.act.directory, list(made.values()), self.act.now)
        by_id = {view.id: view for view in found}
        return [done if isinstance(done, Refusal) else Opened(by_id[done[0].id], done[1]) for done in results]

    def _open(self, wanted: ToOpen) -> tuple[rotations.NewRotation, Added]:
        client = check_live(self.act.directory, wanted.client_id, self.clients.get(wanted.client_id))
        old = self.old.get(wanted.credential_id)
        if old is None or old.client_id != client.id:
            raise no_credential(client, wanted.credential_id)
        _refuse_ended(self.act, old)
        if wanted.rotation_id in self.known:
            raise _opened_already(wanted.rotation_id)
        if old.id in self.busy:
            raise _taking_part(old)
        at = Place(self.act, self.unit, client, old.label, rotating=True, read=self.read)
        terms, following = self.terms, alike(old, self.terms.days)
        row, added = _open(at, old, following, terms.overlap_days, wanted.rotation_id, terms.delivering(wanted))
        self.known.add(row.id)
        self.busy.add(old.id)
        return row, added


def _open(
    at: Place, old: CredentialRow, following: Addition, overlap_days: int | None, rotation_id: UUID, delivery: Delivery
) -> tuple[rotations.NewRotation, Added]:
    """Add what follows; return the rotation, to be written, and what was added."""
    act, unit = at.act, at.unit
    overlap_ends_at = overlap_end(
        act.now, act.directory.policy.overlap_days if overlap_days is None else overlap_days, old.expires_at
    )
    at = delivery.judge(at, following)
    added = following.put(at)
    delivery.carry(at, following, added)
    row = rotations.NewRotation(
        id=rotation_id,
        directory_id=act.directory.id,
        client_id=at.client.id,
        old_id=old.id,
        new_id=added.credential.id,
        opened_at=act.now,
        opened_by=act.actor.name,
        overlap_ends_at=overlap_ends_at,
        quiet_seconds=act.directory.policy.quiet_days * 86_400,
    )
    after = {"old": old.hint, "new": added.credential.hint, "overlap until": said_moment(overlap_ends_at)}
    unit.enter("rotation.opened", client_subject(at.client), after=after)
    return row, added


def _refuse_ended(act: Act, old: CredentialRow) -> None:
    if not old.stands(act.now):
        state = old.state(act.now, act.directory.policy.warn_before)
        said = f"{old.hint} is {state.value}: there is nothing to overlap with."
        raise Conflict(said, next_step="Add a credential instead.")


def _opened_already(rotation_id: UUID) -> AlreadyOpened:
    return AlreadyOpened(f"The rotation {rotation_id} was opened already.", next_step="Read it, or choose another id.")


def _taking_part(old: CredentialRow) -> Conflict:
    return Conflict(f"{old.hint} takes part in a rotation already.", next_step="Close or abandon that one first.")


def _alone(error: NeedsAgreement) -> NeedsAgreement:
    return NeedsAgreement(error.message, next_step="Open this one alone: then it waits for whoever can agree.")
