"""Admission to Jamb's own API: who calls, what they may do here, and whom to ask when they may not."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act, Caller
from jamb.actions.base.backend import Backend
from jamb.core import own_api
from jamb.core.access import (
    CheckName,
    ClientStanding,
    ObjectFacts,
    PersonStanding,
    Request,
    TokenFacts,
    decide,
    explain,
)
from jamb.core.clients.clients import ClientState, OwnerLevel
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import Registering
from jamb.core.errors import Forbidden, NotFound, NotSignedIn
from jamb.core.ladder import Use
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, ReachKind
from jamb.core.text import in_words
from jamb.store.audit import client_facts as pictures
from jamb.store.audit import findings
from jamb.store.base.work import Actor
from jamb.store.clients import clients
from jamb.store.consent import requests
from jamb.store.directory import roles
from jamb.store.entry import admission
from jamb.store.resources import resources, usage
from jamb.wire.directory.people import MayRegister

# Whom to ask is a choice of a few.
MOST_NAMED = 6


@dataclass(frozen=True, slots=True)
class Whoami:
    actor: Actor
    roles: tuple[str, ...]
    may: tuple[str, ...]


# Whoever may do this sees a client at all.
_SEES = "clients.read"


@dataclass(frozen=True, slots=True)
class _AtDoor:
    """A caller with all that a decision on Jamb's own API needs."""

    directory: Directory
    resource_id: UUID
    catalogue: Catalogue
    standing: ClientStanding
    person: PersonStanding | None
    token: TokenFacts | None

    def request(self, operation: str, client_id: str | None = None) -> Request:
        kind = AccessKind.APPLICATION if self.person is None else AccessKind.DELEGATED
        # Jamb's own objects are the clients; each lies in a collection of its own.
        found = ObjectFacts(client_id, (client_id,)) if client_id is not None else None
        return Request(operation, kind, self.person, self.token, found)

    def counting(self, operation: str, client_id: str | None) -> _AtDoor:
        """Return the caller with what counts for an operation that names no client in its address.

        It is about the client of a request or a finding, or about none: then a role that is bounded to some clients
        opens it only where it reads what is the caller's own.
        """
        return self if self._concerns(operation) else self._narrowed(client_id)

    def opened(self, client_id: str | None, now: datetime) -> list[str]:
        """Return the operations that the caller may do with a client, or with none in particular, by name."""
        narrowed, catalogue = self._narrowed(client_id), self.catalogue
        decided: dict[tuple[frozenset[str], bool, bool], bool] = {}
        found = []
        for name in sorted(catalogue.operations):
            # One decision for all that the same permissions open in the same way.
            way = catalogue.openers(name), catalogue.concerns_object(name), self._concerns(name)
            if way not in decided:
                decided[way] = _may(self if self._concerns(name) else narrowed, name, now, client_id)
            if decided[way]:
                found.append(name)
        return found

    def _concerns(self, operation: str) -> bool:
        """Tell whether an operation names its client in its address, or reads what is the caller's own."""
        return self.catalogue.concerns_object(operation) or operation in own_api.READS_OWN

    def _narrowed(self, client_id: str | None) -> _AtDoor:
        if self.person is not None:
            held = tuple(role for role in self.person.roles if role.reach.counts_for(client_id))
            return replace(self, person=replace(self.person, roles=held))
        grants = tuple(grant for grant in self.standing.grants if grant.reach.counts_for(client_id))
        return replace(self, standing=replace(self.standing, grants=grants))

    def own(self, now: datetime) -> frozenset[str] | None:
        """Return the clients that the caller is limited to seeing by their roles or consents; None: no limit."""
        if self.person is None:
            reaches = [
                grant.reach
                for grant in self.standing.grants
                if grant.kind is AccessKind.APPLICATION
                and grant.in_force(now)
                and _SEES in self.catalogue.opened_by(grant.permission)
            ]
            # A guard sees no clients, and is asked for nothing of them.
            if not reaches:
                return None
        else:
            reaches = [
                role.reach for role in self.person.roles if _SEES in self.catalogue.opened_by_all(role.permissions)
            ]
        if any(reach == EVERYWHERE for reach in reaches):
            return None
        return frozenset().union(*(reach.collections for reach in reaches if reach.kind is ReachKind.ONLY))

    @property
    def actor(self) -> Actor:
        if self.person is None:
            return Actor("client", self.standing.id, self.standing.name, self.standing.name)
        return Actor("person", self.person.id, self.person.name, self.standing.name)


