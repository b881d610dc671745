"""Who must agree to what, what a review asks about, and what a policy would refuse of what is there."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.audit.breaches import breaches, life_breach
from jamb.core.audit.findings import RemedyKind
from jamb.core.audit.picture import ClientPicture, CredentialPicture
from jamb.core.audit.remedies import REMEDIES
from jamb.core.audit.reviews import LONGEST_DAYS, NAME_LONGEST, ReviewScope, check_review
from jamb.core.consent.agreements import ACT_WORDS, ActKind, Proposal, agreeing, independent, nobody_words
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import BadInput
from jamb.core.ids import CLIENT_ID_LENGTH, client_id_from, person_id_in
from jamb.core.own_api import OPERATIONS
from jamb.core.permissions import DataClass
from tests.core.build import NOW, berths, catalogues

# Agreement


@given(st.floats(0, 400), st.floats(0, 400), st.integers(1, 100), st.integers(100, 300))
def test_what_weighs_more_never_needs_fewer(light: float, heavy: float, two: int, many: int) -> None:
    policy = replace(DirectoryPolicy(), two_people_weight=two, two_approvers_weight=many)
    assert agreeing(min(light, heavy), policy) <= agreeing(max(light, heavy), policy)
    assert (agreeing(light, policy) == 0) == (light < two)
    assert (agreeing(light, policy) == 2) == (light >= max(two, many))


def proposal(**changes: Any) -> Proposal:
    usual = {"act": ActKind.OWNERS, "client_id": "c1", "subject": "Tug", "args": {"people": ["a", "b"]}}
    return Proposal(**{**usual, "weight": 30.0, "approvers": 1, "why": "heavy", **changes})


def test_the_same_act_is_known_again_however_heavy_and_another_is_another() -> None:
    same = [proposal(), proposal(weight=99.0, why="heavier", approvers=2, subject="Tug, renamed")]
    assert len({one.digest() for one in same}) == 1
    others = [
        proposal(),
        proposal(act=ActKind.CREDENTIAL),
        proposal(client_id="c2"),
        proposal(args={"people": ["a"]}),
        proposal(args={"people": ["a", "b"], "kind": "x"}),
    ]
    assert len({one.digest() for one in others}) == len(others)
    assert ACT_WORDS.keys() == set(ActKind)


@given(st.frozensets(st.sampled_from("abcd")), st.frozensets(st.sampled_from("abcd")))
def test_two_yeses_are_of_two_people_where_nobody_could_have_said_both(
    one: frozenset[str], other: frozenset[str]
) -> None:
    assert independent(one, other) == independent(other, one) == (not one & other)


@pytest.mark.parametrize(
    ("needed", "could", "said", "helps"),
    [
        (1, [], "nobody else here could", "one more person approver"),
        (2, ["Ada"], "only Ada could", "one more person approver"),
        (2, [], "2 other people, and nobody", "2 more people approver"),
    ],
)
def test_where_nobody_could_agree_the_smallest_change_that_helps_is_named(
    needed: int, could: list[str], said: str, helps: str
) -> None:
    against, step = nobody_words(needed, could)
    assert said in against
    assert helps in step


# Reviews


@given(catalogues(), st.sampled_from(list(DataClass)), st.data())
def test_a_review_asks_about_what_opens_data_of_its_class_or_graver(
    catalogue: Any, least: DataClass, data: Any
) -> None:
    name = data.draw(st.sampled_from(sorted(catalogue.permissions)))
    order = [DataClass.OPEN, DataClass.INTERNAL, DataClass.PERSONAL, DataClass.RESTRICTED]
    gravest = max(order.index(catalogue.operations[one].data_class) for one in catalogue.opened_by(name))
    assert ReviewScope(data=least).holds(catalogue, name) == (gravest >= order.index(least))
    assert not ReviewScope(resource="another").holds(catalogue, name)


def test_a_scope_is_kept_as_it_was_and_said_in_words() -> None:
    scope = ReviewScope("berths", DataClass.PERSONAL, ("c1", "c2"))
    assert ReviewScope.read(scope.document()) == scope
    assert scope.words == "grants and roles at berths, that open personal data or graver, of 2 clients"
    assert ReviewScope().words == "grants and roles everywhere"
    assert ReviewScope(data=DataClass.RESTRICTED).words.endswith("that open restricted data")
    assert ReviewScope().holds(berths(), "view")


def test_a_review_has_a_name_and_an_end() -> None:
    assert check_review("  This   year ", 30) == "This year"
    for name, days in (("", 30), ("x" * (NAME_LONGEST + 1), 30), ("a\x00b", 30), ("a", 0), ("a", LONGEST_DAYS + 1)):
        with pytest.raises(BadInput):
            check_review(name, days)


# Breaches of a policy


def credential(kind: CredentialKind, days: float | None, **changes: Any) -> CredentialPicture:
    issued = NOW - timedelta(days=1)
    ends = issued + timedelta(days=days) if days is not None else None
    made = CredentialPicture("k", kind, "jamb_s1_abcd…", issued, None, ends, None, None, None)
    return replace(made, **changes)


def client(*credentials: CredentialPicture) -> ClientPicture:
    return ClientPicture("c1", "Tug", True, (), credentials, ())


@given(st.sampled_from(list(CredentialKind)), st.floats(0.1, 4000), st.integers(1, 3650), st.integers(1, 3650))
def test_a_life_is_too_long_where_the_policy_would_not_allow_it(
    kind: CredentialKind, days: float, secrets: int, keys: int
) -> None:
    policy = replace(DirectoryPolicy(), secret_longest_days=secrets, key_longest_days=keys)
    setting, words = life_breach(credential(kind, days), policy)
    most = secrets if kind is CredentialKind.SECRET else keys
    assert bool(words) == (timedelta(days=days) > timedelta(days=most))
    assert not words or setting == ("secret_longest_days" if kind is CredentialKind.SECRET else "key_longest_days")
    assert life_breach(credential(kind, None), policy)[1] == "has no expiry"


def test_what_is_over_breaks_no_policy_and_too_many_do() -> None:
    policy = replace(DirectoryPolicy(), credentials_at_once=2, secret_longest_days=30)
    over = credential(CredentialKind.SECRET, 90, withdrawn_at=NOW)
    assert list(breaches(client(over, credential(CredentialKind.SECRET, 0.5)), policy, NOW)) == []
    found = list(breaches(client(*(credential(CredentialKind.SECRET, 20) for _ in range(3))), policy, NOW))
    assert [(one.setting, one.words) for one in found] == [("credentials_at_once", "has 3 credentials that stand")]


# Remedies and ids


def test_each_remedy_is_an_operation_of_jambs_own_api() -> None:
    assert REMEDIES.keys() <= set(RemedyKind)
    assert {remedy.operation for remedy in REMEDIES.values()} <= {operation.name for operation in OPERATIONS}


@given(st.binary(min_size=13, max_size=20), st.binary(min_size=13, max_size=20))
def test_a_client_id_can_be_read_aloud_and_differs_as_its_lots_do(one: bytes, other: bytes) -> None:
    made = client_id_from(one)
    assert len(made) == CLIENT_ID_LENGTH
    assert not set(made) & set("ilouILOU")
    low = [int.from_bytes(lots[:13], "big") % (1 << 100) for lots in (one, other)]
    assert (made == client_id_from(other)) == (low[0] == low[1])
    assert person_id_in(made) is None
