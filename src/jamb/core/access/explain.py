"""Why, and what is the smallest change that turns a refusal: by least added weight, then fewest steps."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from jamb.core.access.decide import CheckName, Decision, Request, decide, matching_grants
from jamb.core.access.standing import ClientStanding, HeldGrant, PersonStanding, RoleHolding, permissions_in_force
from jamb.core.permissions import Catalogue, weigh
from jamb.core.reach import EVERYWHERE, Reach, ReachKind


class StepKind(StrEnum):
    CONSENT = "consent"
    ASK = "ask"
    WIDEN_REACH = "widen-reach"
    COLLECT_OBJECT = "collect-object"
    ISSUE_SECRET = "issue-secret"  # noqa: S105 - the name of a step
    USE_GRANT_TYPE = "use-grant-type"
    ENABLE_CLIENT = "enable-client"
    ASSIGN_ROLE = "assign-role"
    JOIN_GROUP = "join-group"
    END_TRIAL = "end-trial"
    FRESH_TOKEN = "fresh-token"  # noqa: S105 - the name of a step


@dataclass(frozen=True, slots=True)
class Step:
    """One change: what to do, on which permission, role or collection, at which reach, and the weight it adds.

    `one_person`: it concerns the consent that covers the request's person alone.
    """

    kind: StepKind
    text: str
    target: str = ""
    added_weight: float = 0
    reach: Reach = EVERYWHERE
    one_person: bool = False


@dataclass(frozen=True, slots=True)
class Explanation:
    """The decision and, when refused, the ordered steps of the smallest step. No steps: nothing here can turn it."""

    decision: Decision
    steps: tuple[Step, ...]


def explain(
    catalogue: Catalogue,
    client: ClientStanding,
    request: Request,
    now: datetime,
    roles: Iterable[RoleHolding] = (),
) -> Explanation:
    """Decide, and for each failed check add the step that turns it, cheapest permission or role first.

    Args:
        roles: the roles that exist, from which one is proposed when a person lacks every role that would do.
    """
    decision = decide(catalogue, client, request, now)
    failed = {check.name for check in decision.failed}
    if failed & {CheckName.OPERATION, CheckName.PERSON}:
        return Explanation(decision, ())
    steps: list[Step] = []
    if CheckName.CLIENT in failed:
        steps.append(Step(StepKind.ENABLE_CLIENT, f"Enable “{client.name}” again."))
    if CheckName.GRANTED in failed:
        granting = _grant_steps(catalogue, client, request, now)
        if not granting:
            return Explanation(decision, ())
        steps.extend(granting)
    if CheckName.REACH in failed:
        steps.append(_reach_step(catalogue, client, request, now))
    steps.extend(_token_steps(client, failed))
    if request.person is not None:
        theirs = _person_steps(catalogue, client, request, request.person, failed, roles, now)
        if theirs is None:
            return Explanation(decision, ())
        steps.extend(theirs)
    if request.token is not None and failed & _TOKEN_CHECKS:
        steps.append(Step(StepKind.FRESH_TOKEN, "Fetch a new token; the one presented is from before."))
    return Explanation(decision, tuple(steps))


# What a fresh token turns, alone or after the steps before it.
_TOKEN_CHECKS = frozenset(
    {
        CheckName.TOKEN_SCOPE,
        CheckName.TOKEN_REACH,
        CheckName.TOKEN_AGE,
        CheckName.TOKENS_REVOKED,
        CheckName.GRANTED,
        CheckName.REACH,
    }
)


def _grant_steps(catalogue: Catalogue, client: ClientStanding, request: Request, now: datetime) -> list[Step]:
    possible = catalogue.opened_by_all(permissions_in_force(client.grants, request.kind, now))
    asked = {ask.permission for ask in client.asks if ask.kind is request.kind}

    def cost(permission: str) -> tuple[float, bool, str]:
        added = weigh(catalogue, catalogue.opened_by(permission) - possible)
        return added, permission not in asked, permission

    candidates = sorted(catalogue.unlockers(request.operation, request.kind), key=cost)
    if not candidates:
        return []
    best = candidates[0]
    steps = []
    if best not in asked:
        steps.append(Step(StepKind.ASK, f"Ask for {best}.", best))
    steps.append(_consent_to(catalogue, request, best, cost(best)[0]))
    return steps


def _consent_to(catalogue: Catalogue, request: Request, permission: str, weight: float) -> Step:
    reach = smallest_reach(catalogue, request)
    where = "" if reach == EVERYWHERE else f", {reach.words}"
    return Step(StepKind.CONSENT, f"Have an approver consent to {permission}{where}.", permission, weight, reach)


def smallest_reach(catalogue: Catalogue, request: Request) -> Reach:
    """Return the smallest reach that holds the request's object; everywhere when it has none, or lies nowhere."""
    found = request.object
    if found is None or not found.collections or not catalogue.concerns_object(request.operation):
        return EVERYWHERE
    return Reach.only(found.collections[0])


