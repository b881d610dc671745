"""Removing clients that nobody needs: after they were disabled, with credentials that are expired or withdrawn; and
restoring them in time.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, load_one, note_narrowed
from jamb.actions.base.subjects import client_subject
from jamb.actions.clients.clients import client_view
from jamb.actions.judgement.judging import Wanted, judge_addition, take_turn
from jamb.actions.judgement.powers import Bench
from jamb.core import own_api
from jamb.core.access.powers import NO_POWERS, beyond
from jamb.core.clients.clients import ClientState, folded
from jamb.core.consent.agreements import ActKind
from jamb.core.consent.requests import RequestState
from jamb.core.directory.directories import Directory
from jamb.core.errors import BadInput, Conflict, NameTaken, NotFound, StillInUse, Violation
from jamb.core.reach.details import reach_of
from jamb.store.audit import client_facts as pictures
from jamb.store.audit.client_facts import LoadedClient
from jamb.store.base.work import Unit, check_reason
from jamb.store.clients import clients, removals
from jamb.store.clients.clients import GrantRow
from jamb.store.clients.removals import RemovalRow
from jamb.store.consent import dry_runs, requests
from jamb.store.directory import roles
from jamb.store.directory.roles import AssignmentRow, RoleRow
from jamb.store.resources import resources
from jamb.wire.clients.clients import Client
from jamb.wire.clients.removals import RemovalPreview, Removed, StandingCredential

MOST_AT_ONCE = 200


def preview(act: Act, client_ids: Sequence[str]) -> list[RemovalPreview]:
    """Return for each client what its removal would take along, and what stands against it. Changes nothing."""
    if not client_ids or len(client_ids) > MOST_AT_ONCE:
        raise BadInput.field("clients", f"{len(client_ids)} clients", f"1 to {MOST_AT_ONCE}")
    with act.read() as session:
        for one in client_ids:
            find_client(session, act.directory, one)
        loaded = pictures.load(
            session, act.directory.id, act.directory.policy, act.now, list(dict.fromkeys(client_ids))
        )
        return [_preview(session, act.directory, one, act.now) for one in loaded]


def remove(act: Act, client_id: str, reason: str) -> Removed:
    """Remove a disabled client whose credentials are dead: out of sight, its consents and roles ended, its name free.

    Raises:
        StillInUse: with all that stands against it.
    """
    check_reason(reason)
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id, lock=True)
        loaded = load_one(unit.session, act.directory, client, act.now)
        seen = _preview(unit.session, act.directory, loaded, act.now)
        if seen.against:
            raise StillInUse(
                f"“{client.name}” cannot be removed yet.",
                violations=tuple(Violation("client", client.name, one) for one in seen.against),
                next_step="Do these first, then remove it.",
            )
        note_narrowed(unit, client)
        ended = _end_all(unit, client)
        row = RemovalRow(
            client_id=client.id,
            directory_id=act.directory.id,
            removed_at=act.now,
            removed_by=act.actor.name,
            reason=reason,
            restore_until=act.now + timedelta(days=act.directory.policy.restore_days),
            name=client.name,
            ended=ended,
        )
        unit.session.add(row)
        unit.enter(
            "client.removed",
            client_subject(client),
            before={"state": client.state, "consents": list(seen.consents), "roles": list(seen.roles)},
            after={"restore until": row.restore_until.isoformat()},
            reason=reason,
        )
        client.state, client.folded_name = ClientState.REMOVED.value, f"removed\0{client.id}".replace("\0", " ")
        unit.session.add(client)
        unit.session.flush()
        return _removed(unit.session, act.directory, [row])[0]


def restore(act: Act, client_id: str) -> Client:
    """Restore a removed client, disabled, with the consents and roles that its removal ended; credentials stay dead.

    Raises:
        NeedsAgreement: it would hold again more than one person may add; it waits at the consent desk.
        NotFound: it was not removed here. Conflict: its time is over. NameTaken: another client has its name by now.
    """
    with act.change() as unit:
        take_turn(unit)
        row = unit.session.get(RemovalRow, client_id, with_for_update=True)
        client = clients.by_id(unit.session, act.directory.id, client_id, lock=True)
        if row is None or client is None:
            raise NotFound(f"No removed client {client_id[:40]} is known here.", next_step="See the removed clients.")
        if act.now > row.restore_until:
            raise Conflict(
                f"“{row.name}” could be restored until {row.restore_until:%Y-%m-%d}.", next_step="Register it anew."
            )
        # A row cannot be read any more once its name was refused.
        name = row.name
        client.state, client.folded_name = ClientState.DISABLED.value, folded(name)
        with unit.constraint("client_name_taken", lambda: _taken(name)):
            unit.session.add(client)
        back = _give_back(unit, client, row.ended)
        unit.session.flush()
        bench = Bench(unit.session, act.directory, act.now)
        gained = beyond(bench.places, bench.power_of_client(client.id, for_people=True), NO_POWERS)
        why = f"“{name}” would hold again what its removal ended"
        wanted = Wanted(ActKind.RESTORATION, f"“{name}”", {"removed": row.removed_at.isoformat()}, client.id)
        judge_addition(unit, client, gained.weight, why, wanted)
        unit.session.delete(row)
        unit.enter(
            "client.restored",
            client_subject(client),
            before={"removed": row.removed_at.isoformat(), "by": row.removed_by},
            after={"state": "disabled", **back},
        )
        unit.session.flush()
        return client_view(act.directory, load_one(unit.session, act.directory, client, act.now), act.now)


def list_removed(
    act: Act, query: str = "", after: tuple[datetime, str] | None = None, limit: int = 50
) -> tuple[list[Removed], tuple[datetime, str] | None, int]:
    """Return a page of what was removed, the latest first, with what ended by that.

    Args:
        query: part of a name, or how a client id begins.

    Returns:
        The page, when its last one was removed and its id where there are more, and how many are found in all.
    """
    with act.read() as session:
        rows, total = removals.removals_of(session, act.directory.id, query, after, limit + 1)
        shown = rows[:limit]
        more = (shown[-1].removed_at, shown[-1].client_id) if len(rows) > limit else None
        return _removed(session, act.directory, shown), more, total


def _preview(session: Session, directory: Directory, loaded: LoadedClient, now: datetime) -> RemovalPreview:
    row, picture = loaded.row, loaded.picture
    places = {resource.id: resource.name for resource in resources.resources_of(session, directory.id)}
    against = []
    if row.state == ClientState.LIVE:
        against.append("it is live: disable it, and wait whether somebody misses it")
    standing = [credential for credential in loaded.credentials if credential.stands(now)]
    if standing:
        against.append(f"credentials that are not dead: {', '.join(one.hint for one in standing)}")
    guarding = resources.guarded_by(session, row.id)
    lasting = [f"it is the guard of {', '.join(guarding)}"] if guarding else []
    consents = tuple(
        f"{places[grant.resource_id]}: {grant.permission} ({grant.kind}), {reach_of(grant.reach).words}"
        for grant in loaded.grants
        if grant.stands(now)
    )
    held = tuple(
        f"{places[role.resource_id]}: {role.name}, {reach_of(assigned.reach).words}"
        for assigned, role in loaded.roles
        if assigned.expires_at is None or assigned.expires_at > now
    )
    waiting = requests.waiting_for(session, row.id, now)
    return RemovalPreview(
        client_id=row.id,
        name=row.name,
        against=[*against, *lasting],
        lasting=lasting,
        credentials=[StandingCredential(id=one.id, hint=one.hint) for one in standing],
        disabled_since=row.tokens_revoked_at if row.state == ClientState.DISABLED else None,
        last_used_at=picture.last_seen_at,
        owners=tuple(owner.name for owner in loaded.owners),
        consents=consents,
        roles=held,
        requests=len(waiting),
        elsewhere=tuple(_naming(session, directory, row.id, now)),
    )


def _naming(session: Session, directory: Directory, client_id: str, now: datetime) -> Iterable[str]:
    """Return the names of clients and roles whose reach at Jamb's own API names this client."""
    own = resources.by_name(session, directory.id, own_api.NAME)
    if own is None:
        return []
    found = [name for name, reach in clients.bounded_at(session, own.id, now) if client_id in reach.collections]
    return sorted(set(found))


