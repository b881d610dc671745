"""Why, and what is the smallest change that turns a refusal: by least added weight, then fewest steps."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from jamb.core.access.compare import compare
from jamb.core.access.decide import CheckName, Decision, Request, decide
from jamb.core.access.standing import ClientStanding, RoleHolding, permissions_in_force
from jamb.core.permissions import Catalogue, weigh


class MendKind(StrEnum):
    CONSENT = "consent"
    ASK = "ask"
    ISSUE_SECRET = "issue-secret"  # noqa: S105 - the name of a mend
    ENABLE_CLIENT = "enable-client"
    ASSIGN_ROLE = "assign-role"
    FRESH_TOKEN = "fresh-token"  # noqa: S105 - the name of a mend


@dataclass(frozen=True, slots=True)
class Mend:
    """One change: what to do, on which permission or role, and the weight it adds beyond what is held."""

    kind: MendKind
    text: str
    target: str = ""
    added_weight: int = 0


@dataclass(frozen=True, slots=True)
class Explanation:
    """The decision and, when refused, the ordered steps of the smallest mend. No steps: nothing here can turn it."""

    decision: Decision
    mend: tuple[Mend, ...]


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
    if CheckName.OPERATION in failed:
        return Explanation(decision, ())
    steps: list[Mend] = []
    if CheckName.CLIENT in failed:
        steps.append(Mend(MendKind.ENABLE_CLIENT, f"Enable “{client.name}” again."))
    if CheckName.GRANTED in failed:
        granting = _grant_steps(catalogue, client, request, now)
        if not granting:
            return Explanation(decision, ())
        steps.extend(granting)
    if CheckName.CREDENTIAL in failed:
        steps.append(Mend(MendKind.ISSUE_SECRET, f"Issue a client secret to “{client.name}”."))
    if CheckName.ROLE in failed and request.person is not None:
        assigning = _role_step(catalogue, request, roles)
        if assigning is None:
            return Explanation(decision, ())
        steps.append(assigning)
    if CheckName.PERSON in failed:
        return Explanation(decision, ())
    if request.token is not None and failed & {CheckName.TOKEN_SCOPE, CheckName.TOKEN_AGE, CheckName.GRANTED}:
        steps.append(Mend(MendKind.FRESH_TOKEN, "Fetch a new token; the one presented is from before."))
    return Explanation(decision, tuple(steps))


def _grant_steps(catalogue: Catalogue, client: ClientStanding, request: Request, now: datetime) -> list[Mend]:
    held = permissions_in_force(client.grants, request.kind, now)
    asked = {ask.permission for ask in client.asks if ask.kind is request.kind}

    def cost(permission: str) -> tuple[int, bool, str]:
        return compare(catalogue, held, held | {permission}).added_weight, permission not in asked, permission

    candidates = sorted(catalogue.unlockers(request.operation, request.kind), key=cost)
    if not candidates:
        return []
    best = candidates[0]
    weight = cost(best)[0]
    steps = []
    if best not in asked:
        steps.append(Mend(MendKind.ASK, f"Ask for {best}.", best))
    steps.append(Mend(MendKind.CONSENT, f"Have an approver consent to {best}.", best, weight))
    return steps


def _role_step(catalogue: Catalogue, request: Request, roles: Iterable[RoleHolding]) -> Mend | None:
    fitting = [
        (weigh(catalogue, catalogue.opened_by_all(role.permissions)), role.name)
        for role in roles
        if request.operation in catalogue.opened_by_all(role.permissions)
    ]
    if not fitting or request.person is None:
        return None
    weight, name = min(fitting)
    return Mend(MendKind.ASSIGN_ROLE, f"Have a steward make {request.person.name} {name}.", name, weight)
