"""Explanations: the checks of a decision and the smallest mend."""

from __future__ import annotations

import shlex
from dataclasses import dataclass
from typing import Annotated

from pydantic import Field, SecretStr

from jamb.core.access import CheckName, Mend, MendKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import ReachKind
from jamb.wire.base import Answered, Moment, Sent, SeveralLines
from jamb.wire.reach import Reach
from jamb.wire.resources import Operation


class Check(Answered):
    name: CheckName
    passed: bool
    decides: bool
    evidence: str


class MendStep(Answered):
    """One step of the smallest mend, with the command that does it (empty when none does)."""

    kind: MendKind
    text: str
    target: str
    added_weight: float
    reach: Reach
    command: str


class Question(Sent):
    """May this client do this operation? `token`: an access token, to be judged too; it is not kept."""

    resource: Annotated[str, Field(min_length=1, max_length=300)]
    operation: Annotated[str, Field(min_length=1, max_length=80)]
    kind: AccessKind = AccessKind.APPLICATION
    person: Annotated[str, Field(max_length=200)] | None = None
    object: Annotated[str, Field(max_length=200)] | None = None
    token: Annotated[SecretStr | None, Field(max_length=10_000), SeveralLines()] = None


class Explanation(Answered):
    """`agreement`: why the change takes another person, who that could be, and which way needs none; empty: none."""

    client_id: str
    client_name: str
    resource: str
    operation: str
    kind: AccessKind
    person: str
    object: str | None
    allowed: bool
    checks: list[Check]
    mend: list[MendStep]
    agreement: str = ""


class ClientHolder(Answered):
    """`person` narrows a delegated grant to one; `through` names the role that gives it."""

    client_id: str
    client_name: str
    live: bool
    kind: AccessKind
    permission: str
    reach: Reach
    through: str
    person: str
    expires_at: Moment | None


class PersonHolder(Answered):
    login: str
    name: str
    role: str
    reach: Reach
    through: str


class Holders(Answered):
    """Who can do an operation, to an object if one is named: clients, and people by their roles.

    A client that acts for a person can do it only where both can.
    """

    resource: str
    operation: Operation
    object: str | None
    object_in: list[str]
    clients: list[ClientHolder]
    people: list[PersonHolder]


def mend_step_of(mend: Mend, explained: Explained) -> MendStep:
    """Return the step with the command that carries it out."""
    kind = ["--delegated"] if explained.kind is AccessKind.DELEGATED else []
    person = ["--person", explained.person] if mend.one_person else []
    reach = _reach_options(mend)
    client, resource = explained.client_id, explained.resource
    consent = ["jamb", "consent", "grant", client, "--only", f"{resource}:{mend.target}", *kind]
    commands = {
        MendKind.ASK: ["jamb", "asks", "add", client, resource, mend.target, *kind],
        MendKind.CONSENT: [*consent, *_within(resource, reach)],
        MendKind.WIDEN_REACH: ["jamb", "consent", "reach", client, resource, mend.target, *kind, *person, *reach],
        MendKind.ISSUE_SECRET: ["jamb", "secrets", "issue", client],
        MendKind.ENABLE_CLIENT: ["jamb", "clients", "enable", client],
        MendKind.ASSIGN_ROLE: ["jamb", "roles", "assign", mend.target, "--person", explained.person, *reach],
    }
    return MendStep(
        kind=mend.kind,
        text=mend.text,
        target=mend.target,
        added_weight=mend.added_weight,
        reach=Reach.model_validate(mend.reach),
        command=shlex.join(commands.get(mend.kind, [])),
    )


@dataclass(frozen=True, slots=True)
class Explained:
    """What a mend's command needs to know of the question. `person` is a login."""

    client_id: str
    resource: str
    kind: AccessKind
    person: str


def _reach_options(mend: Mend) -> list[str]:
    option = {ReachKind.EVERYWHERE: "", ReachKind.ONLY: "--in", ReachKind.ALL_BUT: "--except"}[mend.reach.kind]
    if not option:
        return ["--everywhere"] if mend.kind is MendKind.WIDEN_REACH else []
    return [part for path in sorted(mend.reach.collections) for part in (option, path)]


def _within(resource: str, reach: list[str]) -> list[str]:
    """Write "--in north" as "--in berths:north": a consent may concern several resources."""
    return [part if part.startswith("--") else f"{resource}:{part}" for part in reach]
