"""Reach and withdrawal where they bite: at the stand-in APIs, with real tokens, within seconds and without new ones."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import jwt
import pytest

from jamb.client import Forbidden, JambError
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import StillInUse
from jamb.core.reach import ReachKind
from jamb.wire.consent.consent import Terms
from jamb.wire.directory.roles import RoleSent
from jamb.wire.resources.reach import CollectionSent, ReachSent
from jamb.wire.resources.resources import ResourceSent
from tests import patient
from tests.world import Made, World, unique, wait_until

DISPATCHES = "https://dispatches.quillhaven.example"
HERE = "/api/v1/directories/quillhaven"


def only(*paths: str) -> ReachSent:
    return ReachSent(kind=ReachKind.ONLY, collections=list(paths))


def all_but(*paths: str) -> ReachSent:
    return ReachSent(kind=ReachKind.ALL_BUT, collections=list(paths))


def bounded(world: World, permission: str, reach: ReachSent | None, resource: str = "dispatches") -> Made:
    """Make a client with a secret and this one permission, bounded."""
    made = world.client()
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        registrar.asks.add(made.id, resource, [permission])
        approver.consent.grant(made.id, terms=Terms(reach={resource: reach} if reach else {}))
    return made


def token_of(world: World, made: Made, resource: str = DISPATCHES) -> str:
    token: str = world.ask_token(made, resource=resource).json()["access_token"]
    return token


def reads(world: World, token: str, mailbox: str) -> int:
    return world.call_dispatches(token, f"/mailboxes/{mailbox}/messages").status_code


def test_an_application_that_may_read_every_mailbox_is_bounded_to_some_and_both_sides_are_proven(world: World) -> None:
    made = bounded(world, "dispatches.read", only("duty"))
    token = token_of(world, made)
    (entry,) = jwt.decode(token, options={"verify_signature": False})["authorization_details"]
    assert entry == {
        "type": "urn:jamb:reach",
        "locations": [DISPATCHES],
        "privileges": ["dispatches.read"],
        "only": ["duty"],
    }
    assert reads(world, token, "vts.log") == 200
    refused = world.call_dispatches(token, "/mailboxes/board.papers/messages")
    assert refused.status_code == 403
    assert "does not reach board.papers" in refused.json()["detail"]
    assert 'error="insufficient_scope"' in refused.headers["WWW-Authenticate"]
    # A list shows only what is reached.
    seen = world.call_dispatches(token).json()
    assert {one["mailbox"] for one in seen["items"]} == {
        "duty.master",
        "duty.deputy",
        "pilots.watch",
        "pilots.roster",
        "vts.north",
        "vts.south",
        "vts.log",
    }
    # The refused call comes back to the dossier, and its explanation names the same check.
    with world.jamb("auditor") as auditor:
        wait_until(lambda: auditor.clients.refusals(made.id))
        (call,) = auditor.clients.refusals(made.id)
        assert (call.operation, call.reason, call.object) == ("messages.read", "reach", "board.papers")
        explained = auditor.clients.explain(made.id, call.resource, call.operation, object=call.object, token=token)
    assert {check.name for check in explained.checks if check.decides and not check.passed} == {"reach", "token-reach"}
    assert [step.kind for step in explained.steps] == ["widen-reach", "fresh-token"]


CASES = {
    "rightsized: a token from before is bounded too": (None, only("duty"), {"vts.log": 200, "claims": 403}),
    "narrowed to others: neither the old nor the new reach alone counts": (
        only("duty", "office"),
        only("office", "board"),
        {"vts.log": 403, "claims": 200, "board.papers": 403},
    ),
    "all but: what is shut out is shut out": (None, all_but("office/claims"), {"claims": 403, "invoices": 200}),
}


@pytest.mark.parametrize(("before", "after", "expected"), CASES.values(), ids=CASES.keys())
def test_a_narrower_reach_acts_within_seconds_without_new_tokens(
    world: World, before: ReachSent | None, after: ReachSent, expected: dict[str, int]
) -> None:
    made = bounded(world, "dispatches.read", before)
    token = token_of(world, made)
    with world.jamb("approver") as approver:
        approver.consent.change_reach(made.id, "dispatches", ["dispatches.read"], after)
    refused = next(name for name, status in expected.items() if status == 403)
    wait_until(lambda: reads(world, token, refused) == 403)
    assert {name: reads(world, token, name) for name in expected} == expected
    # A fresh token, even of the very next moment, carries the reach as it is now.
    fresh = jwt.decode(token_of(world, made), options={"verify_signature": False})
    member = "only" if after.kind is ReachKind.ONLY else "all_but"
    assert fresh["authorization_details"][0][member] == sorted(after.collections)


def test_a_client_that_is_cut_off_needs_new_tokens_and_new_ones_count_at_once(world: World) -> None:
    made = bounded(world, "dispatches.read", None)
    old = token_of(world, made)
    assert reads(world, old, "claims") == 200
    with world.jamb("approver") as approver:
        wait_until(lambda: any(one.outcome == "issued" for one in approver.clients.attempts(made.id)))
        done = approver.clients.revoke_tokens(made.id, reason="Laptop lost")
        assert done.live_tokens == 1
        fresh = token_of(world, made)
        wait_until(lambda: reads(world, old, "claims") == 401)
        assert "revoked" in world.call_dispatches(old, "/mailboxes/claims/messages").json()["detail"]
        assert reads(world, fresh, "claims") == 200, (
            "a token of the revocation's own second is not taken for an older one"
        )
        explained = approver.clients.explain(made.id, "dispatches", "messages.read", token=old)
        assert [check.name for check in explained.checks if not check.passed] == ["tokens-revoked"]
        # Disabled: no tokens at all, and those it holds are refused.
        approver_token = fresh
    with world.jamb("registrar") as registrar:
        registrar.clients.disable(made.id)
        wait_until(lambda: reads(world, approver_token, "claims") == 401)
        assert world.ask_token(made, resource=DISPATCHES).json()["error"] == "unauthorized_client"
        registrar.clients.enable(made.id)
    assert reads(world, token_of(world, made), "claims") == 200


def test_a_consent_given_again_at_once_does_not_wake_tokens_from_before(world: World) -> None:
    made = bounded(world, "dispatches.send", None)
    old = token_of(world, made)
    with world.jamb("approver") as approver:
        approver.consent.withdraw(made.id, "dispatches", ["dispatches.send"])
        approver.consent.grant(made.id)
    fresh = token_of(world, made)
    send = {"subject": "Test"}
    path = "/mailboxes/lost-property/messages"
    wait_until(lambda: world.call_dispatches(old, path, "POST", send).status_code == 403)
    assert world.call_dispatches(fresh, path, "POST", send).status_code == 201


def test_a_consent_ends_at_the_moment_that_was_set(world: World) -> None:
    made = bounded(world, "dispatches.read", None)
    token = token_of(world, made)
    with world.jamb("approver") as approver:
        ends = datetime.now(UTC) + timedelta(seconds=3)
        ended = approver.consent.withdraw(made.id, "dispatches", ["dispatches.read"], at=ends)
        assert ended.ends_at == ends
    assert reads(world, token, "claims") == 200
    wait_until(lambda: reads(world, token, "claims") == 403, seconds=12)
    assert world.ask_token(made, resource=DISPATCHES).json()["error"] == "invalid_scope"


def test_a_role_lets_a_client_in_where_it_reaches_and_goes_within_seconds(world: World) -> None:
    made = world.client()
    role = unique("mail-reader").replace(" ", "-")
    with world.jamb("steward") as steward:
        steward.roles.save(role, RoleSent(title="Reads mail", resource="dispatches", permissions=["dispatches.read"]))
        steward.roles.assign(role, HolderKind.CLIENT, [made.id], reach=only("office/claims", "office/invoices"))
        token = token_of(world, made)
        assert [reads(world, token, name) for name in ("claims", "dunning", "reception")] == [200, 200, 403]
        (rung,) = steward.clients.read(made.id).resources[0].rungs
        assert (rung.asked_at, rung.holdings[0].through) == (None, role)
        # What the role bundles changes: tokens from before do not gain, and lose what went.
        steward.roles.save(role, RoleSent(title="", resource="dispatches", permissions=["dispatches.send"]))
        wait_until(lambda: reads(world, token, "claims") == 403)
        steward.roles.withdraw(role, HolderKind.CLIENT, [made.id])
        assert world.ask_token(made, resource=DISPATCHES).json()["error"] == "invalid_scope"
        # Neither the same role again nor its removal gives a token from before back what it lost.
        steward.roles.save(role, RoleSent(title="", resource="dispatches", permissions=["dispatches.read"]))
        steward.roles.assign(role, HolderKind.CLIENT, [made.id])
        fresh = token_of(world, made)
        wait_until(lambda: reads(world, fresh, "claims") == 200)
        assert reads(world, token, "claims") == 403
        steward.roles.withdraw(role, HolderKind.CLIENT, [made.id])
        steward.roles.remove(role)
        assert role not in {one.name for one in steward.roles.list()}
        wait_until(lambda: reads(world, fresh, "claims") == 403)
        assert reads(world, token, "claims") == 403
        # The name is free again.
        steward.roles.save(role, RoleSent(title="", resource="dispatches", permissions=["dispatches.read"]))
        steward.roles.remove(role)


def test_collections_move_under_a_token(world: World) -> None:
    """What lies in a collection is the guard's to know: no new token. What is reached further waits for an approver."""
    made = bounded(world, "readings.view", only("outer"), "tides")
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        before = registrar.resources.collections("tides").collections
        sent = [CollectionSent(path=one.path, title=one.title, objects=one.objects) for one in before]
        assert registrar.clients.reach(made.id, "tides", object="lock").decisions[0].allowed is False
        moved = [
            one.model_copy(update={"objects": [*one.objects, "lock"]}) if one.path == "outer" else one for one in sent
        ]
        waits = registrar.resources.replace_collections("tides", moved).waits
        assert "would reach other objects" in waits
        assert made.name in waits
        assert registrar.clients.reach(made.id, "tides", object="lock").decisions[0].allowed is False
        (waiting,) = [one for one in approver.requests.list() if one.subject == "tides"]
        assert approver.requests.grant(waiting.id).outcome == "done"
        found = {
            one.operation: one.allowed for one in registrar.clients.reach(made.id, "tides", object="lock").decisions
        }
        assert found["readings.list"] is True
        registrar.resources.replace_collections("tides", sent)


