"""Asked, granted, used; the four rules; excess."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest

from jamb.core.access import HeldAsk, HeldGrant
from jamb.core.audit import RULES, ClientPicture, CredentialPicture, ResourcePicture, Severity, evaluate, worst_first
from jamb.core.clients import ClientKind, folded, registration
from jamb.core.credentials import CredentialKind
from jamb.core.errors import BadInput
from jamb.core.excess import excess
from jamb.core.ladder import LadderCount, Use, UsedState, count, ladder
from jamb.core.next_steps import next_steps
from jamb.core.permissions import AccessKind
from jamb.core.policy import DirectoryPolicy
from tests.core.build import NOW, berths

APPLICATION = AccessKind.APPLICATION
DAY = timedelta(days=1)
POLICY = DirectoryPolicy(notice_days=14, observation_days=14)
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


def secret(
    ends: int | None, *, used: int | None = None, withdrawn: bool = False, name: str = "s1"
) -> CredentialPicture:
    return CredentialPicture(
        id=name,
        kind=CredentialKind.SECRET,
        hint=f"hint-{name}",
        issued_at=NOW - 60 * DAY,
        starts_at=None,
        disabled_at=None,
        expires_at=None if ends is None else NOW + ends * DAY,
        withdrawn_at=NOW - DAY if withdrawn else None,
        last_used_at=None if used is None else NOW - used * DAY,
    )


def picture(*credentials: CredentialPicture, owners: tuple[str, ...] = ("Ilse",), found: Any = ()) -> ClientPicture:
    places = (ResourcePicture(CATALOGUE, found),) if found else ()
    return ClientPicture("c1", "Night run", True, owners, credentials, places)


H, M, L = Severity.HIGH, Severity.MEDIUM, Severity.LOW
AUDITS: dict[str, tuple[ClientPicture, list[tuple[str, Severity]]]] = {
    "all in order": (picture(secret(90, used=1), found=rungs("view", {"view": 30}, (use("list"),))), []),
    "ends soon and is in use": (picture(secret(9, used=1)), [("credential-expiring", H)]),
    "ends soon, not used lately": (picture(secret(9, used=20)), [("credential-expiring", M)]),
    "ends soon, but another outlasts it": (
        picture(secret(9, used=1), secret(90, name="s2")),
        [("credential-expiring", L)],
    ),
    "ends on the last day of notice": (picture(secret(14)), [("credential-expiring", M)]),
    "ends a day after the notice": (picture(secret(15)), []),
    "two end soon, neither outlasts": (
        picture(secret(9, used=1), secret(10, used=1, name="s2")),
        [("credential-expiring", H), ("credential-expiring", H)],
    ),
    "ended": (picture(secret(-3)), [("credential-expired", M)]),
    "ended, another lives": (picture(secret(-3), secret(90, name="s2")), [("credential-expired", L)]),
    "ended and withdrawn": (picture(secret(-3, withdrawn=True)), []),
    "endless": (picture(secret(None, used=1)), []),
    "no owner, holds nothing": (picture(owners=()), [("no-owner", M)]),
    "no owner, holds something": (
        picture(owners=(), found=rungs("", {"view": 30}, (use("list"),))),
        [("no-owner", H)],
    ),
    "never used, light": (picture(found=rungs("", {"arrivals": 30})), [("permission-never-used", L)]),
    "never used, heavier": (picture(found=rungs("", {"assign": 30})), [("permission-never-used", M)]),
    "never used, heavy": (picture(found=rungs("", {"manage": 30})), [("permission-never-used", H)]),
    "too early to say": (picture(found=rungs("", {"manage": 13})), []),
    "asked and not granted is no excess": (picture(found=rungs("manage")), []),
}


@pytest.mark.parametrize(("client", "expected"), AUDITS.values(), ids=AUDITS.keys())
def test_the_audit_finds_exactly_this(client: ClientPicture, expected: list[tuple[str, Severity]]) -> None:
    found = list(evaluate([client], POLICY, NOW))
    assert sorted((one.rule, one.severity) for one in found) == sorted(expected)
    assert all(one.mend and one.title and one.evidence for one in found)


def test_findings_come_worst_first_and_keep_their_order() -> None:
    clients = [picture(secret(-3), owners=()), picture(secret(9, used=1))]
    found = worst_first(evaluate(clients, POLICY, NOW))
    assert [one.severity for one in found] == sorted((one.severity for one in found), reverse=True)
    assert worst_first(reversed(found)) == found


def test_every_rule_says_why_and_on_what_ground() -> None:
    assert len({rule.id for rule in RULES}) == len(RULES) == 4
    assert all(rule.title and rule.why and rule.reference for rule in RULES)


def test_excess_is_the_unused_share_by_weight_of_what_can_be_judged() -> None:
    # assign opens list (2) and assign (6); only list was used. The grant of yesterday is not judged.
    place = ResourcePicture(CATALOGUE, rungs("", {"assign": 30, "manage": 1}, (use("list"),)))
    found = excess([place], NOW, POLICY.observation)
    assert (found.granted_weight, found.unused_weight, found.share) == (8, 6, 0.75)
    assert excess([], NOW, POLICY.observation).share is None


def test_next_steps_shrink_until_nothing_is_left() -> None:
    service = ClientKind.SERVICE
    assert len(next_steps(service, [], has_live_secret=False)) == 2
    assert "view" in next_steps(service, rungs("view"), has_live_secret=True)[0]
    assert next_steps(service, rungs("view", {"view": 1}), has_live_secret=True) == ()
    assert next_steps(ClientKind.NATIVE, rungs("view", {"view": 1}), has_live_secret=False) == ()


BAD_NAMES = {"empty": "", "only white space": " \n ", "too long": "x" * 81, "a control character": "a\u0007b"}


@pytest.mark.parametrize("name", BAD_NAMES.values(), ids=BAD_NAMES.keys())
def test_a_registration_names_every_bad_field(name: str) -> None:
    with pytest.raises(BadInput) as refused:
        registration(name, "", ClientKind.SERVICE)
    assert {one.field for one in refused.value.violations} == {"name", "purpose"}


def test_names_are_tidied_and_compared_without_regard_to_case_or_width() -> None:
    tidy = registration("  Night \n run ", "p", ClientKind.SERVICE)
    assert tidy.name == "Night run"
    assert folded("Night RUN") == folded("night run") == folded("\uff4eight run")
