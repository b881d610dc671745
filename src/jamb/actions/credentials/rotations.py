"""Rotations: what is due, open one, see how far it is, extend, close or abandon it."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client
from jamb.actions.base.subjects import client_subject
from jamb.actions.base.views import credential_view
from jamb.actions.credentials.adding import SHOWN, Added, Place, alike
from jamb.actions.credentials.credentials import withdraw_in
from jamb.actions.judgement.judging import take_turn
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import changed
from jamb.core.errors import Conflict, NotFound, Unsuited
from jamb.core.rotation import (
    Held,
    RotationState,
    Week,
    check_abandoning,
    check_closing,
    forecast,
    overlap_end,
)
from jamb.store.base.work import Unit
from jamb.store.credentials import rotations
from jamb.store.credentials.rotations import LoadedRotation, Position, User
from jamb.wire.credentials.rotations import Due, Rotation

# How long ended ones are shown beside the open ones.
SHOWN_FOR = timedelta(days=30)
MOST_USERS = 5


@dataclass(frozen=True, slots=True)
class Opened:
    rotation: Rotation
    added: Added


def list_due(
    act: Act, within_days: int | None, own: Collection[str] | None, after: Position | None, limit: int
) -> tuple[list[Due], Position | None]:
    """Return a page of what expires within some days (the policy's warning period when None), and its last key if
    there is
    more.

    `own`: only these clients; None: all.
    """
    with act.read() as session:
        until = act.now + (act.directory.policy.warn_before if within_days is None else timedelta(days=within_days))
        rows = rotations.ending(
            session, act.directory.id, client_ids=own, now=act.now, until=until, after=after, limit=limit + 1
        )
        shown = [
            Due(
                client_id=row.client_id,
                client_name=name,
                credential=credential_view(row, act.now, act.directory.policy),
                overlap_ends_at=overlap_end(act.now, act.directory.policy.overlap_days, row.expires_at),
            )
            for row, name in rows[:limit]
        ]
        last = rows[limit - 1][0] if len(rows) > limit else None
        return shown, (last.expires_at, last.id) if last is not None and last.expires_at is not None else None


def list_rotations(
    act: Act, ended: bool, only: Collection[str] | None, after: Position | None, limit: int
) -> tuple[list[Rotation], Position | None]:
    """Return a page of the open rotations, or of those ended lately, and its last key if there is more.

    `only`: of these clients; None: of all.
    """
    with act.read() as session:
        since = act.now - SHOWN_FOR if ended else None
        rows = rotations.page(
            session, act.directory.id, client_ids=only, ended_since=since, after=after, limit=limit + 1
        )
        shown, last = rows[:limit], rows[limit - 1].row if len(rows) > limit else None
        moment = None if last is None else last.ended_at if ended else last.overlap_ends_at
        more = (moment, last.id) if last is not None and moment is not None else None
        return views(session, act.directory, shown, act.now), more


def read_rotation(act: Act, client_id: str, rotation_id: UUID) -> Rotation:
    with act.read() as session:
        return view(session, act.directory, _find(session, act.directory, client_id, rotation_id), act.now)


def reissue(act: Act, client_id: str, rotation_id: UUID) -> Opened:
    """Make the new credential of an open rotation again, because it was lost before anything used it.

    Raises:
        Conflict: the rotation has ended, its new credential is not one made here, or was used already.
    """
    with act.change() as unit:
        take_turn(unit)
        client, found = _locked(unit, client_id, rotation_id)
        if not found.facts().state(act.now).open:
            raise Conflict("This rotation has ended.", next_step="Open another.")
        made_here = CredentialKind(found.new.kind) in {CredentialKind.SECRET, CredentialKind.CERTIFICATE}
        if not made_here or found.new.first_used_at is not None or found.new.expires_at is None:
            said = f"{found.new.hint} cannot be made again here, or something uses it already."
            raise Conflict(said, next_step="Abandon the rotation instead.")
        at = Place(act, unit, client, found.new.label, rotating=True)
        # A certificate expires on a whole second: a little less than the days that were asked for.
        days = max(1, round((found.new.expires_at - found.new.issued_at) / timedelta(days=1)))
        lost = found.new
        withdraw_in(unit, client, lost.id, "Lost before it was used", rotation_stays=True)
        following = alike(lost, days)
        added = following.put(SHOWN.judge(at, following))
        unit.session.flush()
        found.row.new_id = added.credential.id
        unit.session.add(found.row)
        unit.session.flush()
        unit.enter(
            "rotation.reissued", client_subject(client), before={"new": lost.hint}, after={"new": added.credential.hint}
        )
        return Opened(
            view(unit.session, act.directory, _find(unit.session, act.directory, client.id, rotation_id), act.now),
            added,
        )


def extend(act: Act, client_id: str, rotation_id: UUID, days: int) -> Rotation:
    """Let the overlap end `days` from now, but never after the old credential expires by itself.

    Raises:
        Conflict: the rotation has ended. BadInput: days outside their bounds, or the old one ends before.
    """
    with act.change() as unit:
        client, found = _locked(unit, client_id, rotation_id)
        if not found.facts().state(act.now).open:
            raise Conflict("This rotation has ended.", next_step="Open another if it is needed.")
        ends = overlap_end(act.now, days, found.old.expires_at)
        if ends <= found.row.overlap_ends_at:
            known, last = said_moment(found.row.overlap_ends_at), said_moment(found.old.expires_at)
            allowed = f"a later end than {known}; the old one ends {last}"
            raise Unsuited.field("days", days, allowed)
        before = {"overlap until": said_moment(found.row.overlap_ends_at)}
        found.row.overlap_ends_at = ends
        unit.session.add(found.row)
        after = {"old": found.old.hint, "overlap until": said_moment(ends)}
        unit.enter("rotation.extended", client_subject(client), before=before, after=after)
        return view(unit.session, act.directory, found, act.now)


def close(act: Act, client_id: str, rotation_id: UUID, forced: bool, reason: str) -> Rotation:
    """Withdraw the old credential: the rotation is done.

    Raises:
        StillInUse: the old one is in use and it is not forced, or the new one was never seen. Conflict: it has ended.
    """
    with act.change() as unit:
        client, found = _locked(unit, client_id, rotation_id)
        users = rotations.users_of(unit.session, [found.row.id], MOST_USERS).get(found.row.id, [])
        facts = found.facts()
        check_closing(facts, act.now, _named(users), forced=forced)
        found.row.forced = facts.state(act.now) is not RotationState.QUIET
        unit.session.add(found.row)
        why = reason or ("Its rotation was forced to its end" if found.row.forced else "Its rotation is done")
        withdraw_in(unit, client, found.old.id, why)
        after = {"old": found.old.hint, "new": found.new.hint, "forced": found.row.forced}
        unit.enter("rotation.closed", client_subject(client), after=after, reason=reason)
        unit.session.flush()
        return view(unit.session, act.directory, found, act.now)


def abandon(act: Act, client_id: str, rotation_id: UUID, reason: str) -> Rotation:
    """Withdraw the new credential; the old one stands as before. Raises `Conflict` where the old one has ended."""
    with act.change() as unit:
        client, found = _locked(unit, client_id, rotation_id)
        check_abandoning(found.facts(), act.now)
        withdraw_in(unit, client, found.new.id, reason or "Its rotation was abandoned")
        after = {"old": found.old.hint, "new": found.new.hint}
        unit.enter("rotation.abandoned", client_subject(client), after=after, reason=reason)
        unit.session.flush()
        return view(unit.session, act.directory, found, act.now)


def foresee(act: Act, changes: Mapping[str, Any]) -> Sequence[Week]:
    """Return the rotations of the coming year by week, under the policy or with some of its settings changed.

    Raises:
        BadInput: a setting that does not exist or does not fit.
    """
    with act.read() as session:
        policy = (
            changed(act.directory.policy, changes, act.directory.policy.registering_groups)
            if changes
            else act.directory.policy
        )
        working = rotations.working(session, act.directory.id, act.now)
        return forecast([Held(CredentialKind(kind), ends) for kind, ends in working], policy, act.now)


def _locked(unit: Unit, client_id: str, rotation_id: UUID) -> tuple[Any, LoadedRotation]:
    client = find_client(unit.session, unit.directory, client_id, lock=True)
    return client, _find(unit.session, unit.directory, client.id, rotation_id, lock=True)


def _find(
    session: Session, directory: Directory, client_id: str, rotation_id: UUID, *, lock: bool = False
) -> LoadedRotation:
    found = rotations.by_id(session, directory.id, rotation_id, lock=lock)
    if found is None or found.row.client_id != client_id:
        raise NotFound(f"There is no rotation {rotation_id} of this client.", next_step="See the list of rotations.")
    return found


def _named(users: Sequence[User]) -> str:
    return "; ".join(
        f"{user.user_agent or 'a program without a name'} at {user.address or 'an unknown address'}, "
        f"last {user.last_at:%Y-%m-%d %H:%M} UTC"
        for user in users
    )


def said_moment(moment: datetime | None) -> str:
    return "no expiry" if moment is None else moment.isoformat(timespec="minutes")


def view(session: Session, directory: Directory, found: LoadedRotation, now: datetime) -> Rotation:
    return views(session, directory, [found], now)[0]


def views(session: Session, directory: Directory, found: Sequence[LoadedRotation], now: datetime) -> list[Rotation]:
    facts = {one.row.id: one.facts() for one in found}
    in_use = [key for key, one in facts.items() if one.ended is None and one.used_since is not None]
    users = rotations.users_of(session, in_use, MOST_USERS) if in_use else {}
    return [
        Rotation(
            id=one.row.id,
            client_id=one.row.client_id,
            client_name=one.client_name,
            state=facts[one.row.id].state(now),
            old=credential_view(one.old, now, directory.policy),
            new=credential_view(one.new, now, directory.policy),
            opened_at=one.row.opened_at,
            opened_by=one.row.opened_by,
            overlap_ends_at=one.row.overlap_ends_at,
            quiet_at=facts[one.row.id].quiet_at,
            used_since=facts[one.row.id].used_since,
            users=tuple(users.get(one.row.id, ())),
            ended_at=one.row.ended_at,
            ended_by=one.row.ended_by,
            forced=one.row.forced,
        )
        for one in found
    ]