def admit(
    session: Session,
    backend: Backend,
    directory: Directory,
    caller: Caller,
    operation: str,
    now: datetime,
    client_id: str | None = None,
    known: admission.Known | None = None,
) -> Act:
    """Let a caller into one operation of Jamb's own API, by the same decision as for every client.

    What a client does here as itself is use like any other: the audit judges it so.

    Args:
        client_id: the client that the operation is about, if it is about one.
        known: what was read of the caller when they were recognised; None: nothing yet.

    Raises:
        NotFound: the caller belongs to another directory.
        Forbidden: with the reason, and the role or permission that would do.
    """
    known_here = _meet(session, directory, caller, now, operation, known)
    at_door = known_here.counting(operation, client_id)
    request = at_door.request(operation, client_id)
    if not decide(at_door.catalogue, at_door.standing, request, now).allowed:
        whole = known_here.request(operation, client_id)
        if decide(known_here.catalogue, known_here.standing, whole, now).allowed:
            raise _out_of_reach(known_here, operation, client_id)
        raise _refusal(session, at_door, request, now, client_id)
    if at_door.person is None:
        use = Use(operation, AccessKind.APPLICATION, now.date(), 1, now)
        if backend.own_uses is not None:
            backend.own_uses.note(at_door.resource_id, caller.client_id, use)
        else:
            usage.add_uses(session, at_door.resource_id, [(caller.client_id, use)])
            session.commit()
    return Act(backend, directory, at_door.actor, now, known_here.own(now), caller)


def admit_also(act: Act, operation: str, client_id: str | None = None, caller: Caller | None = None) -> None:
    """Decide again, where an act is done as another operation than the one that it was let in for.

    Args:
        caller: who must be let in; None: whoever called.

    Raises:
        Forbidden: with the reason, and the role or permission that would do.
    """
    who_asks = caller or act.caller
    assert who_asks is not None
    with Session(act.backend.engine, expire_on_commit=False) as session:
        admit(session, act.backend, act.directory, who_asks, operation, act.now, client_id)


def who(
    session: Session, directory: Directory, caller: Caller, now: datetime, known: admission.Known | None = None
) -> Whoami:
    """Return who the caller is, the roles they hold, and every operation of Jamb's own API that is open to them."""
    at_door = _meet(session, directory, caller, now, known=known)
    held = tuple(dict.fromkeys(role.name for role in at_door.person.roles)) if at_door.person else ()
    return Whoami(at_door.actor, held, tuple(at_door.opened(None, now)))


def may_with(session: Session, act: Act, client_id: str) -> list[str]:
    """Return the operations of Jamb's own API that the caller may do with one client, by name."""
    if act.caller is None:
        return []
    return _meet(session, act.directory, act.caller, act.now).opened(client_id, act.now)


def client_meant(session: Session, directory: Directory, about: Mapping[str, str]) -> str | None:
    """Return the client that a call is about, by what its address names: a client, a request or a finding of one."""
    if "client" in about:
        return about["client"]
    key = _id_in(about.get("request") or about.get("finding") or "")
    if key is None:
        return None
    if "request" in about:
        row = requests.by_id(session, directory.id, key)
        return row.client_id if row is not None else None
    found = findings.finding_by_id(session, directory.id, key)
    return found[1].id if found is not None else None


def _id_in(text: str) -> UUID | None:
    try:
        return UUID(text)
    except ValueError:
        return None


def _may(at_door: _AtDoor, operation: str, now: datetime, client_id: str | None = None) -> bool:
    return decide(at_door.catalogue, at_door.standing, at_door.request(operation, client_id), now).allowed


