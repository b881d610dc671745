"""Explanations for any resource, with the facts from the store."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource
from jamb.actions.base.views import credential_view
from jamb.actions.directory.people import find_person
from jamb.actions.entry.access import standing_of
from jamb.actions.judgement.powers import Bench
from jamb.actions.resources.reach import facts_of
from jamb.core.access import (
    Explanation,
    ObjectFacts,
    PersonStanding,
    Request,
    StepKind,
    TokenFacts,
    explain,
)
from jamb.core.access.powers import NO_POWERS, beyond
from jamb.core.clients.clients import ClientKind, lacking
from jamb.core.consent.agreements import agreeing
from jamb.core.directory.directories import Directory
from jamb.core.errors import Unsuited
from jamb.core.permissions import AccessKind
from jamb.core.text import in_words
from jamb.store.clients import clients
from jamb.store.credentials import credentials
from jamb.store.directory import roles
from jamb.store.resources import resources


@dataclass(frozen=True, slots=True)
class Question:
    """What is to be explained. `person` is a login or id; `token` what a presented token was found to say."""

    resource: str
    operation: str
    kind: AccessKind = AccessKind.APPLICATION
    person: str | None = None
    object: str | None = None
    token: TokenFacts | None = None


@dataclass(frozen=True, slots=True)
class ExplainedAccess:
    """`agreement`: why the change takes another person, who that could be, and which way needs none; empty: none."""

    client_id: str
    client_name: str
    resource: str
    operation: str
    kind: AccessKind
    person: PersonStanding | None
    object: ObjectFacts | None
    explanation: Explanation
    agreement: str = ""


def explain_access(act: Act, client_id: str, asked: Question) -> ExplainedAccess:
    """Explain whether a client may do an operation, and the smallest change if it may not.

    Raises:
        BadInput: a person is named though the client acts as itself.
    """
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        resource = find_resource(session, act.directory, asked.resource)
        catalogue = resources.catalogues(session, [resource])[resource.id]
        if asked.person is not None and asked.kind is AccessKind.APPLICATION:
            allowed = "left out: a client that acts as itself acts for nobody"
            raise Unsuited.field("person", asked.person, allowed, "Leave it out, or explain the delegated kind.")
        person = None
        if asked.person is not None:
            row = find_person(session, act.directory, asked.person)
            person = roles.standing(session, row, resource.id, act.now)
            if client.sign_in_groups:
                person = replace(person, groups=frozenset(roles.groups_around(session, row.id)))
        works = None
        if ClientKind(client.kind).confidential:
            held = credentials.credentials_of(session, [client.id])
            works = any(credential_view(row, act.now, act.directory.policy).works for row in held)
        lacks = lacking(ClientKind(client.kind), client.grant_types, for_people=asked.kind is AccessKind.DELEGATED)
        standing = replace(
            standing_of(session, client, resource.id, can_authenticate=works),
            grant_types=tuple(client.grant_types),
            lacks_grant_type=lacks or "",
        )
        found = facts_of(session, resource, asked.object)
        request = Request(asked.operation, asked.kind, person, asked.token, found)
        explained = explain(catalogue, standing, request, act.now, roles.roles_of_resource(session, resource.id))
        agreement = _agreement(session, act.directory, client, explained, act.now)
        return ExplainedAccess(
            client.id, client.name, resource.name, asked.operation, asked.kind, person, found, explained, agreement
        )


def _agreement(
    session: Session, directory: Directory, client: clients.ClientRow, explained: Explanation, now: datetime
) -> str:
    """Say who must agree to the change that would allow it."""
    policy, bench = directory.policy, Bench(session, directory, now)
    kinds = {step.kind for step in explained.steps}
    said = []
    weight = max((step.added_weight for step in explained.steps if step.kind is StepKind.CONSENT), default=0)
    if agreeing(weight, policy):
        could = [one.name for one in bench.could_decide((), client.id)]
        if weight >= policy.two_approvers_weight:
            said.append(f"This consent weighs {weight:g}: two approvers must say yes to a request.")
        else:
            said.append(f"This consent weighs {weight:g}: somebody else than whoever asks must say yes.")
        said.append(f"{in_words(could[:5], 'or') or 'Nobody here'} could.")
    if StepKind.ISSUE_SECRET in kinds:
        power = beyond(bench.places, bench.power_of_client(client.id), NO_POWERS).weight
        if agreeing(power, policy):
            said.append(
                f"It may do what weighs {power:g}: its owners can issue the secret, or a custodian has it delivered to "
                "them; for anybody else another person must agree."
            )
    return " ".join(said)
