"""What a yes to waiting asks would make possible, within which bounds."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from operator import attrgetter
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import check_reach, find_client
from jamb.actions.consent.asks import ask_view
from jamb.actions.directory.people import find_person
from jamb.actions.judgement.judging import consent_words
from jamb.actions.judgement.powers import Bench
from jamb.core.access import Comparison, Holding, covering, holdings_in_force
from jamb.core.access.powers import lasting
from jamb.core.consent.requests import approvers_needed
from jamb.core.directory.directories import Directory
from jamb.core.errors import NotFound, Unsuited, Violation
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import CollectionTree, Reach
from jamb.core.reach.details import reach_of
from jamb.store.audit import client_facts as pictures
from jamb.store.base.actor import Actor
from jamb.store.clients import clients
from jamb.store.directory import roles
from jamb.store.resources import resources
from jamb.wire.consent.consent import Ask, OtherHolders

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
class ConsentAtResource:
    """What consent to some asks of one resource and kind would change there.

    `rules`: of collections whose objects change by a rule, in words: consented to as such.
    """

    catalogue: Catalogue
    kind: AccessKind
    asks: tuple[Ask, ...]
    comparison: Comparison
    reach: tuple[Reach, ...]
    others: tuple[OtherHolders, ...]
    rules: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class ConsentPreview:
    """`approvers`: how many must say yes; `two_people`: whoever asked may not be the one.

    `acting`: who can act as the client, by name: they gain what it may do. `agreement`: why the yes of whoever looks
    would not do alone, and who else could give one; empty: it would do.
    """

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
    acting: tuple[str, ...] = ()
    agreement: str = ""


def preview(
    act: Act, client_id: str, ask_ids: Iterable[UUID] | None = None, terms: GrantTerms = AS_ASKED
) -> ConsentPreview:
    """Return what consent to the waiting asks (or the chosen of them) would make possible; may be empty.

    Args:
        actor: whoever looks, to be told whether their yes would do.
    """
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        chosen = choose(session, client, ask_ids, act.now)
        seen = preview_of(session, act.directory, client, chosen, terms, act.now)
        return told_to(session, act.directory, client, seen, seen.asked_by_ids, act.actor, act.now)


def told_to(
    session: Session,
    directory: Directory,
    client: clients.ClientRow,
    seen: ConsentPreview,
    asked_by: Iterable[str],
    actor: Actor | None,
    now: datetime,
) -> ConsentPreview:
    """Return a preview with who can act as the client, and what stands against whoever looks consenting alone."""
    bench = Bench(session, directory, now)
    acting = tuple(sorted(bench.name_of(person_id) for person_id in bench.acting_as(client.id)))
    words = ""
    if actor is not None and seen.resources and bench.may_decide(actor.id, client.id):
        words = consent_words(session, directory, client, seen.weight, frozenset(asked_by), actor, now)
    return replace(seen, acting=acting, agreement=words)


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
    bench = Bench(session, directory, now)
    rows = bench.resource_rows
    _check_terms(session, rows, chosen, terms, now)
    person = find_person(session, directory, terms.person) if terms.person is not None else None
    by_role = roles.roles_of_clients(session, [client.id]).get(client.id, [])
    grants = clients.grants_of(session, [client.id])
    others = clients.others_holding(session, client.id, chosen, now)
    keys = sorted({(row.resource_id, row.kind) for row in chosen}, key=lambda key: (rows[key[0]].name, key[1]))
    places, weight = [], 0.0
    for resource_id, kind in keys:
        here = sorted(
            (row for row in chosen if (row.resource_id, row.kind) == (resource_id, kind)),
            key=lambda row: row.permission,
        )
        name = rows[resource_id].name
        counting = covering(pictures.held_at(resource_id, grants, by_role), str(person.id) if person else None)
        held = holdings_in_force(counting, AccessKind(kind), now)
        added = {Holding(row.permission, terms.reach_of(name, row)) for row in here}
        place = bench.places[resource_id]
        # What is held only until then, or by a role, says nothing of what is held in the end.
        kept = holdings_in_force(lasting(counting, now, terms.expires_at), AccessKind(kind), now)
        weight += place.added(kept, kept | added)
        places.append(
            ConsentAtResource(
                place.catalogue,
                AccessKind(kind),
                tuple(ask_view(row, name) for row in here),
                place.compared(held, held | added),
                tuple(sorted({one.reach for one in added}, key=attrgetter("words"))),
                tuple(_others(row, others.get(_key(row), [])) for row in here),
                tuple(_rules(place.tree, added)),
            )
        )
    weight = round(weight, 1)
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


def refuse_beyond(
    session: Session,
    directory: Directory,
    chosen: Sequence[clients.AskRow],
    terms: GrantTerms,
    now: datetime,
) -> None:
    """Raise `BadInput` for terms that reach further than was asked for: whoever asked did not answer for that."""
    bench = Bench(session, directory, now)
    for key in sorted({(row.resource_id, row.kind) for row in chosen}, key=str):
        here = [row for row in chosen if (row.resource_id, row.kind) == key]
        name = bench.resource_rows[key[0]].name
        asked = {Holding(row.permission, reach_of(row.reach)) for row in here}
        granted = {Holding(row.permission, terms.reach_of(name, row)) for row in here}
        if not bench.places[key[0]].covers(asked, granted):
            raise Unsuited.field(
                "reach",
                "; ".join(sorted({one.reach.words for one in granted})),
                "within what is asked: " + "; ".join(sorted({one.reach.words for one in asked})),
                "Narrow it; a wider reach takes an ask of its own.",
            )


def _rules(tree: CollectionTree, added: Iterable[Holding]) -> Iterable[str]:
    named = frozenset().union(*(one.reach.collections for one in added))
    for path, one in tree.collections.items():
        if one.rule and any(path == name or path.startswith(name + "/") for name in named):
            yield f"{one.title} ({path}) holds what its rule puts there, later too: {one.rule}"


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
    return OtherHolders(permission=row.permission, names=tuple(names[:OTHERS_NAMED]), count=len(names))
