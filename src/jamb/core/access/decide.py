"""May this client do this operation, to this object? The one decision, for protected APIs and for Jamb's own.

A decision collects every check before it answers, so that whoever is refused learns all reasons at once:

1. the operation exists in the resource's catalogue
2. the client is live
3. a permission that unlocks the operation is asked (evidence only: an ask opens nothing)
4. such a permission is granted, or comes by a role: of the request's kind, in force, and for this person
5. its reach contains the object
6. the client can prove itself (a live credential)
7. delegated only: the person is live
8. delegated only: the client is for this person, where it is for people of some groups alone
9. delegated only: a role of the person unlocks the operation too, for this object
10. with a token: its scope carries a permission that unlocks the operation
11. with a token: the reach it carries contains the object
12. with a token: it is not older than the grant it relies on
13. with a token: it is not older than the client's revocation
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum

from jamb.core.access.standing import ClientStanding, HeldGrant, PersonStanding, RoleHolding
from jamb.core.nearest_names import did_you_mean, listed
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, Reach


class CheckName(StrEnum):
    OPERATION = "operation"
    CLIENT = "client"
    ASKED = "asked"
    GRANTED = "granted"
    REACH = "reach"
    CREDENTIAL = "credential"
    GRANT_TYPE = "grant-type"
    PERSON = "person"
    ADMITTED = "admitted"
    ROLE = "role"
    TOKEN_SCOPE = "token-scope"  # noqa: S105 - the name of a check
    TOKEN_REACH = "token-reach"  # noqa: S105 - the name of a check
    TOKEN_AGE = "token-age"  # noqa: S105 - the name of a check
    TOKENS_REVOKED = "tokens-revoked"


@dataclass(frozen=True, slots=True)
class Check:
    """One link of the chain. A check that does not decide is evidence: it may fail and the request still be allowed."""

    name: CheckName
    passed: bool
    evidence: str
    decides: bool = True


@dataclass(frozen=True, slots=True)
class TokenFacts:
    """What a presented access token says: its scope values, when it was issued, and bounds by scope value (RFC 9396).

    A scope value that `reach` does not name counts everywhere; one that it names, in any of its reaches.
    """

    scope: frozenset[str]
    issued_at: datetime
    reach: Mapping[str, tuple[Reach, ...]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class ObjectFacts:
    """The object of a request and the collections that it lies in, the smallest first."""

    name: str
    collections: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Request:
    operation: str
    kind: AccessKind
    person: PersonStanding | None = None
    token: TokenFacts | None = None
    object: ObjectFacts | None = None


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
        known = f"it has {listed(catalogue.operations)}"
        evidence = f"{catalogue.name} has no operation “{request.operation}”. " + did_you_mean(
            request.operation, catalogue.operations, f"{known[0].upper()}{known[1:]}."
        )
        return Decision((Check(CheckName.OPERATION, False, evidence),))
    operation = catalogue.operations[request.operation]
    matching = matching_grants(catalogue, client, request, now)
    reaching = tuple(grant for grant in matching if reaches(catalogue, request, grant.reach))
    checks = [
        Check(CheckName.OPERATION, True, f"{operation.method} {operation.path}: {operation.title}"),
        Check(CheckName.CLIENT, client.live, f"“{client.name}” is {'live' if client.live else 'disabled'}"),
        _asked(catalogue, client, request),
        _granted(catalogue, client, request, matching, now),
    ]
    if matching and catalogue.concerns_object(request.operation):
        checks.append(_reach(request, matching, reaching))
    if client.can_authenticate is not None:
        evidence = "a credential works" if client.can_authenticate else "no credential works: it cannot fetch a token"
        checks.append(Check(CheckName.CREDENTIAL, client.can_authenticate, evidence))
    if client.lacks_grant_type:
        evidence = f"it is registered without {client.lacks_grant_type}: it gets no such token"
        checks.append(Check(CheckName.GRANT_TYPE, False, evidence))
    if request.kind is AccessKind.DELEGATED:
        checks.extend(_person(catalogue, client, request, now))
    if request.token is not None:
        checks.extend(_token(catalogue, client, request, request.token, reaching or matching))
    return Decision(tuple(checks))


def matching_grants(
    catalogue: Catalogue, client: ClientStanding, request: Request, now: datetime
) -> tuple[HeldGrant, ...]:
    """Return the grants of the request's kind, in force, for its person, whose E(p) contains the operation."""
    person = request.person.id if request.person is not None else None
    return tuple(
        grant
        for grant in client.grants
        if grant.kind is request.kind
        and grant.in_force(now)
        and (grant.person_id is None or grant.person_id == person)
        and request.operation in catalogue.opened_by(grant.permission)
    )


def reaches(catalogue: Catalogue, request: Request, reach: Reach) -> bool:
    """Tell whether a reach holds the request's object. Where no object is in question, every reach does."""
    if request.object is None or not catalogue.concerns_object(request.operation):
        return True
    return reach.contains(request.object.collections)


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
        names = ", ".join(sorted({_with_way(grant) for grant in matching}))
        return Check(CheckName.GRANTED, True, f"granted: {names}")
    opening = [grant for grant in client.grants if request.operation in catalogue.opened_by(grant.permission)]
    for other, sentence in (
        ([grant for grant in opening if not grant.in_force(now)], "the grant of {} is not in force"),
        ([grant for grant in opening if grant.kind is request.kind], "{} is granted for another person only"),
        (opening, "{} is granted for the other kind: acting " + _other_way(request.kind)),
    ):
        if other:
            names = ", ".join(sorted({grant.permission for grant in other}))
            return Check(CheckName.GRANTED, False, sentence.format(names))
    unlockers = " or ".join(catalogue.unlockers(request.operation, request.kind)) or "no permission of this kind"
    return Check(CheckName.GRANTED, False, f"not granted: {unlockers} would unlock it")


