"""The demo's records, client by client: every state worth showing is there, and says what it should."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import NamedTuple

import pytest

from jamb.core.audit.evaluate import RULES
from jamb.demo.load import AUTOMATION
from jamb.demo.scenario import CLIENTS, DIRECTORIES
from tests.world import World


class Expected(NamedTuple):
    ladder: tuple[int, int, int, int]
    secret: str | None
    ends_in_days: int | None
    owners: int
    rules: list[str]


# asked, granted, used, waiting; the best secret's state; days to the next end; owners; findings
TABLE = {
    "Tide-gauge relay": Expected((1, 1, 1, 0), "live", 80, 1, ["single-owner"]),
    "Night invoice run": Expected((1, 1, 1, 0), "expiring", 9, 2, ["credential-expiring"]),
    "Berth board": Expected((1, 1, 1, 0), "live", 120, 1, ["single-owner"]),
    "Fuel quay scheduler": Expected((1, 0, 0, 1), "live", 87, 1, ["several-credentials"]),
    "Radio bridge": Expected(
        (2, 2, 1, 0),
        "live",
        None,
        0,
        [
            "credential-lives-too-long",
            "no-owner",
            "permission-implied",
            "permission-never-used",
            "reach-unbounded",
            "reach-unbounded",
            "restored-alone",
        ],
    ),
    "Weather display": Expected(
        (5, 4, 1, 1),
        "live",
        70,
        1,
        [
            "asked-never-granted",
            "owner-by-own-hand",
            "owner-weaker-than-client",
            "permission-implied",
            "permission-never-used",
            "permission-never-used",
            "permission-never-used",
            "rotation-overdue",
            "single-owner",
        ],
    ),
    "Duty mail digest": Expected((1, 1, 1, 0), "live", 85, 1, ["single-owner"]),
    "Mail archive": Expected((1, 1, 1, 0), "live", 81, 2, ["reach-larger-than-use", "reach-unbounded"]),
    "Tug planner": Expected((0, 2, 1, 0), "live", 126, 2, ["network-new", "permission-never-used"]),
    "Certificate renewals": Expected((1, 0, 0, 1), None, None, 1, []),
    "Watch tablet": Expected(
        (2, 2, 1, 0),
        None,
        None,
        2,
        [
            "consent-for-everyone",
            "consent-for-person-unused",
            "larger-than-use-for-people",
            "redirect-unused",
            "token-replayed",
        ],
    ),
    "Pilot roster sync": Expected((2, 1, 1, 1), "live", 51, 2, ["changed-after-consent", "use-rises"]),
    "Customs declarations feed": Expected((1, 1, 1, 0), "live", 60, 1, ["held-already-by-what-ended", "single-owner"]),
    "Crew certificate check": Expected((1, 1, 0, 0), "live", 85, 1, ["single-owner"]),
    "Crane telemetry trial": Expected(
        (1, 1, 0, 0),
        "expired",
        None,
        1,
        [
            "client-dormant",
            "credential-expired",
            "expired-credential-tried",
            "permission-never-used",
            "single-owner",
            "trial-over",
        ],
    ),
    "Copy of berth board": Expected(
        (1, 0, 0, 1), "expired", None, 0, ["asked-never-granted", "client-never-used", "credential-expired", "no-owner"]
    ),
    "Import test 3": Expected((0, 0, 0, 0), None, None, 0, ["client-never-used", "no-owner"]),
    "Gate camera index": Expected(
        (1, 2, 0, 0),
        "live",
        120,
        1,
        [
            "asked-and-consented-by-one",
            "client-dormant",
            "credential-dormant",
            "credential-never-used",
            "granted-not-asked",
            "no-purpose",
            "owner-gone",
            "permission-implied",
            "permission-never-used",
            "permission-never-used",
            "role-given-alone",
            "top-role-on-client",
            "weak-key",
        ],
    ),
    "Quay dashboard": Expected(
        (1, 1, 1, 0),
        "live",
        130,
        2,
        ["credential-seen-by-another", "granted-under-loose-limits", "permission-larger-than-use"],
    ),
    "Quay dashb0ard": Expected((0, 0, 0, 0), None, None, 2, ["logo-confusable", "name-confusable", "scheme-shared"]),
    "Storm bell": Expected((0, 0, 0, 0), "live", 80, 2, ["disabled-with-credentials"]),
    "Sailing times widget": Expected((1, 1, 1, 0), "live", 120, 2, ["client-silent", "publisher-unvouched"]),
    "Pilot sign-up form": Expected(
        (1, 0, 0, 1),
        "live",
        66,
        2,
        ["pkce-missing", "redirect-foreign-host", "redirect-loopback", "redirect-plain-http"],
    ),
    "Berth kiosk": Expected(
        (1, 1, 1, 0), "live", 86, 2, ["consent-for-everyone", "grant-type-unused", "secret-on-public-client"]
    ),
    "Pilot roster": Expected((2, 2, 2, 0), "live", 150, 2, ["consent-for-everyone", "redirect-loopback"]),
    "Key renewal helper": Expected(
        (1, 1, 0, 0),
        "live",
        78,
        2,
        ["controls-registrations", "controls-through-others", "left-behind", "owner-weaker-than-client"],
    ),
    AUTOMATION: Expected(
        (3, 3, 0, 0),
        "live",
        77,
        1,
        [
            "controls-registrations",
            "controls-through-others",
            "key-due",
            "owner-weaker-than-client",
            "single-owner",
        ],
    ),
    "Berths API": Expected((2, 2, 2, 0), "live", 177, 1, ["single-owner"]),
    "Dispatches API": Expected((2, 2, 2, 0), "live", 177, 1, ["single-owner"]),
}
REMOVED = "Import test 2"


def test_the_table_names_every_client_and_every_rule_fires(world: World) -> None:
    with world.jamb("auditor") as jamb:
        made_here = {one.name for one in jamb.clients.list() if one.registered_by in {"Maren Oduya", "Demo set-up"}}
    assert {one.name for one in CLIENTS} - {REMOVED} <= set(TABLE)
    # Tests register clients of their own, with other names.
    assert set(TABLE) <= made_here
    assert {rule for expected in TABLE.values() for rule in expected.rules} == {rule.id for rule in RULES}


@pytest.mark.parametrize("name", TABLE)
def test_a_client_of_the_demo_is_in_the_state_it_was_made_to_show(world: World, name: str) -> None:
    expected = TABLE[name]
    with world.jamb("auditor") as jamb:
        dossier = jamb.clients.read(jamb.clients.find(name).id)
    client = dossier.client
    ladder = client.ladder
    # The tests' own automation has used what it holds by then, or has not.
    used = expected.ladder[2] if client.id == world.demo["automation"]["client_id"] else ladder.used
    assert (ladder.asked, ladder.granted, used, ladder.waiting) == expected.ladder
    assert client.credential_state == expected.secret
    days = None if client.next_expiry is None else (client.next_expiry - datetime.now(UTC)).days
    assert days == expected.ends_in_days
    assert len(client.owners) == expected.owners
    assert sorted(one.rule for one in dossier.findings) == expected.rules
    assert (client.next_steps == []) == (
        expected.ladder[3] == 0
        and (expected.secret in {"live", "expiring"} or client.kind == "native")
        and expected.ladder[1] > 0
    )


def test_use_is_shown_for_thirty_days_and_only_where_it_was(world: World) -> None:
    with world.jamb("auditor") as jamb:
        (rung,) = jamb.clients.read(jamb.clients.find("Tide-gauge relay").id).resources[0].rungs
        (idle,) = jamb.clients.read(jamb.clients.find("Crew certificate check").id).resources[0].rungs
    assert len(rung.calls) == 30
    assert all(calls > 0 for calls in rung.calls[:-1])
    assert rung.used_operations == ["gauges.list", "reading.record"]
    assert (idle.used, sum(idle.calls)) == ("too-early", 0)


def test_the_ledger_tells_the_past_in_its_order(world: World) -> None:
    with world.jamb("auditor") as jamb:
        entries = list(jamb.ledger.list())
    assert [one.sequence for one in entries] == list(range(len(entries), 0, -1))
    made = [one for one in entries if one.actor["via"] in {"Demo set-up", "Jamb console"} and one.sequence <= 74]
    moments = [one.at for one in reversed(made)]
    assert moments == sorted(moments), "set-up carries history out in the order of time"
    assert entries[-1].action == "directory.opened"


def test_demo_json_has_what_people_tests_and_benchmarks_need(world: World) -> None:
    demo = world.demo
    assert {one["directory"] for one in demo["people"]} == {one.slug for one in DIRECTORIES}
    assert {role for one in demo["people"] for role in one["roles"]} == {
        "steward",
        "registrar",
        "approver",
        "custodian",
        "auditor",
    }
    assert any(one["roles"] == [] for one in demo["people"]), "someone without a role, to be refused"
    assert len({one["password"] for one in demo["people"]}) == len(demo["people"])
    for place in demo["directories"].values():
        assert place["issuer"].startswith(demo["base_url"])
    with world.automation() as jamb:
        assert jamb.whoami().name == AUTOMATION
