"""The decision against a slow, obvious reference; its explanation; what a change makes possible."""

from __future__ import annotations

from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.access import (
    CheckName,
    ClientStanding,
    HeldAsk,
    HeldGrant,
    MendKind,
    PersonStanding,
    Request,
    RoleHolding,
    TokenFacts,
    compare,
    decide,
    explain,
)
from jamb.core.permissions import AccessKind, Catalogue, weigh
from tests.core.build import NOW, berths, catalogues, moments, people, standings

APPLICATION, DELEGATED = AccessKind.APPLICATION, AccessKind.DELEGATED
HOUR = timedelta(hours=1)


@st.composite
def cases(draw: st.DrawFn) -> tuple[Catalogue, ClientStanding, Request]:
    catalogue = draw(catalogues())
    client = draw(standings(catalogue))
    kind = draw(st.sampled_from(list(AccessKind)))
    person = draw(people(catalogue)) if kind is DELEGATED else None
    scope = st.frozensets(st.sampled_from(sorted(catalogue.permissions)), max_size=3)
    token = draw(st.none() | st.builds(TokenFacts, scope, moments))
    name = draw(st.sampled_from([*sorted(catalogue.operations), "no-such"]))
    return catalogue, client, Request(name, kind, person, token)


def allowed_by_the_book(catalogue: Catalogue, client: ClientStanding, request: Request) -> bool:
    """The access model, sentence by sentence, with no regard for speed."""

    def opens(name: str) -> set[str]:
        item = catalogue.permissions[name]
        return set(item.unlocks).union(*(opens(implied) for implied in item.implies))

    def implied_by(name: str) -> set[str]:
        return {name}.union(*(implied_by(one) for one in catalogue.permissions[name].implies))

    if request.operation not in catalogue.operations or not client.live or client.can_authenticate is False:
        return False
    matching = [
        grant
        for grant in client.grants
        if grant.kind is request.kind
        and grant.granted_at <= NOW
        and (grant.expires_at is None or grant.expires_at > NOW)
        and request.operation in opens(grant.permission)
    ]
    if not matching:
        return False
    if request.kind is DELEGATED:
        person = request.person
        if person is None or not person.live:
            return False
        if not any(request.operation in opens(name) for role in person.roles for name in role.permissions):
            return False
    if request.token is not None:
        if not any(request.operation in opens(name) for name in request.token.scope):
            return False
        relied = [grant for grant in matching if implied_by(grant.permission) & request.token.scope]
        if relied and all(request.token.issued_at < grant.granted_at for grant in relied):
            return False
    return True


@given(cases())
def test_the_decision_equals_the_access_model_taken_literally(case: tuple[Catalogue, ClientStanding, Request]) -> None:
    catalogue, client, request = case
    assert decide(catalogue, client, request, NOW).allowed == allowed_by_the_book(catalogue, client, request)


@given(cases(), st.randoms())
def test_the_order_of_grants_and_asks_never_matters(
    case: tuple[Catalogue, ClientStanding, Request], dice: st.DataObject
) -> None:
    catalogue, client, request = case
    grants, asks = list(client.grants), list(client.asks)
    dice.shuffle(grants)  # type: ignore[attr-defined]
    dice.shuffle(asks)  # type: ignore[attr-defined]
    mixed = ClientStanding(client.id, client.name, client.live, tuple(asks), tuple(grants), client.can_authenticate)
    assert decide(catalogue, mixed, request, NOW) == decide(catalogue, client, request, NOW)


@given(cases(), st.integers(0, 4))
def test_taking_a_grant_away_never_allows_more(case: tuple[Catalogue, ClientStanding, Request], place: int) -> None:
    catalogue, client, request = case
    if request.token is not None or place >= len(client.grants):
        return
    fewer = tuple(grant for number, grant in enumerate(client.grants) if number != place)
    narrowed = ClientStanding(client.id, client.name, client.live, client.asks, fewer, client.can_authenticate)
    if decide(catalogue, narrowed, request, NOW).allowed:
        assert decide(catalogue, client, request, NOW).allowed


@given(cases())
def test_what_a_client_does_for_a_person_never_exceeds_the_person(
    case: tuple[Catalogue, ClientStanding, Request],
) -> None:
    catalogue, client, request = case
    if request.kind is DELEGATED and decide(catalogue, client, request, NOW).allowed:
        assert request.person is not None
        held = frozenset().union(*(role.permissions for role in request.person.roles))
        assert request.operation in catalogue.opened_by_all(held)


def client(*, asks: str = "", grants: str = "", live: bool = True, secret: bool | None = True) -> ClientStanding:
    return ClientStanding(
        "c1",
        "Night run",
        live,
        tuple(HeldAsk(name, APPLICATION, NOW - HOUR) for name in asks.split()),
        tuple(HeldGrant(name, APPLICATION, NOW - HOUR) for name in grants.split()),
        secret,
    )


