"""Quick or careful: a client inherits what its maker's own roles allow, or a narrower part of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from operator import attrgetter
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import check_reach, find_client
from jamb.actions.consent.asks import add_asks
from jamb.actions.consent.consent import enact
from jamb.actions.consent.consent_preview import AS_ASKED, preview_of
from jamb.actions.judgement.judging import note_addition, take_turn
from jamb.core import own_api
from jamb.core.access import Holding
from jamb.core.consent.inheritance import InheritedLevel, inherited
from jamb.core.directory.directories import Directory
from jamb.core.errors import Forbidden, Unsuited
from jamb.core.permissions import AccessKind, Catalogue, weigh
from jamb.core.reach import EVERYWHERE, Reach
from jamb.store.base.work import Actor
from jamb.store.clients import clients
from jamb.store.directory import people, roles
from jamb.store.resources import resources
from jamb.wire.consent.consent import Ask, Grant


@dataclass(frozen=True, slots=True)
class InheritedChoice:
    """How much of the maker's own rights at one resource is inherited, and where."""

    level: InheritedLevel = InheritedLevel.ALL
    reach: Reach = EVERYWHERE


@dataclass(frozen=True, slots=True)
class InheritedLine:
    """One resource: the maker's roles there, and what of them would be asked for."""

    resource: str
    title: str
    roles: tuple[str, ...]
    choice: InheritedChoice
    permissions: tuple[Holding, ...]
    operations: int
    weight: int

    @property
    def level(self) -> InheritedLevel:
        return self.choice.level


@dataclass(frozen=True, slots=True)
class Inheritance:
    """`granted` is empty where an approver must still consent."""

    lines: tuple[InheritedLine, ...]
    asked: tuple[Ask, ...] = ()
    granted: tuple[Grant, ...] = ()


def preview_inheritance(act: Act, client_id: str, choices: Mapping[str, InheritedChoice] | None) -> Inheritance:
    """Return what would be asked for. `choices` by resource; None: all; what it does not name, nothing."""
    with act.read() as session:
        find_client(session, act.directory, client_id)
        return Inheritance(tuple(line for line, _ in _lines(session, act.directory, choices, act.actor, act.now)))


def inherit(act: Act, client_id: str, choices: Mapping[str, InheritedChoice] | None, reason: str) -> Inheritance:
    """Ask for what the maker's roles allow; grant it at once where the policy lets clients inherit from their makers.

    Raises:
        Forbidden: the caller is not a person. BadInput: nothing would be asked, or an unknown resource or collection.
    """
    with act.change() as unit:
        take_turn(unit)
        client = find_client(unit.session, act.directory, client_id, lock=True)
        lines = _lines(unit.session, act.directory, choices, act.actor, act.now)
        present = {
            (row.resource_id, row.permission)
            for row in clients.asks_of(unit.session, [client.id])
            if row.kind == AccessKind.APPLICATION
        }
        asked: list[Ask] = []
        for line, resource_id in lines:
            for reach in sorted({permission.reach for permission in line.permissions}, key=attrgetter("words")):
                names = [
                    permission.permission
                    for permission in line.permissions
                    if permission.reach == reach and (resource_id, permission.permission) not in present
                ]
                present |= {(resource_id, name) for name in names}
                if names:
                    said = reason or f"Inherited from {act.actor.name}"
                    kind = AccessKind.APPLICATION
                    asked += add_asks(unit, client, line.resource, names, kind, reach, said)
        if not asked:
            raise Unsuited.field("choices", "nothing new", "at least one permission that your own roles allow")
        granted: list[Grant] = []
        if act.directory.policy.inheritance:
            unit.session.flush()
            chosen = list(clients.asks_by_id(unit.session, [one.id for one in asked]).values())
            seen = preview_of(unit.session, act.directory, client, chosen, AS_ASKED, act.now)
            note_addition(unit, client.id, "inherited", seen.weight, alone=True)
            granted = enact(unit, client, chosen, seen, AS_ASKED, "Handed on by its maker")
        return Inheritance(tuple(line for line, _ in lines), tuple(asked), tuple(granted))


def _lines(
    session: Session,
    directory: Directory,
    choices: Mapping[str, InheritedChoice] | None,
    actor: Actor,
    now: datetime,
) -> list[tuple[InheritedLine, UUID]]:
    if actor.kind != "person":
        raise Forbidden(
            "Only a person has roles that a client could inherit.", next_step="Ask for permissions by name instead."
        )
    person = session.get_one(people.PersonRow, UUID(actor.id))
    rows = [row for row in resources.resources_of(session, directory.id) if row.name != own_api.NAME]
    unknown = set(choices or ()) - {row.name for row in rows}
    if unknown:
        raise Unsuited.field("choices", ", ".join(sorted(unknown)), "short names of resources")
    catalogues = resources.catalogues(session, rows)
    lines = []
    for row in rows:
        held = roles.standing(session, person, row.id, now).roles
        choice = _choice(choices, row.name)
        check_reach(session, row, choice.reach)
        tree = resources.collections_of(session, row.id)
        found = inherited(catalogues[row.id], held, choice.level, choice.reach, tree)
        if held:
            lines.append((_line(catalogues[row.id], row, tuple(one.words for one in held), choice, found), row.id))
    return lines


def _choice(choices: Mapping[str, InheritedChoice] | None, name: str) -> InheritedChoice:
    if choices is None:
        return InheritedChoice()
    return choices.get(name, InheritedChoice(InheritedLevel.NOTHING))


def _line(
    catalogue: Catalogue,
    row: resources.ResourceRow,
    held: tuple[str, ...],
    choice: InheritedChoice,
    found: tuple[Holding, ...],
) -> InheritedLine:
    opened = catalogue.opened_by_all(one.permission for one in found)
    return InheritedLine(row.name, row.title, held, choice, found, len(opened), weigh(catalogue, opened))
