"""What a token from before may still do after any changes: what it carried, as far as it is held still."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from jamb.core.access import HeldGrant
from jamb.core.access.revocations import PastHolding, Revocation, revocations_of
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, Reach, ReachKind
from tests.core.build import NOW, PATHS, TREE, catalogues, operation, permission, reaches

DAY_AGO = NOW - timedelta(days=1)
hours = st.integers(1, 23).map(lambda ago: NOW - timedelta(hours=ago))


@st.composite
def histories(draw: st.DrawFn) -> tuple[Catalogue, list[PastHolding]]:
    """What a client holds and held; whatever ended or was changed says when."""
    catalogue = draw(catalogues())
    rows = []
    for _ in range(draw(st.integers(0, 5))):
        granted = draw(hours)
        ended = draw(st.none() | hours.filter(lambda moment, since=granted: moment > since))
        changed = draw(st.none() | hours.filter(lambda moment, since=granted: moment > since))
        grant = HeldGrant(
            draw(st.sampled_from(sorted(catalogue.permissions))),
            draw(st.sampled_from(list(AccessKind))),
            granted,
            ended,
            draw(reaches),
            draw(st.sampled_from([None, None, "p", "q"])),
        )
        rows.append(PastHolding(grant, changed))
    return catalogue, rows


def counts(heard: Sequence[Revocation], issued: datetime, kind: AccessKind, person: str, name: str, place: str) -> bool:
    """Tell, as a guard does, whether a scope value of a token still counts for objects in a place."""
    for one in heard:
        touched = one.kind in (None, kind) and one.person_id in (None, person) and issued <= one.until
        named = one.permissions is None or name in one.permissions
        if touched and named and not any(reach.contains((place,)) for reach in one.reach):
            return False
    return True


def held_for(
    catalogue: Catalogue, rows: Sequence[PastHolding], kind: AccessKind, person: str, name: str, place: str
) -> bool:
    return any(
        row.grant.kind is kind
        and row.grant.in_force(NOW)
        and row.grant.person_id in (None, person)
        and name in catalogue.closure(row.grant.permission)
        and row.grant.reach.contains((place,))
        for row in rows
    )


@given(histories(), hours, st.sampled_from(list(AccessKind)), st.sampled_from(["p", "q", "r"]))
def test_of_a_token_from_before_an_end_nothing_counts_that_is_not_held_now(
    drawn: tuple[Catalogue, list[PastHolding]], issued: datetime, kind: AccessKind, person: str
) -> None:
    catalogue, rows = drawn
    heard = list(revocations_of(catalogue, "c", rows, DAY_AGO, NOW))
    for row in rows:
        ended = row.grant.expires_at
        touches = row.grant.kind is kind and row.grant.person_id in (None, person)
        if ended is None or issued > ended or not touches:
            continue
        for name in catalogue.closure(row.grant.permission):
            for place in PATHS:
                if counts(heard, issued, kind, person, name, place):
                    assert held_for(catalogue, rows, kind, person, name, place), (name, place)


@given(histories(), st.sampled_from(list(AccessKind)), st.sampled_from(["p", "q"]))
def test_a_token_made_after_all_that_happened_is_left_alone(
    drawn: tuple[Catalogue, list[PastHolding]], kind: AccessKind, person: str
) -> None:
    catalogue, rows = drawn
    heard = list(revocations_of(catalogue, "c", rows, DAY_AGO, NOW))
    assert all(
        counts(heard, NOW + timedelta(seconds=1), kind, person, name, place)
        for name in catalogue.permissions
        for place in PATHS
    )


@given(histories())
def test_what_was_never_changed_is_never_spoken_of(drawn: tuple[Catalogue, list[PastHolding]]) -> None:
    catalogue, rows = drawn
    lasting = [PastHolding(replace(row.grant, expires_at=None), None) for row in rows]
    assert list(revocations_of(catalogue, "c", lasting, DAY_AGO, NOW)) == []
    # An end to come is not heard yet; one from before any living token no more.
    later = [PastHolding(replace(row.grant, expires_at=NOW + timedelta(hours=1)), None) for row in rows]
    assert list(revocations_of(catalogue, "c", later, DAY_AGO, NOW)) == []
    old = [PastHolding(replace(row.grant, granted_at=DAY_AGO, expires_at=DAY_AGO), None) for row in rows]
    assert list(revocations_of(catalogue, "c", old, DAY_AGO, NOW)) == []


def test_a_changed_role_takes_along_whatever_it_may_have_bundled() -> None:
    made = [operation("a"), operation("b")]
    catalogue = Catalogue.of("t", "T", "https://t.example", made, [permission("one", "a"), permission("two", "b")])
    grant = HeldGrant("one", AccessKind.APPLICATION, DAY_AGO, None, EVERYWHERE, None, "keeper")
    (heard,) = revocations_of(catalogue, "c", [PastHolding(grant, NOW, by_role=True)], DAY_AGO, NOW)
    assert (heard.permissions, heard.reach) == (("two",), ()), "what it does not hold now counts nowhere"
    narrowed = replace(grant, reach=Reach(ReachKind.ONLY, frozenset({"north"})), through="")
    (heard,) = revocations_of(catalogue, "c", [PastHolding(narrowed, NOW)], DAY_AGO, NOW)
    assert (heard.permissions, [reach.words for reach in heard.reach]) == (("one",), ["only north"])
    assert TREE.where("n1") == ("north",)
