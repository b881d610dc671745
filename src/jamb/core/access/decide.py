"""May this client do this operation? The one decision, for protected APIs and for Jamb's own.

A decision collects every check before it answers, so that whoever is refused learns all reasons at once:

1. the operation exists in the resource's catalogue
2. the client is live
3. a permission that unlocks the operation is asked (evidence only: an ask opens nothing)
4. such a permission is granted, of the request's kind, and in force
5. the client can prove itself (a live credential)
6. delegated only: the person is live
7. delegated only: a role of the person unlocks the operation too
8. with a token: its scope carries a permission that unlocks the operation
9. with a token: it is not older than the grant it relies on
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from jamb.core.access.standing import ClientStanding, HeldGrant, PersonStanding
from jamb.core.permissions import AccessKind, Catalogue


class CheckName(StrEnum):
    OPERATION = "operation"
    CLIENT = "client"
    ASKED = "asked"
    GRANTED = "granted"
    CREDENTIAL = "credential"
    PERSON = "person"
    ROLE = "role"
    TOKEN_SCOPE = "token-scope"  # noqa: S105 - the name of a check
    TOKEN_AGE = "token-age"  # noqa: S105 - the name of a check


@dataclass(frozen=True, slots=True)
class Check:
    """One link of the chain. A check that does not decide is evidence: it may fail and the request still be allowed."""

    name: CheckName
    passed: bool
    evidence: str
    decides: bool = True


@dataclass(frozen=True, slots=True)
class TokenFacts:
    """What a presented access token says: its scope values and when it was issued."""

    scope: frozenset[str]
    issued_at: datetime


@dataclass(frozen=True, slots=True)
class Request:
    operation: str
    kind: AccessKind
    person: PersonStanding | None = None
    token: TokenFacts | None = None


@dataclass(frozen=True, slots=True)
class Decision:
    checks: tuple[Check, ...]

    @property
    def allowed(self) -> bool:
        return all(check.passed for check in self.checks if check.decides)

    @property
    def failed(self) -> tuple[Check, ...]:
        return tuple(check for check in self.checks if check.decides and not check.passed)


def decide(catalogue: Catalogue, client: ClientStanding, request: Request, now: datetime) -> Decision:
    """Return the verdict with every check in order. Never raises for unknown names: they are failed checks."""
    if request.operation not in catalogue.operations:
        known = ", ".join(sorted(catalogue.operations)[:6])
        evidence = f"{catalogue.name} has no operation “{request.operation}”; it has {known}, …"
        return Decision((Check(CheckName.OPERATION, False, evidence),))
    operation = catalogue.operations[request.operation]
    matching = matching_grants(catalogue, client, request, now)
    checks = [
        Check(CheckName.OPERATION, True, f"{operation.method} {operation.path}: {operation.title}"),
        Check(CheckName.CLIENT, client.live, f"“{client.name}” is {'live' if client.live else 'disabled'}"),
        _asked(catalogue, client, request),
        _granted(catalogue, client, request, matching, now),
    ]
    if client.can_authenticate is not None:
        evidence = "a live secret exists" if client.can_authenticate else "no live secret: it cannot fetch a token"
        checks.append(Check(CheckName.CREDENTIAL, client.can_authenticate, evidence))
    if request.kind is AccessKind.DELEGATED:
        checks.extend(_person(catalogue, request))
    if request.token is not None:
        checks.extend(_token(catalogue, request.operation, request.token, matching))
    return Decision(tuple(checks))


def matching_grants(
    catalogue: Catalogue, client: ClientStanding, request: Request, now: datetime
) -> tuple[HeldGrant, ...]:
    """Return the grants of the request's kind, in force, whose E(p) contains the operation."""
    return tuple(
        grant
        for grant in client.grants
        if grant.kind is request.kind
        and grant.in_force(now)
        and request.operation in catalogue.opened_by(grant.permission)
    )


def _asked(catalogue: Catalogue, client: ClientStanding, request: Request) -> Check:
    names = sorted(
        ask.permission
        for ask in client.asks
        if ask.kind is request.kind and request.operation in catalogue.opened_by(ask.permission)
    )
    evidence = f"asked: {', '.join(names)}" if names else "no permission that unlocks it was asked"
    return Check(CheckName.ASKED, bool(names), evidence, decides=False)


def _granted(
    catalogue: Catalogue, client: ClientStanding, request: Request, matching: tuple[HeldGrant, ...], now: datetime
) -> Check:
    if matching:
        names = ", ".join(sorted({grant.permission for grant in matching}))
        return Check(CheckName.GRANTED, True, f"granted: {names}")
    ended = sorted(
        grant.permission
        for grant in client.grants
        if request.operation in catalogue.opened_by(grant.permission) and not grant.in_force(now)
    )
    if ended:
        return Check(CheckName.GRANTED, False, f"the grant of {', '.join(ended)} is not in force")
    unlockers = " or ".join(catalogue.unlockers(request.operation, request.kind)) or "no permission of this kind"
    return Check(CheckName.GRANTED, False, f"not granted: {unlockers} would unlock it")


def _person(catalogue: Catalogue, request: Request) -> list[Check]:
    person = request.person
    if person is None:
        return [Check(CheckName.PERSON, False, "a delegated request needs a signed-in person")]
    roles = sorted(role.name for role in person.roles if request.operation in catalogue.opened_by_all(role.permissions))
    held = ", ".join(sorted(role.name for role in person.roles))
    if roles:
        evidence = f"{person.name} is {', '.join(roles)}"
    else:
        evidence = f"{person.name} is {held}, which does not open it" if held else f"{person.name} has no role here"
    return [
        Check(CheckName.PERSON, person.live, f"{person.name} is {'live' if person.live else 'no longer active'}"),
        Check(CheckName.ROLE, bool(roles), evidence),
    ]


def _token(
    catalogue: Catalogue, operation: str, token: TokenFacts, matching: tuple[HeldGrant, ...]
) -> tuple[Check, Check]:
    carried = sorted(name for name in token.scope if operation in catalogue.opened_by(name))
    # The token must be younger than a grant that it carries; a grant it does not carry cannot vouch for it.
    relied = [grant for grant in matching if catalogue.closure(grant.permission) & token.scope]
    # RFC 7519 section 2: a NumericDate is commonly whole seconds, so a grant of the same second counts as before it.
    old = bool(relied) and all(token.issued_at < grant.granted_at.replace(microsecond=0) for grant in relied)
    scope = f"the token carries {', '.join(carried)}" if carried else "the token carries no permission that unlocks it"
    age = "the token is older than the grant: fetch a new one" if old else "the token is not older than the grant"
    return Check(CheckName.TOKEN_SCOPE, bool(carried), scope), Check(CheckName.TOKEN_AGE, not old, age)
