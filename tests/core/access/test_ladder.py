"""Asked, granted, used; excess; what a registration says."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest

from jamb.core.access import HeldAsk, HeldGrant
from jamb.core.audit.excess import Excess, excess_at
from jamb.core.audit.picture import ResourcePicture
from jamb.core.clients.clients import ClientKind, folded, registration
from jamb.core.clients.next_steps import next_steps
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import BadInput
from jamb.core.ladder import LadderCount, Use, UsedState, count, ladder
from jamb.core.permissions import AccessKind
from tests.core.build import NOW, berths

APPLICATION = AccessKind.APPLICATION
DAY = timedelta(days=1)
POLICY = DirectoryPolicy(warn_days=14, observation_days=14)
CATALOGUE = berths()


def use(operation: str, days_ago: int = 1, calls: int = 5) -> Use:
    at = NOW - days_ago * DAY
    return Use(operation, APPLICATION, at.date(), calls, at)


def rungs(asks: str = "", grants: dict[str, int] | None = None, uses: tuple[Use, ...] = ()) -> Any:
    return ladder(
        CATALOGUE,
        [HeldAsk(name, APPLICATION, NOW - 30 * DAY) for name in asks.split()],
        [HeldGrant(name, APPLICATION, NOW - days * DAY) for name, days in (grants or {}).items()],
        uses,
        NOW,
        POLICY.observation,
    )


LADDERS = {
    "asked only": (rungs("view"), {"view": UsedState.NOT_GRANTED}),
    "granted and used": (rungs("view", {"view": 30}, (use("list"),)), {"view": UsedState.USED}),
    "granted long ago, never used": (rungs("view", {"view": 30}), {"view": UsedState.NEVER}),
    "granted yesterday, not used yet": (rungs("view", {"view": 1}), {"view": UsedState.TOO_EARLY}),
    "granted to the day of the observation": (rungs("view", {"view": 14}), {"view": UsedState.NEVER}),
    "used by what it implies": (rungs("", {"assign": 30}, (use("list"),)), {"assign": UsedState.USED}),
    "the smaller one beside it takes the credit": (
        rungs("", {"assign": 30, "view": 30}, (use("list"),)),
        {"assign": UsedState.NEVER, "view": UsedState.USED},
    ),
    "both used, each by its own": (
        rungs("", {"assign": 30, "view": 30}, (use("list"), use("assign"))),
        {"assign": UsedState.USED, "view": UsedState.USED},
    ),
    "use of something else": (rungs("", {"view": 30}, (use("arrivals"),)), {"view": UsedState.NEVER}),
    "used long ago is used, not never": (rungs("", {"view": 400}, (use("list", 200),)), {"view": UsedState.USED}),
}


@pytest.mark.parametrize(("found", "states"), LADDERS.values(), ids=LADDERS.keys())
def test_each_rung_is_in_the_state_that_use_shows(found: Any, states: dict[str, UsedState]) -> None:
    assert {rung.permission: rung.used for rung in found} == states


def test_the_count_adds_up_the_columns_and_the_waiting() -> None:
    found = rungs("view assign", {"view": 30, "arrivals": 30}, (use("list"),))
    assert count(found) == LadderCount(asked=2, granted=2, used=1, waiting=1)


def test_calls_are_summed_by_day() -> None:
    (rung,) = rungs("", {"assign": 30}, (use("list", 1, 5), use("assign", 1, 7), use("assign", 2, 1)))
    assert rung.calls_by_day == {(NOW - DAY).date(): 12, (NOW - 2 * DAY).date(): 1}
    assert rung.used_operations == {"list", "assign"}
    assert rung.last_used_at == NOW - DAY


def test_excess_is_the_unused_share_by_weight_of_what_can_be_judged() -> None:
    # assign opens list (2) and assign (6); only list was used. The grant of yesterday is not judged.
    place = ResourcePicture(CATALOGUE, rungs("", {"assign": 30, "manage": 1}, (use("list"),)))
    found = excess_at(place, NOW, POLICY.observation)
    assert (found.granted_weight, found.unused_weight, found.share) == (8, 6, 0.75)
    assert Excess().share is None


def test_next_steps_shrink_until_nothing_is_left() -> None:
    service = ClientKind.SERVICE
    assert len(next_steps(service, [], wants=False, has_live_secret=False)) == 2
    assert "view" in next_steps(service, ["view"], wants=True, has_live_secret=True)[0].words
    assert next_steps(service, [], wants=True, has_live_secret=True) == ()
    assert next_steps(ClientKind.NATIVE, [], wants=True, has_live_secret=False) == ()


BAD_NAMES = {"empty": "", "only white space": " \n ", "too long": "x" * 81, "a control character": "a\u0007b"}


@pytest.mark.parametrize("name", BAD_NAMES.values(), ids=BAD_NAMES.keys())
def test_a_registration_names_every_bad_field(name: str) -> None:
    with pytest.raises(BadInput) as refused:
        registration(name, "", ClientKind.SERVICE)
    assert {one.field for one in refused.value.violations} == {"name", "purpose"}


@pytest.mark.parametrize(
    "contact",
    ["help", "a b@c.example", "h\u0007lp@c.example", "help@nowhere", "http://x.example/help", f"{'a' * 65}@b.example"],
)
def test_a_support_contact_is_a_mail_address_or_a_page_by_https(contact: str) -> None:
    for fit in ("help@quillhaven.example", "https://quillhaven.example/help", ""):
        assert registration("A", "b", ClientKind.SERVICE, support_contact=f" {fit} ").support_contact == fit
    with pytest.raises(BadInput) as refused:
        registration("A", "b", ClientKind.SERVICE, support_contact=contact)
    assert [one.field for one in refused.value.violations] == ["support_contact"]


@pytest.mark.parametrize(
    "page", ["http://x.example", "x.example", "https://a@x.example", "javascript:alert(1)", "https://x.example/#a"]
)
def test_a_page_for_users_is_an_address_by_https(page: str) -> None:
    fit = registration("A", "b", ClientKind.WEB, tos_uri=" https://quillhaven.example/terms ")
    assert fit.tos_uri == "https://quillhaven.example/terms"
    with pytest.raises(BadInput) as refused:
        registration("A", "b", ClientKind.WEB, client_uri=page, policy_uri=page)
    assert [one.field for one in refused.value.violations] == ["client_uri", "policy_uri"]


def test_names_are_tidied_and_compared_without_regard_to_case_or_width() -> None:
    tidy = registration("  Night \n run ", "p", ClientKind.SERVICE)
    assert tidy.name == "Night run"
    assert folded("Night RUN") == folded("night run") == folded("\uff4eight run")