def _reach_step(catalogue: Catalogue, client: ClientStanding, request: Request, now: datetime) -> Step:
    """Widen the lightest grant that would do by the smallest collection that holds the object."""
    assert request.object is not None  # the check fails only for a named object
    matching = [grant for grant in matching_grants(catalogue, client, request, now) if not grant.through]
    found = request.object
    if not matching:
        return _consent_to(catalogue, request, catalogue.unlockers(request.operation, request.kind)[0], 0)

    def weight(grant: HeldGrant) -> tuple[int, str]:
        return weigh(catalogue, catalogue.opened_by(grant.permission)), grant.permission

    grant = min(matching, key=weight)
    if grant.reach.kind is ReachKind.ONLY and not found.collections:
        paths = ", ".join(sorted(grant.reach.collections))
        return Step(
            StepKind.COLLECT_OBJECT, f"Put {found.name} into a collection that is reached: {paths}.", found.name
        )
    if grant.reach.kind is ReachKind.ONLY:
        reach = Reach.only(*grant.reach.collections, found.collections[0])
    else:
        left = grant.reach.collections - set(found.collections)
        reach = Reach.all_but(*left) if left else EVERYWHERE
    text = f"Have an approver let {grant.permission} reach {reach.words} instead of {grant.reach.words}."
    return Step(StepKind.WIDEN_REACH, text, grant.permission, 0, reach, one_person=grant.person_id is not None)


def _token_steps(client: ClientStanding, failed: set[CheckName]) -> list[Step]:
    """Return what lets the client fetch a token at all."""
    steps = []
    if CheckName.CREDENTIAL in failed:
        steps.append(Step(StepKind.ISSUE_SECRET, f"Issue a client secret to “{client.name}”."))
    if CheckName.GRANT_TYPE in failed:
        words = f"Have an owner register “{client.name}” for {client.lacks_grant_type}, too."
        every = " ".join((*client.grant_types, client.lacks_grant_type))
        steps.append(Step(StepKind.USE_GRANT_TYPE, words, every))
    return steps


def _person_steps(
    catalogue: Catalogue,
    client: ClientStanding,
    request: Request,
    person: PersonStanding,
    failed: set[CheckName],
    roles: Iterable[RoleHolding],
    now: datetime,
) -> list[Step] | None:
    """Return what the person needs; None: no role that exists would do."""
    steps = []
    over = client.trial_ends_at is not None and client.trial_ends_at <= now
    if CheckName.ADMITTED in failed and over:
        steps.append(Step(StepKind.END_TRIAL, f"Have an owner give “{client.name}” another end of its trial, or none."))
    elif CheckName.ADMITTED in failed:
        group = client.sign_in_groups[0]
        steps.append(Step(StepKind.JOIN_GROUP, f"Have a steward put {person.name} into {group}.", group))
    if CheckName.ROLE in failed:
        assigning = _role_step(catalogue, request, person, roles)
        if assigning is None:
            return None
        steps.append(assigning)
    return steps


def _role_step(
    catalogue: Catalogue, request: Request, person: PersonStanding, roles: Iterable[RoleHolding]
) -> Step | None:
    fitting = [
        (weigh(catalogue, catalogue.opened_by_all(role.permissions)), role.name)
        for role in roles
        if request.operation in catalogue.opened_by_all(role.permissions)
    ]
    if not fitting:
        return None
    weight, name = min(fitting)
    reach = smallest_reach(catalogue, request)
    where = "" if reach == EVERYWHERE else f", {reach.words}"
    return Step(StepKind.ASSIGN_ROLE, f"Have a steward make {person.name} {name}{where}.", name, weight, reach)
