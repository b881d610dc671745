"""Requests and decisions, owners, roles and people, through the client library on the real service."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from jamb.client import BadInput, Conflict, Forbidden, JambError, NotFound
from jamb.core.access import StepKind
from jamb.core.clients.clients import ClientKind, OwnerLevel
from jamb.core.consent.inheritance import InheritedLevel
from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import ReachKind
from jamb.wire.consent.consent import InheritedChoice, Terms
from jamb.wire.resources.reach import ReachSent
from jamb.wire.resources.resources import ResourceSent
from tests import patient
from tests.world import Made, World, unique

HERE = "/api/v1/directories/quillhaven"
DELEGATED = AccessKind.DELEGATED
OSKAR, YUKI = "oskar.pell@quillhaven.example", "yuki.tanabe@quillhaven.example"


def only(*paths: str) -> ReachSent:
    return ReachSent(kind=ReachKind.ONLY, collections=list(paths))


def test_an_owner_requests_an_approver_narrows_and_the_requester_reads_how_it_ended(world: World) -> None:
    made = world.client(asked=["berths.assign"], secret=False)
    with world.jamb(None) as owner, world.jamb("approver") as approver:
        asked = owner.requests.make(made.id, "Night shift moves ships")
        assert (asked.state, asked.approvers, asked.weight) == ("waiting", 1, 10)
        assert asked.due_at - datetime.now(UTC) > timedelta(days=6)
        with pytest.raises(Conflict, match="waits already"):
            owner.requests.make(made.id, "Again")
        with pytest.raises(Forbidden):
            owner.requests.grant(asked.id)
        seen = approver.requests.read(asked.id)
        assert seen.preview is not None
        assert [one.name for one in seen.preview.resources[0].newly] == [
            "occupant.assign",
            "berths.list",
            "berths.read",
        ]
        granted = approver.requests.grant(
            asked.id, terms=Terms(reach={"berths": only("south")}), words="South quay only, for now"
        )
        assert (granted.state, granted.decided_by) == ("granted", "Tobias Lindqvist")
        (consent,) = approver.consent.list(made.id)
        assert consent.reach.words == "only south"
        told = next(one for one in owner.requests.list(waiting=False) if one.id == asked.id)
        assert told.said == "South quay only, for now"
        with pytest.raises(Conflict, match="is granted"):
            approver.requests.decline(asked.id, "Too late")


def test_a_request_is_narrowed_never_widened_and_declined_with_words(world: World) -> None:
    made = world.client(secret=False)
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        registrar.asks.add(made.id, "berths", ["berths.assign"], reach=only("fuel"))
        asked = registrar.requests.make(made.id, "Bunkering")
        with pytest.raises(BadInput, match="within what is asked"):
            approver.requests.grant(asked.id, terms=Terms(reach={"berths": only("fuel", "south")}))
        with pytest.raises(BadInput, match="words"):
            approver.requests.decline(asked.id, " ")
        assert approver.requests.decline(asked.id, "Not before the survey").state == "declined"
        # It stays asked; another request may be made, and taken back by whoever made it.
        again = registrar.requests.make(made.id, "After the survey")
        with pytest.raises(Conflict, match="waits for a decision"):
            ask_id = registrar.clients.read(made.id).resources[0].rungs[0].ask_id
            assert ask_id is not None
            registrar.asks.drop(made.id, ask_id)
        assert registrar.requests.withdraw(made.id, again.id).state == "withdrawn"
        assert not list(approver.consent.list(made.id))


def test_a_heavy_consent_takes_two_people_and_a_heavier_one_two_approvers_who_agree(world: World) -> None:
    made = world.client(secret=False)
    answers = {"crew": ["Renewals", "Thirty days"]}
    with world.jamb("steward") as steward, world.jamb("approver") as approver:
        steward.asks.add(made.id, "berths", ["berths.manage"])
        with pytest.raises(JambError) as alone:
            steward.consent.grant(made.id)
        assert alone.value.code == "same-person"
        approver.consent.grant(made.id)
    with world.jamb("registrar") as registrar, world.jamb("steward") as steward, world.jamb("approver") as approver:
        registrar.asks.add(made.id, "crew", ["certificates.update"])
        with pytest.raises(JambError) as one_is_not_enough:
            approver.consent.grant(made.id)
        assert one_is_not_enough.value.code == "second-approver"
        with pytest.raises(BadInput) as unanswered:
            registrar.requests.make(made.id, "Renewals", answers={"crew": ["Renewals"]})
        assert {one.field for one in unanswered.value.violations} == {"answers.1", "terms_accepted"}
        asked = registrar.requests.make(made.id, "Renewals", answers=answers, terms_accepted=True)
        until = datetime.now(UTC) + timedelta(days=90)
        first = approver.requests.grant(asked.id, terms=Terms(expires_at=until))
        assert (first.state, len(first.approvals)) == ("waiting", 1)
        assert "crew" not in {one.resource for one in approver.consent.list(made.id)}, "one yes opens nothing"
        with pytest.raises(JambError) as twice:
            approver.requests.grant(asked.id)
        assert twice.value.code == "same-person"
        with pytest.raises(BadInput, match="other terms"):
            steward.requests.grant(asked.id, terms=Terms())
        assert steward.requests.grant(asked.id).state == "granted"
        (consent,) = [one for one in approver.consent.list(made.id) if one.resource == "crew"]
        assert consent.expires_at == until


def test_two_decisions_at_once_grant_once(world: World) -> None:
    made = world.client(asked=["berths.assign"], secret=False)
    with world.jamb("registrar") as registrar:
        asked = registrar.requests.make(made.id, "Twice at once")

    def decide(role: str) -> str:
        with world.session(role) as http:
            answer = http.post(f"{HERE}/requests/{asked.id}/decision", json={"decision": "grant"})
            return str(answer.json().get("state") or answer.json()["type"])

    with ThreadPoolExecutor(4) as pool:
        outcomes = sorted(pool.map(decide, ["approver", "steward", "approver", "steward"]))
    assert outcomes == ["granted", *["urn:jamb:problem:already-decided"] * 3]
    with world.jamb("auditor") as auditor:
        assert len(auditor.consent.list(made.id)) == 1


def test_a_request_lapses_when_nobody_decides(world: World) -> None:
    made = world.client(asked=["arrivals.view"], secret=False)
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        asked = registrar.requests.make(made.id, "Soon over")
        with world.database() as database:
            database.execute("update consent_request set due_at = now() where id = %s", [asked.id])
        assert approver.requests.read(asked.id).request.state == "lapsed"
        assert asked.id not in {one.id for one in approver.requests.list()}
        with pytest.raises(Conflict, match="lapsed"):
            approver.requests.grant(asked.id)
        assert registrar.requests.make(made.id, "Once more").state == "waiting"


def test_a_consent_for_one_person_counts_for_nobody_else_and_shows_whose_it_is(world: World) -> None:
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        made = registrar.clients.register(unique("Tablet"), "Carried on watch", kind=ClientKind.NATIVE)
        registrar.asks.add(made.id, "berths", ["berths.assign"], kind=DELEGATED)
        approver.consent.grant(made.id, terms=Terms(person=YUKI))
        explain = approver.clients.explain
        north = explain(made.id, "berths", "occupant.assign", kind=DELEGATED, person=YUKI, object="north-2")
        assert north.allowed, "the client for Yuki, and Yuki by the control room"
        fuel = explain(made.id, "berths", "occupant.assign", kind=DELEGATED, person=YUKI, object="fuel-2")
        assert [check.name for check in fuel.checks if not check.passed] == ["role"]
        assert [(step.kind, step.reach.words) for step in fuel.steps] == [(StepKind.ASSIGN_ROLE, "only fuel")]
        other = explain(made.id, "berths", "occupant.assign", kind=DELEGATED, person=OSKAR, object="north-2")
        assert not other.allowed
        assert "for another person only" in " ".join(check.evidence for check in other.checks)
        (held,) = approver.clients.read(made.id).resources[0].rungs[0].holdings
        assert held.person == "Yuki Tanabe"
        ended = approver.consent.withdraw(made.id, "berths", ["berths.assign"], kind=DELEGATED, person=YUKI)
        assert "occupant.assign" in ended.no_longer


def test_consents_for_single_people_neither_hide_weight_nor_move_with_those_for_everyone(world: World) -> None:
    made = world.client(secret=False)
    kind = DELEGATED
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        (ask,) = registrar.asks.add(made.id, "berths", ["berths.assign"], kind=kind)
        for person in (OSKAR, YUKI):
            approver.consent.grant(made.id, asks=[ask.id], terms=Terms(person=person, reach={"berths": only("north")}))
        with pytest.raises(Conflict, match="counts for Yuki Tanabe already"):
            approver.consent.grant(made.id, asks=[ask.id], terms=Terms(person=YUKI))
        assert not approver.consent.preview(made.id).resources, "it waits for nobody in particular"
        whole = approver.consent.preview(made.id, asks=[ask.id])
        assert whole.weight == 10, "what two people have says nothing of all others"
        assert "occupant.assign" in {one.name for one in whole.resources[0].newly}
        with pytest.raises(JambError, match="not granted") as nobody:
            approver.consent.change_reach(made.id, "berths", ["berths.assign"], only("fuel"), kind=kind)
        assert "name the person" in nobody.value.next_step
        changed = approver.consent.change_reach(
            made.id, "berths", ["berths.assign"], only("fuel"), kind=kind, person=YUKI
        )
        assert [one.person for one in changed.grants] == ["Yuki Tanabe"]
        # The rest is asked for by a request, though some have it already.
        asked = registrar.requests.make(made.id, "The whole office", asks=[ask.id])
        assert approver.requests.grant(asked.id).state == "granted"
        approver.consent.change_reach(made.id, "berths", ["berths.assign"], only("south"), kind=kind)
        reach = {one.person: one.reach.words for one in approver.consent.list(made.id)}
        assert reach == {"Oskar Pell": "only north", "Yuki Tanabe": "only fuel", "": "only south"}
        approver.consent.withdraw(made.id, "berths", ["berths.assign"], kind=kind, person=OSKAR)
        assert {one.person for one in approver.consent.list(made.id)} == {"Yuki Tanabe", ""}
        approver.consent.withdraw(made.id, "berths", ["berths.assign"], kind=kind)
        assert not approver.consent.list(made.id)


def test_owners_see_and_do_as_much_as_their_level_and_only_with_their_own(world: World) -> None:
    mine, other = world.client(granted=["berths.view"]), world.client(secret=False)
    with world.jamb("registrar") as registrar:
        registrar.clients.change_owners(other.id, remove=[OSKAR])
    with world.jamb(None) as owner:
        seen = {one.id for one in owner.clients.list()}
        assert mine.id in seen
        assert other.id not in seen
        for call in (owner.clients.read, owner.secrets.issue, owner.clients.attempts):
            with pytest.raises(Forbidden):
                list(call(other.id))
        with pytest.raises(Forbidden):
            owner.audit()
        owner.asks.add(mine.id, "berths", ["arrivals.view"])
        owner.secrets.issue(mine.id)
        owner.clients.change_owners(mine.id, add=["pia.nowicki@quillhaven.example"], level=OwnerLevel.EDIT)
    with world.jamb("pia") as limited:
        limited.asks.add(mine.id, "berths", ["berths.assign"])
        for refused in (
            lambda: limited.secrets.issue(mine.id),
            lambda: limited.clients.change_owners(mine.id, add=[YUKI]),
            lambda: limited.clients.disable(mine.id),
        ):
            with pytest.raises(Forbidden, match="owner"):
                refused()
    # Handed over: one in, the other out, in one step.
    with world.jamb(None) as owner:
        handed = owner.clients.change_owners(mine.id, add=["pia.nowicki@quillhaven.example"], remove=[OSKAR])
        assert [(one.name, one.level) for one in handed.owners] == [("Pia Nowicki", "full")]
        with pytest.raises(Forbidden):
            owner.clients.read(mine.id)


def test_the_policy_says_who_may_register_and_who_may_not_learns_whom_to_ask(world: World) -> None:
    with world.jamb("lotte") as nobody:
        told = nobody.registering()
        assert (told.allowed, "harbour-office" in told.why, told.ask) == (
            False,
            True,
            ["Hanneke Brouwer", "Maren Oduya"],
        )
        with pytest.raises(Forbidden):
            nobody.clients.register(unique("Mine"), "x")
    with world.jamb("pia") as member:
        assert member.registering().allowed
        made = member.clients.register(unique("Mine"), "Of my own")
        assert [one.name for one in made.owners] == ["Pia Nowicki"], "or she could not see it afterwards"
        assert member.clients.read(made.id).client.id == made.id


def test_a_maker_hands_on_what_they_may_do_and_never_more(world: World) -> None:
    made = world.client(secret=False)
    with world.jamb(None) as oskar:
        quick = oskar.asks.inherit(made.id, preview=True)
        at = {line.resource: [(one.permission, one.reach.words) for one in line.permissions] for line in quick.lines}
        assert at == {
            "berths": [("berths.manage", "everywhere")],
            "dispatches": [("dispatches.read", "only duty"), ("dispatches.send", "only duty")],
            "tides": [("readings.view", "everywhere")],
        }
        careful = {
            "berths": InheritedChoice(level=InheritedLevel.READ, reach=only("south")),
            "dispatches": InheritedChoice(level=InheritedLevel.READ),
        }
        taken = oskar.asks.inherit(made.id, careful)
        assert {(one.permission, one.reach.words) for one in taken.asked} == {
            ("berths.view", "only south"),
            ("arrivals.view", "only south"),
            ("dispatches.read", "only duty"),
        }
        assert taken.granted == [], "the policy here does not let makers grant"
        with pytest.raises(BadInput, match="at least one permission"):
            oskar.asks.inherit(made.id, careful)


def test_people_come_from_a_file_and_groups_lie_in_groups(world: World) -> None:
    mark = unique("x").split()[1]
    csv = f"login,name,groups,roles\nada-{mark}@quillhaven.example,Ada,night-{mark};control-room,\n"
    with world.jamb("steward") as steward:
        before = len(list(steward.people.list()))
        rehearsed = steward.people.load(csv, dry_run=True)
        assert ([one.name for one in rehearsed.added], rehearsed.groups_made) == (["Ada"], [f"night-{mark}"])
        assert len(list(steward.people.list())) == before, "a dry run keeps nothing"
        steward.people.load(csv)
        again = steward.people.load(csv)
        assert (again.added, again.present) == ([], [f"ada-{mark}@quillhaven.example"])
        # By the group she holds its role, deep inside harbour-office too.
        held = {one.login for one in steward.resources.holders("berths", "occupant.assign", object="north-2").people}
        assert f"ada-{mark}@quillhaven.example" in held
        steward.people.change(f"ada-{mark}@quillhaven.example", active=False)
        held = {one.login for one in steward.resources.holders("berths", "occupant.assign").people}
        assert f"ada-{mark}@quillhaven.example" not in held, "whoever is gone holds nothing"
        steward.groups.save(f"night-{mark}", title="Night", people=[YUKI])
        steward.groups.remove(f"night-{mark}")
        with pytest.raises(NotFound):
            steward.groups.remove(f"night-{mark}")


def test_who_can_do_this_agrees_with_the_decision_on_every_client(world: World) -> None:
    with world.jamb("auditor") as auditor:
        for operation, name in (
            ("messages.read", "board.papers"),
            ("messages.read", "vts.log"),
            ("message.send", "claims"),
        ):
            found = auditor.resources.holders("dispatches", operation, object=name)
            can = {one.client_id for one in found.clients if one.kind == "application" and one.live}
            for client in auditor.clients.list():
                if client.kind == "service" and client.state == "live":
                    checks = auditor.clients.explain(client.id, "dispatches", operation, object=name).checks
                    holds = all(one.passed for one in checks if one.decides and one.name != "credential")
                    assert holds == (client.id in can), (client.name, operation, name)


def test_who_can_do_this_comes_a_page_at_a_time(world: World) -> None:
    world.client(granted=["berths.view"])
    with world.jamb("auditor") as auditor:
        whole = auditor.resources.holders("berths", "berths.read")
    assert (len(whole.clients), whole.next) == (whole.clients_in_all, None)
    assert len({one.client_id for one in whole.clients}) > 3
    pages: list[dict[str, Any]] = []
    with world.session("auditor") as http:
        params = {"operation": "berths.read", "limit": "1"}
        while not pages or pages[-1]["next"]:
            more = {"cursor": pages[-1]["next"]} if pages else {}
            answer = http.get(f"{HERE}/resources/berths/holders", params=params | more).raise_for_status()
            pages.append(answer.json())
        refused = http.get(f"{HERE}/resources/berths/holders", params=params | {"cursor": "no-cursor"})
    assert refused.status_code == 404
    told = [one["client_id"] for page in pages for one in page["clients"]]
    assert told == [one.client_id for one in whole.clients]
    # All by which a client can do it stand on one page, and people come with the first.
    by_page = [{one["client_id"] for one in page["clients"]} for page in pages]
    assert all(len(ids) == 1 for ids in by_page)
    assert len(by_page) == len(set().union(*by_page))
    assert [len(page["people"]) for page in pages] == [len(whole.people), *[0] * (len(pages) - 1)]


def test_a_resource_is_published_changed_after_a_look_and_keeps_what_is_stood_on(world: World) -> None:
    name = unique("locks").replace(" ", "-")
    body = {
        "title": "Locks",
        "identifier": f"https://{name}.quillhaven.example",
        "object_name": "lock",
        "operations": [
            {
                "name": "locks.list",
                "title": "List",
                "method": "GET",
                "path": "/locks",
                "effect": "read",
                "data_class": "open",
            },
            {
                "name": "lock.open",
                "title": "Open",
                "method": "POST",
                "path": "/locks/{lock}",
                "effect": "control",
                "data_class": "internal",
            },
        ],
        "permissions": [
            {"name": "locks.view", "title": "See locks", "kinds": ["application"], "unlocks": ["locks.list"]},
            {
                "name": "locks.run",
                "title": "Run locks",
                "kinds": ["application"],
                "unlocks": ["lock.open"],
                "implies": ["locks.view"],
            },
        ],
    }
    made = world.client(secret=False)
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        assert registrar.resources.publish(name, ResourceSent.model_validate(body)).new
        registrar.asks.add(made.id, name, ["locks.view"])
        approver.consent.grant(made.id)
        wider = ResourceSent.model_validate(body)
        wider.permissions[0].unlocks.append("lock.open")
        (affected,) = registrar.resources.preview(name, wider).affected
        assert (affected.client_id, affected.newly, affected.added_weight) == (made.id, ["lock.open"], 18)
        assert registrar.resources.read(name).permissions[0].unlocks == ["locks.list"], "a look changes nothing"
        smaller = ResourceSent.model_validate(body)
        smaller.permissions = [smaller.permissions[1].model_copy(update={"implies": []})]
        (blocking,) = registrar.resources.preview(name, smaller).blocking
        assert (blocking.permission, blocking.held_by) == ("locks.view", [made.name])
        with pytest.raises(Conflict, match="stands on it"):
            registrar.resources.publish(name, smaller)
        # What it lets nobody do further acts at once; what it would, waits for an approver as one decision.
        wider.operations[0].title = "List the locks"
        waits = registrar.resources.publish(name, wider).waits
        assert "locks.view would open lock.open" in waits
        assert "Tobias Lindqvist" in waits
        assert "List the locks" in {one.title for one in registrar.resources.read(name).operations}
        assert not registrar.clients.explain(made.id, name, "lock.open").checks[3].passed
        (waiting,) = [one for one in approver.requests.list() if one.subject == name]
        assert (waiting.act, waiting.requested_by, made.name in waiting.why) == (
            "Let granted permissions open more",
            "Maren Oduya",
            True,
        )
        assert approver.requests.grant(waiting.id).outcome == "done"
        assert registrar.clients.explain(made.id, name, "lock.open").checks[3].passed
        with pytest.raises(Forbidden):
            approver.resources.publish(name, wider)


def test_a_pasted_list_is_reviewed_asked_and_dropped(world: World) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    with world.jamb("registrar") as registrar:
        text = "berths.view\n- berths.assign, berths.manage\ncrew.view delegated"
        found = registrar.asks.check(made.id, text)
        assert [one.permission for one in found.asks if one.needed] == ["berths.manage", "crew.view"]
        asked = registrar.asks.add_list(made.id, text, reason="Maker's manual, page 4")
        assert {(one.permission, one.kind) for one in asked} == {
            ("berths.manage", "application"),
            ("crew.view", "delegated"),
        }
        assert {one.reason for one in asked} == {"Maker's manual, page 4"}
        implied = registrar.asks.add(made.id, "berths", ["arrivals.view"])
        assert implied[0].implied_by == "berths.manage", "asking for what comes along anyway says so"
        registrar.asks.drop(made.id, implied[0].id)
        entry = next(registrar.ledger.list(client=made.id))
        assert (entry.action, entry.before) == (
            "ask.dropped",
            {"resource": "berths", "permission": "arrivals.view", "kind": "application"},
        )


def test_roles_are_assigned_to_many_places_in_one_step(world: World) -> None:
    clients = [world.client(secret=False) for _ in range(3)]
    with world.jamb("steward") as steward:
        ids = [one.id for one in clients]
        role = steward.roles.assign("lookout", HolderKind.CLIENT, ids, reach=only("north", "fuel"))
        held = {one.id: one.reach.words for one in role.holders if one.kind == "client"}
        assert {held[one] for one in ids} == {"only fuel, north"}
        with pytest.raises(NotFound):
            steward.roles.assign("lookout", HolderKind.CLIENT, [ids[0], "ghost"])
        with pytest.raises(JambError) as top:
            steward.roles.assign("harbour-master", HolderKind.CLIENT, ids[:1])
        assert top.value.code == "top-role"
        steward.roles.withdraw("lookout", HolderKind.CLIENT, ids)
    with world.jamb("registrar") as registrar, pytest.raises(Forbidden):
        registrar.roles.assign("lookout", HolderKind.CLIENT, ids)


def test_a_policy_that_lets_makers_hand_on_grants_at_once(world: World) -> None:
    login = world.person("steward")["login"]
    with world.jamb("steward") as steward:
        made = steward.clients.register(unique("Quick"), "Everything its maker may do")
        steward.roles.assign("lookout", HolderKind.PERSON, [login], reach=only("north"))
        world.agreed(lambda: steward.change_policy(inheritance=True))
        try:
            taken = steward.asks.inherit(made.id)
        finally:
            steward.change_policy(inheritance=False)
            steward.roles.withdraw("lookout", HolderKind.PERSON, [login])
        granted = {(one.permission, one.reach.words) for one in taken.granted}
        assert granted == {("berths.view", "only north"), ("arrivals.view", "only north")}


def test_someone_of_another_directory_is_nobody_here(world: World) -> None:
    made: Made = world.client(secret=False)
    with world.session("steward", "brisling") as http:
        for path in (f"/clients/{made.id}", "/requests", "/roles", "/groups"):
            assert http.get(f"{HERE}{path}").status_code == 404
    assert patient.get(f"{world.base_url}{HERE}/requests").status_code == 401
