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

from collections.abc import Callable, Mapping
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


class Check:
    """One link of the chain. A check that does not decide is evidence: it may fail and the request still be allowed.

    What it stands on is worded when somebody reads it: of most decisions nobody does.
    """

    __slots__ = ("_words", "decides", "name", "passed")

    def __init__(self, name: CheckName, passed: bool, words: str | Callable[[], str], decides: bool = True) -> None:
        self.name, self.passed, self.decides, self._words = name, passed, decides, words

    @property
    def evidence(self) -> str:
        if not isinstance(self._words, str):
            self._words = self._words()
        return self._words

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Check) and repr(self) == repr(other)

    def __hash__(self) -> int:
        return hash((self.name, self.passed))

    def __repr__(self) -> str:
        return f"Check({self.name}, {self.passed}, {self.evidence!r}, {self.decides})"


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
    operation = catalogue.operations.get(request.operation)
    if operation is None:
        return Decision((Check(CheckName.OPERATION, False, lambda: _unknown(catalogue, request.operation)),))
    openers = catalogue.openers(request.operation)
    matching = matching_grants(catalogue, client, request, now)
    reaching = matching
    if request.object is not None and catalogue.concerns_object(request.operation):
        reaching = tuple([grant for grant in matching if grant.reach.contains(request.object.collections)])
    checks = [
        Check(CheckName.OPERATION, True, lambda: f"{operation.method} {operation.path}: {operation.title}"),
        Check(CheckName.CLIENT, client.live, lambda: f"“{client.name}” is {'live' if client.live else 'disabled'}"),
        _asked(client, request, openers),
        Check(
            CheckName.GRANTED,
            bool(matching),
            lambda: _granted(matching) if matching else _not_granted(catalogue, client, request, now),
        ),
    ]
    if matching and catalogue.concerns_object(request.operation):
        passed = request.object is None or bool(reaching)
        checks.append(Check(CheckName.REACH, passed, lambda: _reach(request, matching, reaching)))
    if client.can_authenticate is not None:
        evidence = "a credential works" if client.can_authenticate else "no credential works: it cannot fetch a token"
        checks.append(Check(CheckName.CREDENTIAL, client.can_authenticate, evidence))
    if client.lacks_grant_type:
        evidence = f"it is registered without {client.lacks_grant_type}: it gets no such token"
        checks.append(Check(CheckName.GRANT_TYPE, False, evidence))
    if request.kind is AccessKind.DELEGATED:
        checks.extend(_person(catalogue, client, request, openers, now))
    if request.token is not None:
        checks.extend(_token(catalogue, client, request, request.token, openers, reaching or matching))
    return Decision(tuple(checks))


def _unknown(catalogue: Catalogue, operation: str) -> str:
    known = f"it has {listed(catalogue.operations)}"
    return f"{catalogue.name} has no operation “{operation}”. " + did_you_mean(
        operation, catalogue.operations, f"{known[0].upper()}{known[1:]}."
    )


def matching_grants(
    catalogue: Catalogue, client: ClientStanding, request: Request, now: datetime
) -> tuple[HeldGrant, ...]:
    """Return the grants of the request's kind, in force, for its person, whose E(p) contains the operation."""
    person = request.person.id if request.person is not None else None
    openers, kind = catalogue.openers(request.operation), request.kind
    return tuple(
        [
            grant
            for grant in client.grants
            if grant.permission in openers
            and grant.kind is kind
            and (grant.person_id is None or grant.person_id == person)
            and grant.in_force(now)
        ]
    )


def reaches(catalogue: Catalogue, request: Request, reach: Reach) -> bool:
    """Tell whether a reach holds the request's object. Where no object is in question, every reach does."""
    if request.object is None or not catalogue.concerns_object(request.operation):
        return True
    return reach.contains(request.object.collections)


def _asked(client: ClientStanding, request: Request, openers: frozenset[str]) -> Check:
    asks = [ask.permission for ask in client.asks if ask.permission in openers and ask.kind is request.kind]
    if not asks:
        return Check(CheckName.ASKED, False, "no permission that unlocks it was asked", False)
    return Check(CheckName.ASKED, True, lambda: f"asked: {', '.join(sorted(asks))}", False)


def _granted(matching: tuple[HeldGrant, ...]) -> str:
    return f"granted: {', '.join(sorted({_with_way(grant) for grant in matching}))}"


