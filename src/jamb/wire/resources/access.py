"""Explanations: the checks of a decision and the smallest step."""

from __future__ import annotations

import shlex
from dataclasses import dataclass
from typing import Annotated

from pydantic import Field, SecretStr

from jamb.core.access import CheckName, Step, StepKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import ReachKind
from jamb.wire.base.shapes import Answered, Moment, Sent, SeveralLines
from jamb.wire.resources.reach import Reach
from jamb.wire.resources.resources import Operation


class Check(Answered):
    name: CheckName
    passed: bool
    decides: bool
    evidence: str


class ExplanationStep(Answered):
    """One step of the smallest change that would allow it, with the command that does it (empty when none does)."""

    kind: StepKind
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
    steps: list[ExplanationStep]
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

    A client that acts for a person can do it only where both can. `clients`: a page of them; `next`: the cursor of the
    one after it, null where there is none. `people`: the first of them, with the first page of clients.
    """

    resource: str
    operation: Operation
    object: str | None
    object_in: list[str]
    clients: list[ClientHolder]
    clients_in_all: int
    people: list[PersonHolder]
    people_in_all: int
    next: str | None = None


def step_of(step: Step, explained: Explained) -> ExplanationStep:
    """Return the step with the command that carries it out."""
    kind = ["--delegated"] if explained.kind is AccessKind.DELEGATED else []
    person = ["--person", explained.person] if step.one_person else []
    reach = _reach_options(step)
    client, resource = explained.client_id, explained.resource
    consent = ["jamb", "consent", "grant", client, "--only", f"{resource}:{step.target}", *kind]
    commands = {
        StepKind.ASK: ["jamb", "asks", "add", client, resource, step.target, *kind],
        StepKind.CONSENT: [*consent, *_within(resource, reach)],
        StepKind.WIDEN_REACH: ["jamb", "consent", "reach", client, resource, step.target, *kind, *person, *reach],
        StepKind.ISSUE_SECRET: ["jamb", "secrets", "issue", client],
        StepKind.USE_GRANT_TYPE: ["jamb", "clients", "change", client, *_grant_types(step)],
        StepKind.ENABLE_CLIENT: ["jamb", "clients", "enable", client],
        StepKind.ASSIGN_ROLE: ["jamb", "roles", "assign", step.target, "--person", explained.person, *reach],
    }
    return ExplanationStep(
        kind=step.kind,
        text=step.text,
        target=step.target,
        added_weight=step.added_weight,
        reach=Reach.model_validate(step.reach),
        command=shlex.join(commands.get(step.kind, [])),
    )


@dataclass(frozen=True, slots=True)
class Explained:
    """What a step's command needs to know of the question. `person` is a login."""

    client_id: str
    resource: str
    kind: AccessKind
    person: str


def _grant_types(step: Step) -> list[str]:
    return [part for name in step.target.split() for part in ("--grant-type", name.rpartition(":")[2])]


def _reach_options(step: Step) -> list[str]:
    option = {ReachKind.EVERYWHERE: "", ReachKind.ONLY: "--in", ReachKind.ALL_BUT: "--except"}[step.reach.kind]
    if not option:
        return ["--everywhere"] if step.kind is StepKind.WIDEN_REACH else []
    return [part for path in sorted(step.reach.collections) for part in (option, path)]


def _within(resource: str, reach: list[str]) -> list[str]:
    """Write "--in north" as "--in berths:north": a consent may concern several resources."""
    return [part if part.startswith("--") else f"{resource}:{part}" for part in reach]
