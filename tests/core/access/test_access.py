"""The decision against a slow, obvious reference; its explanation; what a change makes possible."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.access import (
    CheckName,
    ClientStanding,
    HeldAsk,
    HeldGrant,
    Holding,
    ObjectFacts,
    PersonStanding,
    Request,
    RoleHolding,
    StepKind,
    TokenFacts,
    across,
    compare,
    decide,
    everywhere,
    explain,
)
from jamb.core.permissions import AccessKind, Catalogue, weigh, weigh_operation
from jamb.core.reach import EVERYWHERE, Reach, ReachKind, overlap
from tests.core.build import (
    NOW,
    TREE,
    berths,
    catalogues,
    moments,
    objects,
    operation,
    people,
    permission,
    reaches,
    standings,
)

APPLICATION, DELEGATED = AccessKind.APPLICATION, AccessKind.DELEGATED
HOUR = timedelta(hours=1)


@st.composite
def cases(draw: st.DrawFn) -> tuple[Catalogue, ClientStanding, Request]:
    catalogue = draw(catalogues())
    client = draw(standings(catalogue))
    kind = draw(st.sampled_from(list(AccessKind)))
    person = draw(people(catalogue)) if kind is DELEGATED else None
    scope = st.frozensets(st.sampled_from(sorted(catalogue.permissions)), max_size=3)
    bounds = st.dictionaries(
        st.sampled_from(sorted(catalogue.permissions)), st.lists(reaches, min_size=1, max_size=2).map(tuple), max_size=2
    )
    token = draw(st.none() | st.builds(TokenFacts, scope, moments, bounds))
    name = draw(st.sampled_from([*sorted(catalogue.operations), "no-such"]))
    return catalogue, client, Request(name, kind, person, token, draw(st.none() | objects))


def allowed_by_the_book(catalogue: Catalogue, client: ClientStanding, request: Request) -> bool:
    """The access model, sentence by sentence, with no regard for speed."""

    def opens(name: str) -> set[str]:
        item = catalogue.permissions[name]
        return set(item.unlocks).union(*(opens(implied) for implied in item.implies))

    def implied_by(name: str) -> set[str]:
        return {name}.union(*(implied_by(one) for one in catalogue.permissions[name].implies))

    def holds(reach: Reach) -> bool:
        """Does it count for the object? Only where the operation names one, and one is named."""
        named = "{thing}" in catalogue.operations[request.operation].path
        if not named or request.object is None or reach.kind is ReachKind.EVERYWHERE:
            return True
        inside = any(request.object.name in TREE.members(path) for path in reach.collections)
        return inside if reach.kind is ReachKind.ONLY else not inside

    if request.operation not in catalogue.operations or not client.live or client.can_authenticate is False:
        return False
    matching = [
        grant
        for grant in client.grants
        if grant.kind is request.kind
        and grant.granted_at <= NOW
        and (grant.expires_at is None or grant.expires_at > NOW)
        and request.operation in opens(grant.permission)
        and grant.person_id in (None, request.person.id if request.person else None)
        and holds(grant.reach)
    ]
    if not matching:
        return False
    if request.kind is DELEGATED:
        person = request.person
        if person is None or not person.live:
            return False
        if not any(
            request.operation in opens(name) and holds(role.reach) for role in person.roles for name in role.permissions
        ):
            return False
    if request.token is not None:
        if not any(
            request.operation in opens(name) and any(map(holds, request.token.reach.get(name, (EVERYWHERE,))))
            for name in request.token.scope
        ):
            return False
        if client.tokens_revoked_at is not None and request.token.issued_at <= client.tokens_revoked_at:
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
    mixed = replace(client, asks=tuple(asks), grants=tuple(grants))
    assert decide(catalogue, mixed, request, NOW) == decide(catalogue, client, request, NOW)


@given(cases(), st.integers(0, 4))
def test_taking_a_grant_away_never_allows_more(case: tuple[Catalogue, ClientStanding, Request], place: int) -> None:
    catalogue, client, request = case
    if request.token is not None or place >= len(client.grants):
        return
    fewer = tuple(grant for number, grant in enumerate(client.grants) if number != place)
    narrowed = replace(client, grants=fewer)
    if decide(catalogue, narrowed, request, NOW).allowed:
        assert decide(catalogue, client, request, NOW).allowed


@given(cases(), st.integers(0, 4), reaches)
def test_narrowing_a_reach_never_allows_more(
    case: tuple[Catalogue, ClientStanding, Request], place: int, bound: Reach
) -> None:
    catalogue, client, request = case
    if request.token is not None or place >= len(client.grants):
        return
    within = overlap(client.grants[place].reach, bound, TREE)
    fewer = [
        (replace(grant, reach=within) if within else None) if number == place else grant
        for number, grant in enumerate(client.grants)
    ]
    narrowed = replace(client, grants=tuple(grant for grant in fewer if grant is not None))
    if request.object is not None and decide(catalogue, narrowed, request, NOW).allowed:
        assert decide(catalogue, client, request, NOW).allowed


@given(cases())
def test_what_a_client_does_for_a_person_never_exceeds_either_side(
    case: tuple[Catalogue, ClientStanding, Request],
) -> None:
    """Effective delegated access is within the person's own, and within what the client may do for everyone."""
    catalogue, client, request = case
    if request.kind is not DELEGATED or request.person is None or not decide(catalogue, client, request, NOW).allowed:
        return
    alone = HeldGrant("", APPLICATION, NOW - HOUR)
    mine = tuple(
        replace(alone, permission=name, reach=role.reach) for role in request.person.roles for name in role.permissions
    )
    by_hand = ClientStanding("p", "Person", live=True, grants=mine)
    as_itself = replace(client, grants=tuple(replace(one, kind=APPLICATION, person_id=None) for one in client.grants))
    asked = Request(request.operation, APPLICATION, object=request.object)
    assert decide(catalogue, by_hand, asked, NOW).allowed
    assert decide(catalogue, as_itself, asked, NOW).allowed


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
    "nothing asked: ask for the smallest, then consent": (client(), "list", [StepKind.ASK, StepKind.CONSENT], "view"),
    "asked: consent is all it takes": (client(asks="view"), "list", [StepKind.CONSENT], "view"),
    "the smallest wins over a bigger one that is asked": (
        client(asks="manage"),
        "list",
        [StepKind.ASK, StepKind.CONSENT],
        "view",
    ),
    "a bigger one, if only that opens it": (client(grants="view"), "close", [StepKind.ASK, StepKind.CONSENT], "manage"),
    "no secret: issue one": (client(grants="view", secret=False), "list", [StepKind.ISSUE_SECRET], ""),
    "disabled and never asked": (
        client(live=False),
        "assign",
        [StepKind.ENABLE_CLIENT, StepKind.ASK, StepKind.CONSENT],
        "assign",
    ),
    "no such operation: nothing turns it": (client(grants="view"), "sail", [], ""),
}