def test_only_the_guard_of_a_resource_reads_what_was_taken_away(world: World) -> None:
    held = world.demo["automation"]
    token = patient.post(
        held["token_endpoint"],
        auth=(held["client_id"], held["client_secret"]),
        data={"grant_type": "client_credentials"},
    ).json()["access_token"]
    url = f"{world.base_url}{HERE}/revocations"
    answer = patient.get(url, params={"resource": "berths"}, headers={"Authorization": f"Bearer {token}"})
    assert answer.status_code == 403
    with world.session("steward") as http:
        assert http.get(url, params={"resource": "berths"}).status_code == 403


def test_a_reach_that_is_the_same_changes_nothing_and_only_an_approver_widens(world: World) -> None:
    made = bounded(world, "dispatches.read", only("duty"))
    with world.jamb("approver") as approver:
        changed = approver.consent.change_reach(made.id, "dispatches", ["dispatches.read"], only("duty", "office"))
        assert set(changed.wider) == {"messages.read"}
        with pytest.raises(JambError, match="another reach"):
            approver.consent.change_reach(made.id, "dispatches", ["dispatches.read"], only("duty", "office"))
    with world.jamb("registrar") as registrar, pytest.raises(Forbidden):
        registrar.consent.change_reach(made.id, "dispatches", ["dispatches.read"], ReachSent(collections=[]))


