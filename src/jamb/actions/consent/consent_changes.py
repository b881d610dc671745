"""End consents, or let them count for those alone whom a client acts for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID, uuid4

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource, note_narrowed
from jamb.actions.base.subjects import client_subject
from jamb.actions.directory.people import find_person
from jamb.core.access import HeldGrant, compare, covering, holdings_in_force
from jamb.core.errors import Conflict, NothingToWithdraw, Unsuited, Violation
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import CollectionTree
from jamb.store.audit import client_facts as pictures
from jamb.store.base.work import Unit, check_reason
from jamb.store.clients import clients
from jamb.store.directory import people, roles
from jamb.store.resources import resources, usage, use_evidence
from jamb.wire.consent.consent import WithdrawnConsent


@dataclass(frozen=True, slots=True)
class Standing:
    """What a client is consented to at one resource in one kind, and what its roles give it there."""

    client: clients.ClientRow
    resource: resources.ResourceRow
    catalogue: Catalogue
    tree: CollectionTree
    rows: tuple[clients.GrantRow, ...]
    by_role: tuple[HeldGrant, ...]
    # Whose consents are in question; None is nobody in particular.
    person: people.PersonRow | None

    def held(self, without: frozenset[UUID] = frozenset()) -> list[HeldGrant]:
        return [*(row.held() for row in self.rows if row.id not in without), *self.by_role]


def withdraw(
    act: Act,
    client_id: str,
    resource_name: str,
    permissions: Sequence[str],
    kind: AccessKind,
    reason: str = "",
    at: datetime | None = None,
    person: str | None = None,
) -> WithdrawnConsent:
    """End the consent to permissions of one resource, now or at a moment to come, all or none; the asks stay.

    Args:
        person: end only the consents that cover this one person (delegated); None ends them for everyone.

    Raises:
        NothingToWithdraw: one of them is not granted. BadInput: `at` is not to come.
    """
    check_reason(reason)
    if at is not None and at <= act.now:
        raise Unsuited.field("at", at.isoformat(), "a moment to come", "Leave it out to end the consent now.")
    ends = at or act.now
    with act.change() as unit:
        here = standing_at(unit, client_id, resource_name, kind, person)
        mine = [row for row in here.rows if here.person is None or row.person_id == here.person.id]
        rows = chosen_of(here, mine, permissions)
        held, left = here.held(), here.held(frozenset(row.id for row in rows))
        if here.person is not None:
            held, left = covering(held, str(here.person.id)), covering(left, str(here.person.id))
        before, after = holdings_in_force(held, kind, act.now), holdings_in_force(left, kind, act.now)
        comparison = compare(here.catalogue, before, after, here.tree)
        moment = note_narrowed(unit, here.client) if at is None else None
        for row in rows:
            row.expires_at = min(ends, row.expires_at) if row.expires_at is not None else ends
            row.narrowed_at = moment or row.narrowed_at
            unit.session.add(row)
        unit.enter(
            "consent.withdrawn" if at is None else "consent.end-set",
            client_subject(here.client),
            before={"permissions": sorted({one.permission for one in before})},
            after={
                "resource": here.resource.name,
                "permissions": sorted({one.permission for one in after}),
                "no longer possible": sorted(comparison.no_longer),
                **for_whom(here, kind),
                **({"at": at.isoformat()} if at is not None else {}),
            },
            reason=reason,
        )
        life = timedelta(seconds=act.directory.policy.access_token_seconds)
        living = usage.issued_since(unit.session, here.client.id, here.resource.identifier, act.now - life)
        return WithdrawnConsent(
            resource=here.resource.name,
            permissions=tuple(sorted(permissions)),
            no_longer=comparison.no_longer,
            ends_at=ends,
            tokens_until=ends + life,
            live_tokens=living,
        )


def narrow_to_people(
    act: Act, client_id: str, resource_name: str, permission: str, kind: AccessKind, reason: str = ""
) -> list[str]:
    """Consent for those whom a client acted for while that counts, and end the consent for everyone, in one step.

    Returns their names. Raises `Conflict` where there is no consent for everyone any more.
    """
    check_reason(reason)
    with act.change() as unit:
        here = standing_at(unit, client_id, resource_name, kind, None)
        acted_for = use_evidence.person_ids_of(
            unit.session,
            here.client.id,
            here.resource.id,
            here.catalogue.opened_by(permission),
            act.now - act.directory.policy.use_counts,
        )
        standing = [row for row in here.rows if row.permission == permission]
        everyone = [row for row in standing if row.person_id is None]
        if not everyone:
            raise Conflict("It is not consented to for everyone any more.", next_step="Look at the audit again.")
        moment = note_narrowed(unit, here.client)
        # What one consent gives until its end, the others give until the same.
        ends = everyone[0].expires_at
        for row in everyone:
            row.expires_at, row.narrowed_at = act.now, moment
            unit.session.add(row)
        covered = {row.person_id for row in standing}
        for person_id in sorted(acted_for.keys() - covered):
            unit.session.add(
                clients.GrantRow(
                    id=uuid4(),
                    client_id=here.client.id,
                    resource_id=here.resource.id,
                    permission=permission,
                    kind=kind.value,
                    granted_at=act.now,
                    granted_by=act.actor.name,
                    person_id=person_id,
                    reach=everyone[0].reach,
                    expires_at=ends,
                    revision=everyone[0].revision,
                    collections_revision=everyone[0].collections_revision,
                )
            )
        names = sorted(acted_for.values())
        unit.enter(
            "consent.narrowed-to-people",
            client_subject(here.client),
            before={"for": "everyone"},
            after={"resource": here.resource.name, "permission": permission, "for": names},
            reason=reason,
        )
        return names


def standing_at(unit: Unit, client_id: str, resource_name: str, kind: AccessKind, person: str | None) -> Standing:
    """Lock the client and read what it is consented to."""
    session = unit.session
    client = find_client(session, unit.directory, client_id, lock=True)
    resource = find_resource(session, unit.directory, resource_name)
    rows = [
        row
        for row in clients.grants_of(session, [client.id])
        if row.resource_id == resource.id and row.kind == kind and row.stands(unit.now)
    ]
    by_role = roles.roles_of_clients(session, [client.id]).get(client.id, [])
    return Standing(
        client,
        resource,
        resources.catalogues(session, [resource])[resource.id],
        resources.collections_of(session, resource.id),
        tuple(rows),
        tuple(pictures.held_at(resource.id, (), by_role)),
        find_person(session, unit.directory, person) if person is not None else None,
    )


def chosen_of(here: Standing, rows: Sequence[clients.GrantRow], permissions: Sequence[str]) -> list[clients.GrantRow]:
    """Return those of the rows that grant these permissions. Raises `NothingToWithdraw` when one is missing."""
    held = {row.permission for row in rows}
    missing = sorted(set(permissions) - held)
    if missing:
        covered = f" for {here.person.name}" if here.person is not None else ""
        single = not covered and {row.permission for row in here.rows} >= set(missing)
        raise NothingToWithdraw(
            f"“{here.client.name}” is not granted {', '.join(missing)} at {here.resource.name}{covered}.",
            violations=(Violation("permissions", ", ".join(missing), ", ".join(sorted(held)) or "nothing is granted"),),
            next_step="It is granted for single people: name the person."
            if single
            else "Look at its ladder for what it holds; what comes by a role ends with the role.",
        )
    return [row for row in rows if row.permission in permissions]


def for_whom(here: Standing, kind: AccessKind) -> dict[str, str]:
    if kind is AccessKind.APPLICATION:
        return {}
    return {"kind": kind.value, "for": here.person.name if here.person is not None else "everyone"}