@pytest.mark.parametrize(("standing", "operation", "kinds", "target"), REFUSALS.values(), ids=REFUSALS.keys())
def test_a_refusal_names_the_smallest_remedy(
    standing: ClientStanding, operation: str, kinds: list[StepKind], target: str
) -> None:
    explained = explain(berths(), standing, Request(operation, APPLICATION), NOW)
    assert not explained.decision.allowed
    assert [step.kind for step in explained.steps] == kinds
    assert {step.target for step in explained.steps if step.target} == ({target} if target else set())


@given(cases())
def test_carrying_out_the_remedy_of_an_application_turns_the_refusal(
    case: tuple[Catalogue, ClientStanding, Request],
) -> None:
    catalogue, standing, request = case
    request = Request(request.operation, APPLICATION, object=request.object)
    explained = explain(catalogue, standing, request, NOW)
    if explained.decision.allowed or not explained.steps:
        return
    grants, live, can = list(standing.grants), standing.live, standing.can_authenticate
    for step in explained.steps:
        if step.kind in {StepKind.CONSENT, StepKind.WIDEN_REACH}:
            grants.append(HeldGrant(step.target, APPLICATION, NOW, reach=step.reach))
        if step.kind is StepKind.COLLECT_OBJECT:
            return
        live = live or step.kind is StepKind.ENABLE_CLIENT
        can = True if step.kind is StepKind.ISSUE_SECRET else can
    resolved = ClientStanding(standing.id, standing.name, live, standing.asks, tuple(grants), can)
    assert decide(catalogue, resolved, request, NOW).allowed