def _with_way(grant: HeldGrant) -> str:
    return f"{grant.permission} through {grant.through}" if grant.through else grant.permission


def _other_way(kind: AccessKind) -> str:
    return "for a person" if kind is AccessKind.APPLICATION else "as itself"


def _reach(request: Request, matching: tuple[HeldGrant, ...], reaching: tuple[HeldGrant, ...]) -> Check:
    words = "; ".join(sorted({f"{grant.permission} counts {grant.reach.words}" for grant in reaching or matching}))
    if request.object is None:
        bounded = all(grant.reach != EVERYWHERE for grant in matching)
        return Check(CheckName.REACH, True, words + (", so it depends on the object" if bounded else ""))
    lies = _lies(request.object)
    return Check(CheckName.REACH, bool(reaching), f"{lies}; {words}")


def _lies(found: ObjectFacts) -> str:
    if not found.collections:
        return f"{found.name} lies in no collection"
    return f"{found.name} lies in {', '.join(found.collections)}"


def _person(catalogue: Catalogue, client: ClientStanding, request: Request, now: datetime) -> list[Check]:
    person = request.person
    if person is None:
        return [Check(CheckName.PERSON, False, "a delegated request needs a signed-in person")]
    opening = [role for role in person.roles if request.operation in catalogue.opened_by_all(role.permissions)]
    fitting = [role for role in opening if reaches(catalogue, request, role.reach)]
    admitted = []
    if client.trial_ends_at is not None and client.trial_ends_at <= now:
        evidence = f"the trial of “{client.name}” ended on {client.trial_ends_at:%Y-%m-%d}: nobody signs in to it"
        admitted = [Check(CheckName.ADMITTED, False, evidence)]
    elif client.sign_in_groups:
        within = sorted(person.groups.intersection(client.sign_in_groups))
        said = f"{person.name} is in {within[0]}" if within else f"{person.name} is in none of them"
        evidence = f"“{client.name}” is for people of {', '.join(client.sign_in_groups)} alone; {said}"
        admitted = [Check(CheckName.ADMITTED, bool(within), evidence)]
    return [
        Check(CheckName.PERSON, person.live, f"{person.name} is {'live' if person.live else 'no longer active'}"),
        *admitted,
        Check(CheckName.ROLE, bool(fitting), _role_evidence(request, person, opening, fitting)),
    ]


def _role_evidence(
    request: Request, person: PersonStanding, opening: list[RoleHolding], fitting: list[RoleHolding]
) -> str:
    if fitting:
        return f"{person.name} is {', '.join(sorted(role.words for role in fitting))}"
    if opening and request.object is not None:
        held = ", ".join(sorted(role.words for role in opening))
        return f"{person.name} is {held}; {_lies(request.object)}"
    held = ", ".join(sorted({role.name for role in person.roles}))
    return f"{person.name} is {held}, which does not open it" if held else f"{person.name} has no role here"


def _token(
    catalogue: Catalogue, client: ClientStanding, request: Request, token: TokenFacts, relying: tuple[HeldGrant, ...]
) -> list[Check]:
    carried = sorted(name for name in token.scope if request.operation in catalogue.opened_by(name))
    scope = f"the token carries {', '.join(carried)}" if carried else "the token carries no permission that unlocks it"
    checks = [Check(CheckName.TOKEN_SCOPE, bool(carried), scope)]
    if carried and catalogue.concerns_object(request.operation):
        holding = [
            name
            for name in carried
            if any(reaches(catalogue, request, reach) for reach in token.reach.get(name, (EVERYWHERE,)))
        ]
        bounds = sorted({reach.words for name in carried for reach in token.reach.get(name, (EVERYWHERE,))})
        checks.append(Check(CheckName.TOKEN_REACH, bool(holding), f"the token counts {' and '.join(bounds)}"))
    # The token must be younger than a grant that it carries; a grant it does not carry cannot vouch for it.
    relied = [grant for grant in relying if catalogue.closure(grant.permission) & token.scope]
    # RFC 7519 section 2: a NumericDate is commonly whole seconds, so a grant of the same second counts as before it.
    old = bool(relied) and all(token.issued_at < grant.granted_at.replace(microsecond=0) for grant in relied)
    age = "the token is older than the grant: fetch a new one" if old else "the token is not older than the grant"
    checks.append(Check(CheckName.TOKEN_AGE, not old, age))
    if client.tokens_revoked_at is not None:
        # A token of the revocation's own second may be from before it; one made after it says a later second.
        cut = token.issued_at <= client.tokens_revoked_at.replace(microsecond=0)
        said = f"tokens from before {client.tokens_revoked_at:%Y-%m-%d %H:%M:%S} UTC are revoked"
        checks.append(Check(CheckName.TOKENS_REVOKED, not cut, said))
    return checks