def test_a_resource_cannot_be_changed_so_that_reach_bounds_nothing(world: World) -> None:
    name = unique("sluice").replace(" ", "-")
    sent = ResourceSent.model_validate(
        {
            "title": "Sluice",
            "identifier": f"https://{name}.example",
            "object_name": "gate",
            "operations": [
                {
                    "name": "gates.read",
                    "title": "Read",
                    "method": "GET",
                    "path": "/gates/{gate}",
                    "effect": "read",
                    "data_class": "internal",
                }
            ],
            "permissions": [
                {"name": "gates.view", "title": "View", "kinds": ["application"], "unlocks": ["gates.read"]}
            ],
        }
    )
    with world.jamb("registrar") as registrar:
        registrar.resources.publish(name, sent)
        registrar.resources.replace_collections(name, [CollectionSent(path="west", objects=["w1", "w2"])])
        made = bounded(world, "gates.view", only("west"), name)
        for other in ("lock", ""):
            with pytest.raises(StillInUse, match=f"reach of {made.name} is about each gate"):
                registrar.resources.publish(name, sent.model_copy(update={"object_name": other}))
        # A path that names no gate any more opens all of them: whom that affects is said first.
        (read,) = sent.operations
        flat = sent.model_copy(update={"operations": [read.model_copy(update={"path": "/gates"})]})
        (affected,) = registrar.resources.preview(name, flat).affected
        assert (affected.client_id, affected.wider, affected.narrower) == (made.id, ["gates.read"], [])
