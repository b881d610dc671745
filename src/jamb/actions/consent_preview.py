"""What a yes to waiting asks would make possible, within which bounds."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from operator import attrgetter
from uuid import UUID

from sqlmodel import Session

from jamb.actions.asks import AskView, ask_view
from jamb.actions.people import find_person
from jamb.actions.premises import Directory, Premises, find_client, find_directory
from jamb.actions.reach import check_reach
from jamb.core.access import Comparison, Holding, compare, covering, holdings_in_force
from jamb.core.errors import NotFound, Unsuited, Violation
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import Reach
from jamb.core.reach.details import reach_of
from jamb.core.requests import approvers_needed
from jamb.store import clients, pictures, resources, roles

OTHERS_NAMED = 5


@dataclass(frozen=True, slots=True)
class GrantTerms:
    """How a consent is bounded.

    Attributes:
        reach: by the short name of the resource; where it is silent, the reach that each ask wishes counts.
        expires_at: when it ends by itself; None never.
        person: login or id of the one person it covers (delegated only); None covers everyone.
    """

    reach: Mapping[str, Reach] = field(default_factory=dict)
    expires_at: datetime | None = None
    person: str | None = None

    def reach_of(self, resource: str, row: clients.AskRow) -> Reach:
        return self.reach.get(resource, reach_of(row.reach))


# For everyone, without an end, with the reach that each ask wishes.
AS_ASKED = GrantTerms()


@dataclass(frozen=True, slots=True)
class OtherHolders:
    """Who else holds a permission: some names, and how many in all."""

    permission: str
    names: tuple[str, ...]
    count: int


@dataclass(frozen=True, slots=True)
class ConsentAtResource:
    """What consent to some asks of one resource and kind would change there."""

    catalogue: Catalogue
    kind: AccessKind
    asks: tuple[AskView, ...]
    comparison: Comparison
    reach: tuple[Reach, ...]
    others: tuple[OtherHolders, ...]


@dataclass(frozen=True, slots=True)
class ConsentPreview:
    """`approvers`: how many must say yes; `two_people`: whoever asked may not be the one."""

    client_id: str
    client_name: str
    purpose: str
    person: str
    weight: float
    two_people: bool
    approvers: int
    asked_by: tuple[str, ...]
    asked_by_ids: tuple[str, ...]
    resources: tuple[ConsentAtResource, ...]


def preview(
    premises: Premises,
    slug: str,
    client_id: str,
    now: datetime,
    ask_ids: Iterable[UUID] | None = None,
    terms: GrantTerms = AS_ASKED,
) -> ConsentPreview:
    """Return what consent to the waiting asks (or the chosen of them) would make possible; may be empty."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        client = find_client(session, directory, client_id)
        chosen = choose(session, client, ask_ids, now)
        return preview_of(session, directory, client, chosen, terms, now)


def choose(
    session: Session,
    client: clients.ClientRow,
    ask_ids: Iterable[UUID] | None,
    now: datetime,
) -> list[clients.AskRow]:
    """Return the asks that nobody consented to, or those chosen among the unsettled ones."""
    open_asks = unsettled(session, client, now)
    if ask_ids is None:
        held = {_key(row) for row in clients.grants_of(session, [client.id]) if row.stands(now)}
        return [row for row in open_asks if _key(row) not in held]
    by_id = {row.id: row for row in open_asks}
    wanted = list(dict.fromkeys(ask_ids))
    missing = [str(key) for key in wanted if key not in by_id]
    if missing:
        raise NotFound(
            "An ask you chose does not wait on this client (any more).",
            violations=(Violation("asks", ", ".join(missing), "asks of this client that are not granted"),),
            next_step="Read the preview again.",
        )
    return [by_id[key] for key in wanted]


def unsettled(session: Session, client: clients.ClientRow, now: datetime) -> list[clients.AskRow]:
    """Return the asks that are not granted for everyone; some may be granted for single people."""
    settled = {
        _key(row) for row in clients.grants_of(session, [client.id]) if row.person_id is None and row.stands(now)
    }
    return [row for row in clients.asks_of(session, [client.id]) if _key(row) not in settled]


def _key(row: clients.AskRow | clients.GrantRow) -> tuple[UUID, str, str]:
    return row.resource_id, row.permission, row.kind


def preview_of(
    session: Session,
    directory: Directory,
    client: clients.ClientRow,
    chosen: Sequence[clients.AskRow],
    terms: GrantTerms,
    now: datetime,
) -> ConsentPreview:
    """Return what granting these asks within these terms would change. Raises `BadInput` when the terms do not fit."""
    rows = {row.id: row for row in resources.resources_of(session, directory.id)}
    _check_terms(session, rows, chosen, terms, now)
    person = find_person(session, directory, terms.person) if terms.person is not None else None
    catalogues = resources.catalogues(session, rows.values())
    by_role = roles.roles_of_clients(session, [client.id]).get(client.id, [])
    grants = clients.grants_of(session, [client.id])
    others = clients.others_holding(session, client.id, chosen, now)
    keys = sorted({(row.resource_id, row.kind) for row in chosen}, key=lambda key: (rows[key[0]].name, key[1]))
    places = []
    for resource_id, kind in keys:
        here = sorted(
            (row for row in chosen if (row.resource_id, row.kind) == (resource_id, kind)),
            key=lambda row: row.permission,
        )
        name = rows[resource_id].name
        counting = covering(pictures.held_at(resource_id, grants, by_role), str(person.id) if person else None)
        held = holdings_in_force(counting, AccessKind(kind), now)
        added = {Holding(row.permission, terms.reach_of(name, row)) for row in here}
        tree = resources.collections_of(session, resource_id)
        places.append(
            ConsentAtResource(
                catalogues[resource_id],
                AccessKind(kind),
                tuple(ask_view(row, name) for row in here),
                compare(catalogues[resource_id], held, held | added, tree),
                tuple(sorted({one.reach for one in added}, key=attrgetter("words"))),
                tuple(_others(row, others.get(_key(row), [])) for row in here),
            )
        )
    weight = round(sum(place.comparison.added_weight for place in places), 1)
    return ConsentPreview(
        client.id,
        client.name,
        client.purpose,
        person.name if person is not None else "",
        weight,
        weight >= directory.policy.two_people_weight,
        approvers_needed(weight, directory.policy),
        tuple(sorted({row.asked_by for row in chosen})),
        tuple(sorted({row.asked_by_id for row in chosen})),
        tuple(places),
    )


def _check_terms(
    session: Session,
    rows: Mapping[UUID, resources.ResourceRow],
    chosen: Sequence[clients.AskRow],
    terms: GrantTerms,
    now: datetime,
) -> None:
    by_name = {row.name: row for row in rows.values()}
    for name, reach in terms.reach.items():
        if name not in by_name:
            raise Unsuited.field("reach", name, "the short name of a resource that is asked for")
        check_reach(session, by_name[name], reach)
    if terms.expires_at is not None and terms.expires_at <= now:
        raise Unsuited.field("expires_at", terms.expires_at.isoformat(), "a moment to come")
    itself = sorted({row.permission for row in chosen if row.kind == AccessKind.APPLICATION})
    if terms.person is not None and itself:
        allowed = "left out: the client acts as itself with " + ", ".join(itself)
        raise Unsuited.field("person", terms.person, allowed, "Choose only delegated asks for one person.")


def _others(row: clients.AskRow, names: Sequence[str]) -> OtherHolders:
    return OtherHolders(row.permission, tuple(names[:OTHERS_NAMED]), len(names))