def _end_all(unit: Unit, client: clients.ClientRow) -> dict[str, list[dict[str, Any]]]:
    """End its consents and roles now, take its requests back, drop what is in a dry run; return what to give back."""
    ended: dict[str, list[dict[str, Any]]] = {"consents": [], "roles": []}
    for grant in clients.grants_of(unit.session, [client.id]):
        if grant.stands(unit.now):
            ended["consents"].append({"id": str(grant.id), "until": _said(grant.expires_at)})
            grant.expires_at, grant.narrowed_at = unit.now, client.narrowed_at
            unit.session.add(grant)
    for held in roles.assignments_of_client(unit.session, client.id):
        if held.expires_at is None or held.expires_at > unit.now:
            ended["roles"].append({"id": str(held.id), "until": _said(held.expires_at)})
            held.expires_at, held.narrowed_at = unit.now, client.narrowed_at
            unit.session.add(held)
    for waiting in requests.waiting_of_client(unit.session, client.id):
        waiting.state, waiting.decided_at = RequestState.WITHDRAWN.value, unit.now
        unit.session.add(waiting)
    for dry_run in dry_runs.running_for(unit.session, client.id):
        dry_run.ended_at, dry_run.ended_by, dry_run.outcome = unit.now, "removal", "dropped"
        unit.session.add(dry_run)
    return ended