REFUSALS = {
    "nothing asked: ask for the smallest, then consent": (client(), "list", [MendKind.ASK, MendKind.CONSENT], "view"),
    "asked: consent is all it takes": (client(asks="view"), "list", [MendKind.CONSENT], "view"),
    "the smallest wins over a bigger one that is asked": (
        client(asks="manage"), "list", [MendKind.ASK, MendKind.CONSENT], "view",
    ),
    "a bigger one, if only that opens it": (client(grants="view"), "close", [MendKind.ASK, MendKind.CONSENT], "manage"),
    "no secret: issue one": (client(grants="view", secret=False), "list", [MendKind.ISSUE_SECRET], ""),
    "disabled and never asked": (
        client(live=False), "assign", [MendKind.ENABLE_CLIENT, MendKind.ASK, MendKind.CONSENT], "assign",
    ),
    "no such operation: nothing turns it": (client(grants="view"), "sail", [], ""),
}  # fmt: skip


@pytest.mark.parametrize(("standing", "operation", "kinds", "target"), REFUSALS.values(), ids=REFUSALS.keys())
def test_a_refusal_names_the_smallest_mend(
    standing: ClientStanding, operation: str, kinds: list[MendKind], target: str
) -> None:
    explained = explain(berths(), standing, Request(operation, APPLICATION), NOW)
    assert not explained.decision.allowed
    assert [step.kind for step in explained.mend] == kinds
    assert {step.target for step in explained.mend if step.target} == ({target} if target else set())


@given(cases())
def test_carrying_out_the_mend_of_an_application_turns_the_refusal(
    case: tuple[Catalogue, ClientStanding, Request],
) -> None:
    catalogue, standing, request = case
    request = Request(request.operation, APPLICATION)
    explained = explain(catalogue, standing, request, NOW)
    if explained.decision.allowed or not explained.mend:
        return
    grants, live, can = list(standing.grants), standing.live, standing.can_authenticate
    for step in explained.mend:
        if step.kind is MendKind.CONSENT:
            grants.append(HeldGrant(step.target, APPLICATION, NOW))
        live = live or step.kind is MendKind.ENABLE_CLIENT
        can = True if step.kind is MendKind.ISSUE_SECRET else can
    mended = ClientStanding(standing.id, standing.name, live, standing.asks, tuple(grants), can)
    assert decide(catalogue, mended, request, NOW).allowed


def test_a_token_from_before_the_grant_is_refused_and_a_fresh_one_is_the_mend() -> None:
    old = TokenFacts(frozenset({"view"}), NOW - 2 * HOUR)
    explained = explain(berths(), client(asks="view", grants="view"), Request("list", APPLICATION, token=old), NOW)
    assert [check.name for check in explained.decision.failed] == [CheckName.TOKEN_AGE]
    assert [step.kind for step in explained.mend] == [MendKind.FRESH_TOKEN]


def test_a_person_without_the_role_is_offered_the_least_role_that_would_do() -> None:
    person = PersonStanding("p", "Oskar", True)
    standing = ClientStanding("c", "Console", True, grants=(HeldGrant("manage", DELEGATED, NOW - HOUR),))
    roles = [RoleHolding("chief", frozenset({"manage"})), RoleHolding("clerk", frozenset({"view"}))]
    explained = explain(berths(), standing, Request("list", DELEGATED, person), NOW, roles)
    assert [(step.kind, step.target) for step in explained.mend] == [(MendKind.ASSIGN_ROLE, "clerk")]


def test_a_grant_ends_at_its_end_to_the_moment() -> None:
    grant = HeldGrant("view", APPLICATION, NOW, NOW + HOUR)
    assert not grant.in_force(NOW - timedelta(microseconds=1))
    assert grant.in_force(NOW)
    assert grant.in_force(NOW + HOUR - timedelta(microseconds=1))
    assert not grant.in_force(NOW + HOUR)


@given(catalogues(), st.data())
def test_a_comparison_accounts_for_every_operation_once(catalogue: Catalogue, data: st.DataObject) -> None:
    names = st.sets(st.sampled_from(sorted(catalogue.permissions)))
    before, after = data.draw(names), data.draw(names)
    found = compare(catalogue, before, after)
    opened_before, opened_after = catalogue.opened_by_all(before), catalogue.opened_by_all(after)
    assert found.newly | found.unchanged == opened_after
    assert found.no_longer | found.unchanged == opened_before
    assert not found.newly & opened_before
    assert found.added_weight == weigh(catalogue, found.newly)
    assert catalogue.opened_by_all(after - found.redundant) == opened_after