def _out_of_reach(at_door: _AtDoor, operation: str, client_id: str | None) -> Forbidden:
    """Word the refusal of what a bounded role would open, were it not about another client, or about none."""
    title = at_door.catalogue.operations[operation].title
    what = "is about another client" if client_id is not None else "is about no client in particular"
    return Forbidden(
        f"“{title}” is refused: it {what}, and what would allow it counts for some clients only.",
        next_step="Have somebody do it whose role counts everywhere.",
    )


def may_register(
    session: Session, directory: Directory, caller: Caller, now: datetime, known: admission.Known | None = None
) -> MayRegister:
    """Tell a caller before the form whether they may register, and whom to ask if not."""
    at_door = _meet(session, directory, caller, now, known=known)
    allowed = _may(at_door, "clients.register", now)
    policy = directory.policy
    groups = ", ".join(policy.registering_groups)
    why = {
        Registering.EVERYONE: "Everyone of this directory may register clients.",
        Registering.GROUPS: f"Members of {groups} and registrars may register clients.",
        Registering.NOBODY: "Only registrars and stewards may register clients.",
    }[policy.registering]
    asking = () if allowed else tuple(_holding(session, directory, ("registrar", "steward"), now))
    return MayRegister(allowed=allowed, why=why, ask=asking)


def _meet(
    session: Session,
    directory: Directory,
    caller: Caller,
    now: datetime,
    operation: str | None = None,
    known: admission.Known | None = None,
) -> _AtDoor:
    """Read what a decision on one operation needs; on all of them, where none is named."""
    if known is None:
        known = admission.by_caller(session, directory.id, caller.client_id, caller.person_id, own_api.NAME, now)
    if known is None or (directory.id, caller.client_id) != (known.directory_id, known.client_id):
        slug = directory.slug
        raise NotFound(f"No directory “{slug[:40]}” is open to you.", next_step="Use the one you belong to.")
    catalogue = resources.catalogue_at(session, known.resource_id, known.revision)
    person = None
    if caller.person_id is not None:
        if known.person_id is None or known.person_id != caller.person_id:
            raise NotSignedIn("You are no longer known here.", next_step="Sign in again.")
        makes = operation is None or operation in catalogue.opened_by_all(own_api.MAKER.permissions)
        person = PersonStanding(str(known.person_id), known.person_name or "", bool(known.person_active), known.roles())
        # Whoever may do it, and sees every client, by roles that count everywhere need own nothing.
        by_roles = catalogue.opened_by_all(
            name for held in person.roles if held.reach == EVERYWHERE for name in held.permissions
        )
        if operation is None or not {operation, _SEES} <= by_roles:
            person = _with_own(session, directory, known.person_id, person, makes=makes)
    key = known.client_id
    grants = (*known.consents(), *known.by_role())
    # What it asks is told in a refusal, and decides nothing.
    live = known.client_state == ClientState.LIVE
    standing = ClientStanding(key, known.client_name, live, (), grants, None, known.tokens_revoked_at)
    return _AtDoor(directory, known.resource_id, catalogue, standing, person, caller.token)


def _with_own(
    session: Session, directory: Directory, person_id: UUID, person: PersonStanding, *, makes: bool
) -> PersonStanding:
    """Return the person with the roles, too, that ownership and the directory's policy give.

    Args:
        makes: whether it matters that they may register by the policy.
    """
    policy = directory.policy
    may = makes and (
        policy.registering is Registering.EVERYONE
        or (
            policy.registering is Registering.GROUPS
            and not set(policy.registering_groups).isdisjoint(roles.groups_around(session, person_id))
        )
    )
    given = own_api.own_roles(clients.owned_by(session, person_id), may_register=may)
    return PersonStanding(person.id, person.name, person.live, (*person.roles, *given))