def _give_back(unit: Unit, client: clients.ClientRow, ended: dict[str, list[dict[str, Any]]]) -> dict[str, list[str]]:
    """Grant anew what the removal ended and nothing else has ended since; return what could not be given back, too."""
    back: dict[str, list[str]] = {"given back": [], "not given back": []}
    places = resources.resources_of(unit.session, client.directory_id)
    names, catalogues = {place.id: place.name for place in places}, resources.catalogues(unit.session, places)
    for one in ended["consents"]:
        old, until = unit.session.get(GrantRow, UUID(one["id"])), _moment(one["until"])
        if old is None:
            continue
        words = f"{names[old.resource_id]}: {old.permission}"
        known = old.permission in catalogues[old.resource_id].permissions
        if not known or (until is not None and until <= unit.now):
            back["not given back"].append(words)
            continue
        again = old.model_dump() | {
            "id": uuid4(),
            "granted_at": unit.now,
            "granted_by": unit.actor.name,
            "expires_at": until,
        }
        unit.session.add(GrantRow(**again | {"narrowed_at": None}))
        back["given back"].append(words)
    for one in ended["roles"]:
        held, until = unit.session.get(AssignmentRow, UUID(one["id"])), _moment(one["until"])
        role = unit.session.get(RoleRow, held.role_id) if held is not None else None
        if held is None or role is None:
            continue
        if role.removed_at is not None or (until is not None and until <= unit.now):
            back["not given back"].append(f"the role {role.name}")
            continue
        again = held.model_dump() | {
            "id": uuid4(),
            "assigned_at": unit.now,
            "assigned_by": unit.actor.name,
            "expires_at": until,
        }
        unit.session.add(AssignmentRow(**again | {"narrowed_at": None}))
        back["given back"].append(f"the role {role.name}")
    return back


def _removed(session: Session, directory: Directory, rows: Sequence[RemovalRow]) -> list[Removed]:
    names = {resource.id: resource.name for resource in resources.resources_of(session, directory.id)}
    consents = {grant.id: grant for grant in clients.grants_by_id(session, _ended(rows, "consents"))}
    held = roles.names_assigned(session, _ended(rows, "roles"))
    return [
        Removed(
            client_id=row.client_id,
            name=row.name,
            removed_at=row.removed_at,
            removed_by=row.removed_by,
            reason=row.reason,
            restore_until=row.restore_until,
            consents=tuple(
                f"{names[consents[key].resource_id]}: {consents[key].permission}"
                for key in _ended([row], "consents")
                if key in consents
            ),
            roles=tuple(held[key] for key in _ended([row], "roles") if key in held),
        )
        for row in rows
    ]


def _ended(rows: Iterable[RemovalRow], what: str) -> list[UUID]:
    return [UUID(ended["id"]) for row in rows for ended in row.ended[what]]


def _said(moment: datetime | None) -> str:
    return moment.isoformat() if moment is not None else ""


def _moment(text: str) -> datetime | None:
    return datetime.fromisoformat(text) if text else None


def _taken(name: str) -> NameTaken:
    return NameTaken(
        f"Another client is called “{name}” by now.",
        violations=(Violation("name", name, "a name no other client of this directory has", "Rename the other one."),),
    )