def test_a_token_from_before_the_grant_is_refused_and_a_fresh_one_is_the_remedy() -> None:
    old = TokenFacts(frozenset({"view"}), NOW - 2 * HOUR)
    explained = explain(berths(), client(asks="view", grants="view"), Request("list", APPLICATION, token=old), NOW)
    assert [check.name for check in explained.decision.failed] == [CheckName.TOKEN_AGE]
    assert [step.kind for step in explained.steps] == [StepKind.FRESH_TOKEN]


def test_a_person_without_the_role_is_offered_the_least_role_that_would_do() -> None:
    person = PersonStanding("p", "Oskar", True)
    standing = ClientStanding("c", "Console", True, grants=(HeldGrant("manage", DELEGATED, NOW - HOUR),))
    roles = [RoleHolding("chief", frozenset({"manage"})), RoleHolding("clerk", frozenset({"view"}))]
    explained = explain(berths(), standing, Request("list", DELEGATED, person), NOW, roles)
    assert [(step.kind, step.target) for step in explained.steps] == [(StepKind.ASSIGN_ROLE, "clerk")]


MENDS_OF_REACH = {
    "only elsewhere: the smallest collection that holds it": (
        Reach.only("south"),
        "i1",
        StepKind.WIDEN_REACH,
        "only north/inner, south",
    ),
    "all but here: what shuts it out goes": (
        Reach.all_but("north", "empty"),
        "n1",
        StepKind.WIDEN_REACH,
        "all but empty",
    ),
    "all but here alone: everywhere": (Reach.all_but("north"), "n1", StepKind.WIDEN_REACH, "everywhere"),
    "in no collection: put it into one": (Reach.only("south"), "adrift", StepKind.COLLECT_OBJECT, "everywhere"),
}


@pytest.mark.parametrize(("reach", "name", "kind", "words"), MENDS_OF_REACH.values(), ids=MENDS_OF_REACH.keys())
def test_a_refusal_out_of_reach_names_the_smallest_reach(reach: Reach, name: str, kind: StepKind, words: str) -> None:
    quay = Catalogue.of(
        "quay",
        "Quay",
        "https://quay.example",
        [operation("moor", "/berths/{berth}")],
        [permission("hand", "moor")],
        "berth",
    )
    holding = ClientStanding("c", "Tug", True, grants=(HeldGrant("hand", APPLICATION, NOW - HOUR, reach=reach),))
    asked = Request("moor", APPLICATION, object=ObjectFacts(name, TREE.where(name)))
    explained = explain(quay, holding, asked, NOW)
    assert [check.name for check in explained.decision.failed] == [CheckName.REACH]
    assert [(step.kind, step.reach.words) for step in explained.steps] == [(kind, words)]


def test_a_token_from_the_second_of_the_cut_off_is_refused_and_the_next_one_is_not() -> None:
    cut = replace(client(grants="view"), tokens_revoked_at=NOW + timedelta(milliseconds=700))
    for issued_at, allowed in ((NOW, False), (NOW + timedelta(seconds=1), True)):
        token = TokenFacts(frozenset({"view"}), issued_at)
        found = decide(berths(), cut, Request("list", APPLICATION, token=token), NOW + HOUR)
        assert found.allowed is allowed