def standing_of(
    session: Session, client: clients.ClientRow, resource_id: UUID, *, can_authenticate: bool | None = None
) -> ClientStanding:
    """Return what a client asks, holds by consent and by its roles at one resource."""
    asks = tuple(row.held() for row in clients.asks_of(session, [client.id]) if row.resource_id == resource_id)
    by_role = roles.roles_of_clients(session, [client.id]).get(client.id, [])
    grants = tuple(pictures.held_at(resource_id, clients.grants_of(session, [client.id]), by_role))
    live = client.state == ClientState.LIVE
    return ClientStanding(
        client.id,
        client.name,
        live,
        asks,
        grants,
        can_authenticate,
        client.tokens_revoked_at,
        tuple(client.sign_in_groups),
        client.trial_ends_at,
    )


def _refusal(
    session: Session, at_door: _AtDoor, request: Request, now: datetime, client_id: str | None = None
) -> Forbidden:
    """Word the refusal: what was wanted, which check failed, and whom to ask."""
    asks = tuple(
        row.held() for row in clients.asks_of(session, [at_door.standing.id]) if row.resource_id == at_door.resource_id
    )
    standing = replace(at_door.standing, asks=asks)
    known = roles.roles_of_resource(session, at_door.resource_id)
    explained = explain(at_door.catalogue, standing, request, now, known)
    failed = {check.name for check in explained.decision.failed}
    reasons = "; ".join(check.evidence for check in explained.decision.failed)
    client = clients.by_id(session, at_door.directory.id, client_id) if client_id is not None else None
    # Of a client that one may not even see nothing is told, its name and its owners least of all.
    if failed == {CheckName.ROLE} and client is not None and _may(at_door, "clients.read", now, client.id):
        return _refused_with(session, at_door, request.operation, reasons, client, now)
    title = at_door.catalogue.operations[request.operation].title
    steps = " ".join(step.text for step in explained.steps)
    if CheckName.ROLE in failed:
        names = ", ".join(_holding(session, at_door.directory, ("steward",), now))
        steps += f" Stewards here: {names}." if names else ""
    return Forbidden(f"“{title}” is refused: {reasons}.", next_step=steps)


def _refused_with(
    session: Session, at_door: _AtDoor, operation: str, reasons: str, client: clients.ClientRow, now: datetime
) -> Forbidden:
    """Word the refusal of what a person may not do with one client: as what they know it, and who may."""
    assert at_door.person is not None
    title = at_door.catalogue.operations[operation].title
    owners = clients.owners_of(session, [client.id]).get(client.id, [])
    level = next((owner.level for owner in owners if str(owner.person_id) == at_door.person.id), None)
    words = {
        None: reasons,
        OwnerLevel.READ: f"as an owner of “{client.name}” you may look at it, and no more",
        OwnerLevel.EDIT: f"as an owner of “{client.name}” you may edit what it asks, and no more",
        OwnerLevel.FULL: f"owning “{client.name}” is not enough for it",
    }[level]
    whom = []
    if operation in at_door.catalogue.opened_by(own_api.OWNER_PERMISSION[OwnerLevel.FULL]):
        full = [owner.name for owner in owners if owner.live and owner.level is OwnerLevel.FULL]
        whom = [name for name in full if name != at_door.person.name][:MOST_NAMED]
    known = roles.roles_of_resource(session, at_door.resource_id)
    opens = {role.name: at_door.catalogue.opened_by_all(role.permissions) for role in known}
    # The smallest that would do, first.
    enough = sorted((name for name in opens if operation in opens[name]), key=lambda name: (len(opens[name]), name))
    for name in enough[:MOST_NAMED]:
        held = ", ".join(_holding(session, at_door.directory, (name,), now, client.id))
        whom += [f"{name} ({held})"] if held else []
    return Forbidden(
        f"“{title}” is refused: {words}.", next_step=f"Ask {in_words(whom, 'or') or 'whoever runs the service'}."
    )


def _holding(
    session: Session, directory: Directory, names: tuple[str, ...], now: datetime, client_id: str | None = None
) -> list[str]:
    """Return the names of the live people whose role, one of these, counts for a client; of many, the first."""
    held = roles.holding_roles(session, directory.id, names, now)
    return sorted({one.person.name for one in held if one.counts_for(client_id)})[:MOST_NAMED]