def _not_granted(catalogue: Catalogue, client: ClientStanding, request: Request, now: datetime) -> str:
    openers = catalogue.openers(request.operation)
    opening = [grant for grant in client.grants if grant.permission in openers]
    for other, sentence in (
        ([grant for grant in opening if not grant.in_force(now)], "the grant of {} is not in force"),
        ([grant for grant in opening if grant.kind is request.kind], "{} is granted for another person only"),
        (opening, "{} is granted for the other kind: acting " + _other_way(request.kind)),
    ):
        if other:
            return sentence.format(", ".join(sorted({grant.permission for grant in other})))
    unlockers = " or ".join(catalogue.unlockers(request.operation, request.kind)) or "no permission of this kind"
    return f"not granted: {unlockers} would unlock it"


def _with_way(grant: HeldGrant) -> str:
    return f"{grant.permission} through {grant.through}" if grant.through else grant.permission


def _other_way(kind: AccessKind) -> str:
    return "for a person" if kind is AccessKind.APPLICATION else "as itself"


def _reach(request: Request, matching: tuple[HeldGrant, ...], reaching: tuple[HeldGrant, ...]) -> str:
    words = "; ".join(sorted({f"{grant.permission} counts {grant.reach.words}" for grant in reaching or matching}))
    if request.object is None:
        bounded = all(grant.reach != EVERYWHERE for grant in matching)
        return words + (", so it depends on the object" if bounded else "")
    return f"{_lies(request.object)}; {words}"


def _lies(found: ObjectFacts) -> str:
    if not found.collections:
        return f"{found.name} lies in no collection"
    return f"{found.name} lies in {', '.join(found.collections)}"


def _person(
    catalogue: Catalogue, client: ClientStanding, request: Request, openers: frozenset[str], now: datetime
) -> list[Check]:
    person = request.person
    if person is None:
        return [Check(CheckName.PERSON, False, "a delegated request needs a signed-in person")]
    opening = [role for role in person.roles if not openers.isdisjoint(role.permissions)]
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
        Check(CheckName.PERSON, person.live, lambda: f"{person.name} is {_liveness(person)}"),
        *admitted,
        Check(CheckName.ROLE, bool(fitting), lambda: _role_evidence(request, person, opening, fitting)),
    ]


def _liveness(person: PersonStanding) -> str:
    return "live" if person.live else "no longer active"


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
    catalogue: Catalogue,
    client: ClientStanding,
    request: Request,
    token: TokenFacts,
    openers: frozenset[str],
    relying: tuple[HeldGrant, ...],
) -> list[Check]:
    carried = token.scope & openers
    checks = [Check(CheckName.TOKEN_SCOPE, bool(carried), lambda: _carries(carried))]
    if carried and catalogue.concerns_object(request.operation):
        holding = [
            name
            for name in carried
            if any(reaches(catalogue, request, reach) for reach in token.reach.get(name, (EVERYWHERE,)))
        ]
        checks.append(Check(CheckName.TOKEN_REACH, bool(holding), lambda: _counts(token, carried)))
    # The token must be younger than a grant that it carries; a grant it does not carry cannot vouch for it.
    relied = [grant for grant in relying if catalogue.closure(grant.permission) & token.scope]
    # RFC 7519 section 2: a NumericDate is commonly whole seconds, so a grant of the same second counts as before it.
    old = bool(relied) and all(token.issued_at < grant.granted_at.replace(microsecond=0) for grant in relied)
    age = "the token is older than the grant: fetch a new one" if old else "the token is not older than the grant"
    checks.append(Check(CheckName.TOKEN_AGE, not old, age))
    revoked_at = client.tokens_revoked_at
    if revoked_at is not None:
        # A token of the revocation's own second may be from before it; one made after it says a later second.
        cut = token.issued_at <= revoked_at.replace(microsecond=0)
        checks.append(Check(CheckName.TOKENS_REVOKED, not cut, lambda: _revoked(revoked_at)))
    return checks


def _carries(carried: frozenset[str]) -> str:
    if not carried:
        return "the token carries no permission that unlocks it"
    return f"the token carries {', '.join(sorted(carried))}"


def _counts(token: TokenFacts, carried: frozenset[str]) -> str:
    bounds = sorted({reach.words for name in carried for reach in token.reach.get(name, (EVERYWHERE,))})
    return f"the token counts {' and '.join(bounds)}"


def _revoked(at: datetime) -> str:
    return f"tokens from before {at:%Y-%m-%d %H:%M:%S} UTC are revoked"
