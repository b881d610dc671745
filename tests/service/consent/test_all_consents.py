"""The consents of a whole directory: each once, as its client's own list tells it, filtered, over pages of any size."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import pytest

from jamb.client import BadInput, Forbidden, Jamb, NotFound
from jamb.core.permissions import AccessKind
from jamb.core.reach import ReachKind
from jamb.wire.consent.consent import Terms
from jamb.wire.resources.reach import ReachSent
from tests.world import World


def test_every_consent_is_listed_once_as_its_client_tells_it(world: World) -> None:
    made = world.client(granted=["berths.view"])
    with world.jamb("auditor") as auditor:
        every = list(auditor.consent.all())
        assert every[0].client_id == made.id, "granted last, first"
        assert [one.granted_at for one in every] == sorted((one.granted_at for one in every), reverse=True)
        assert len({one.id for one in every}) == len(every)
        of_client: dict[str, list[object]] = {}
        for one in every:
            said = one.model_dump(exclude={"client_id", "client_name"})
            of_client.setdefault(one.client_id, []).append(said)
        for client in auditor.clients.list():
            own = [one.model_dump() for one in auditor.consent.list(client.id)]
            assert sorted(of_client.pop(client.id, []), key=str) == sorted(own, key=str), client.name
        assert of_client == {}


def test_consents_are_filtered_and_a_page_leads_to_the_next(world: World) -> None:
    made = world.client(asked=["berths.view", "berths.assign"])
    soon = datetime.now(UTC) + timedelta(days=3)
    with world.jamb("approver") as approver, world.jamb("auditor") as auditor:
        terms = Terms(expires_at=soon, reach={"berths": ReachSent(kind=ReachKind.ONLY, collections=["north"])})
        approver.consent.grant(made.id, terms=terms)
        mine = {one.id for one in auditor.consent.list(made.id)}

        def found(**filters: Any) -> set[UUID]:
            return {one.id for one in auditor.consent.all(**filters)} & mine

        for filters in (
            {"q": made.name[-8:].upper()},
            {"resource": "berths", "bounded": True},
            {"kind": AccessKind.APPLICATION, "by_person": False},
            {"expires_before": soon + timedelta(minutes=1)},
        ):
            assert found(**filters) == mine, filters
        for filters in (
            {"q": "no such client"},
            {"resource": "crew"},
            {"bounded": False},
            {"kind": AccessKind.DELEGATED},
            {"by_person": True},
            {"expires_before": soon - timedelta(minutes=1)},
        ):
            assert found(**filters) == set(), filters
        assert len(found(permission="berths.view")) == 1
        with pytest.raises(BadInput, match="a permission of berths") as typed:
            found(resource="berths", permission="berths.veiw")
        assert "Did you mean berths.view?" in str(typed.value.violations)
        with pytest.raises(BadInput, match="a permission of a resource here"):
            found(permission="nobody.has-it")
        with pytest.raises(NotFound, match=r"no resource “berth”.*"):
            found(resource="berth")
    with world.session("rafiq") as http:
        cursor, seen, totals = None, [], set()
        while True:
            query = {"limit": 1, "q": made.name, **({"cursor": cursor} if cursor else {})}
            page = http.get("/api/v1/directories/quillhaven/consents", params=query).raise_for_status().json()
            seen += [one["id"] for one in page["items"]]
            totals.add(page["total"])
            cursor = page["next"]
            if cursor is None:
                break
    assert (sorted(seen), totals) == (sorted(map(str, mine)), {2})


def test_what_ended_or_was_removed_is_not_listed_and_owners_see_no_others(world: World) -> None:
    made = world.client(granted=["berths.view"], secret=False)

    def listed(jamb: Jamb) -> bool:
        return any(one.client_id == made.id for one in jamb.consent.all(q=made.name))

    with world.jamb() as steward:
        assert listed(steward)
        steward.consent.withdraw(made.id, "berths", ["berths.view"])
        assert not listed(steward)
    with world.jamb(None) as owner, pytest.raises(Forbidden):
        list(owner.consent.all())


def test_a_consent_at_our_own_api_says_the_names_of_the_clients_that_it_is_bounded_to(world: World) -> None:
    with world.jamb("auditor") as auditor:
        named = [
            one for one in auditor.consent.all(resource="jamb", bounded=True) if one.client_name == "Key renewal helper"
        ]
        (of_client,) = [one for one in auditor.consent.list(named[0].client_id) if one.id == named[0].id]
    words = named[0].reach.words
    assert (words, words.startswith("only ")) == (of_client.reach.words, True)
    assert not any(key in words for key in named[0].reach.collections)