def test_a_grant_for_one_person_is_nobody_elses() -> None:
    mine = HeldGrant("view", DELEGATED, NOW - HOUR, person_id="p")
    standing = ClientStanding("c", "Tablet", True, grants=(mine,))
    roles = (RoleHolding("lookout", frozenset({"view"})),)
    for person_id, allowed in (("p", True), ("q", False)):
        person = PersonStanding(person_id, "Yuki", True, roles)
        found = decide(berths(), standing, Request("list", DELEGATED, person), NOW)
        assert found.allowed is allowed
    assert "for another person only" in found.failed[0].evidence


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
    found = compare(catalogue, everywhere(before), everywhere(after))
    opened_before, opened_after = catalogue.opened_by_all(before), catalogue.opened_by_all(after)
    assert found.newly | found.unchanged == opened_after
    assert found.no_longer | found.unchanged == opened_before
    assert not found.newly & opened_before
    assert found.added_weight == weigh(catalogue, found.newly)
    assert catalogue.opened_by_all(after - found.redundant) == opened_after


def objects_touched(catalogue: Catalogue, held: list[Holding], name: str) -> set[str]:
    """Look at every object there is, and at one that lies nowhere."""
    opening = [one.reach for one in held if name in catalogue.opened_by(one.permission)]
    return {
        item
        for item in {*TREE.everything, "adrift"}
        if any(not catalogue.concerns_object(name) or reach.contains(TREE.where(item)) for reach in opening)
    }


@given(catalogues(), st.data())
def test_a_comparison_counts_the_objects_that_a_slow_look_counts(catalogue: Catalogue, data: st.DataObject) -> None:
    holdings = st.lists(st.builds(Holding, st.sampled_from(sorted(catalogue.permissions)), reaches), max_size=4)
    before, after = data.draw(holdings), data.draw(holdings)
    found = compare(catalogue, before, after, TREE)

    def touched(held: list[Holding], name: str) -> set[str]:
        return objects_touched(catalogue, held, name)

    parts = [found.newly, found.no_longer, found.unchanged, found.wider | found.narrower]
    assert sum(map(len, parts)) == len(frozenset().union(*parts))
    for name in filter(catalogue.concerns_object, catalogue.operations):
        old, new = touched(before, name), touched(after, name)
        assert (name in found.newly) == (bool(new) and not old)
        assert (name in found.no_longer) == (bool(old) and not new)
        assert (name in found.wider) == (bool(old) and bool(new - old))
        assert (name in found.narrower) == (bool(new) and bool(old - new))
        if old or new:
            counted = found.objects[name]
            assert (counted.before, counted.after) == (len(old - {"adrift"}), len(new - {"adrift"}))
            assert counted.uncollected == ("adrift" in new)
    if not found.newly and not found.wider:
        assert found.added_weight == 0


@given(catalogues(), catalogues(), st.data())
def test_a_changed_catalogue_says_what_the_same_holdings_open_now(
    before: Catalogue, after: Catalogue, data: st.DataObject
) -> None:
    names = sorted(before.permissions.keys() | after.permissions.keys())
    held = data.draw(st.lists(st.builds(Holding, st.sampled_from(names), reaches), max_size=4))
    parts: dict[str, set[str]] = {"newly": set(), "wider": set(), "narrower": set(), "no_longer": set()}
    for name in before.operations.keys() | after.operations.keys():
        old, new = objects_touched(before, held, name), objects_touched(after, held, name)
        if not old or not new:
            parts["newly"] |= {name} if new else set()
            parts["no_longer"] |= {name} if old else set()
            continue
        heavier = weigh_operation(after.operations[name]) > weigh_operation(before.operations[name])
        parts["wider"] |= {name} if new - old or heavier else set()
        parts["narrower"] |= {name} if old - new else set()
    found = across(before, after, held, TREE)
    if found is None:
        assert not any(parts.values())
    else:
        assert {part: set(getattr(found, part)) for part in parts} == parts
