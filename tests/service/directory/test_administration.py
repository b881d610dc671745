"""The administrator's API: what is refused, in which words, and that nothing is left half done."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

import httpx
import pytest

from jamb.core import own_api
from jamb.core.permissions import Effect
from tests import patient
from tests.demo.test_scenario import TABLE
from tests.world import Made, World, unique, wait_until

HERE = "/api/v1/directories/quillhaven"


@pytest.fixture(scope="module")
def steward(world: World) -> Iterator[httpx.Client]:
    with world.session("steward") as http:
        yield http


@pytest.fixture(scope="module")
def client(world: World) -> Made:
    return world.client(asked=["berths.view"])


def new(**changes: Any) -> dict[str, Any]:
    return {"name": unique("New"), "purpose": "A test", **changes}


BAD: dict[str, tuple[str, str, dict[str, Any], int, str, str]] = {
    "no name": ("POST", "/clients", {"purpose": "p"}, 422, "bad-input", "name"),
    "an empty name": ("POST", "/clients", new(name=""), 422, "bad-input", "name"),
    "a name of white space": ("POST", "/clients", new(name="   "), 422, "bad-input", "name"),
    "a name too long": ("POST", "/clients", new(name="x" * 81), 422, "bad-input", "name"),
    "a name with a control character": ("POST", "/clients", new(name="a\u0000b"), 400, "malformed", "body"),
    "a name that is a number": ("POST", "/clients", new(name=7), 422, "bad-input", "name"),
    "an unknown field": ("POST", "/clients", new(colour="red"), 422, "bad-input", "colour"),
    "an unknown kind": ("POST", "/clients", new(kind="robot"), 422, "bad-input", "kind"),
    "an owner nobody knows": ("POST", "/clients", new(owners=["ghost@quillhaven.example"]), 404, "not-found", "owner"),
    "a name taken, in another case": ("POST", "/clients", new(name="NIGHT invoice RUN"), 409, "name-taken", "name"),
    "a secret for ever": ("POST", "/clients/{id}/secrets", {"days": 0}, 422, "bad-input", "days"),
    "a secret beyond the policy": ("POST", "/clients/{id}/secrets", {"days": 3000}, 409, "lives-too-long", "days"),
    "days as text": ("POST", "/clients/{id}/secrets", {"days": "90"}, 422, "bad-input", "days"),
    "an unknown permission": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "berths", "permissions": ["berths.fly"]},
        409,
        "unsuited",
        "permissions",
    ),
    "a permission twice in one ask": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "berths", "permissions": ["berths.assign"] * 2},
        409,
        "unsuited",
        "permissions",
    ),
    "no permission at all": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "berths", "permissions": []},
        422,
        "bad-input",
        "permissions",
    ),
    "the same ask again": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "berths", "permissions": ["berths.view"]},
        409,
        "already-asked",
        "permissions",
    ),
    "a kind the permission cannot be held as": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "jamb", "permissions": ["usage.report"], "kind": "delegated"},
        409,
        "unsuited",
        "kind",
    ),
    "an unknown resource": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "moon", "permissions": ["x"]},
        404,
        "not-found",
        "",
    ),
    "consent to an ask that is not there": (
        "POST",
        "/clients/{id}/consent",
        {"asks": [str(uuid4())]},
        404,
        "not-found",
        "asks",
    ),
    "consent to something that is no id": (
        "POST",
        "/clients/{id}/consent",
        {"asks": ["1"]},
        422,
        "bad-input",
        "asks.0",
    ),
    "withdrawing a secret that is not there": (
        "POST",
        f"/clients/{{id}}/credentials/{uuid4()}/withdrawal",
        {},
        404,
        "not-found",
        "",
    ),
    "an unknown client": ("POST", "/clients/nobody/secrets", {}, 404, "not-found", ""),
    "a proposal for an operation nobody knows": (
        "GET",
        "/resources/berths/proposal?operation=sail",
        {},
        404,
        "not-found",
        "operation",
    ),
    "a proposal for nothing": ("GET", "/resources/berths/proposal", {}, 422, "bad-input", "operation"),
    "a character that no record can hold": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "be\u0000rths", "permissions": ["x"]},
        400,
        "malformed",
        "body",
    ),
    "an address that no record can hold": ("GET", "/clients/%00", {}, 400, "malformed", "path"),
    "ending a consent that is not there": (
        "POST",
        "/clients/{id}/consent/withdrawal",
        {"resource": "berths", "permissions": ["berths.manage"]},
        409,
        "nothing-to-withdraw",
        "permissions",
    ),
    "a change of owners that changes nothing": ("POST", "/clients/{id}/owners", {}, 409, "unsuited", "add"),
    "an owner nobody knows, later": ("POST", "/clients/{id}/owners", {"add": ["ghost"]}, 404, "not-found", "owner"),
    "a cursor made up": ("GET", "/clients?cursor=zzz", {}, 404, "not-found", "cursor"),
    "too many items a page": ("GET", "/clients?limit=1000", {}, 422, "bad-input", "limit"),
    "an unknown order": ("GET", "/clients?sort=colour", {}, 422, "bad-input", "sort"),
    "an operation left out": (
        "POST",
        "/clients/{id}/explanation",
        {"resource": "berths"},
        422,
        "bad-input",
        "operation",
    ),
    "a person for a client that acts as itself": (
        "POST",
        "/clients/{id}/explanation",
        {"resource": "berths", "operation": "berths.list", "person": "oskar.pell@quillhaven.example"},
        409,
        "unsuited",
        "person",
    ),
    "a token of somebody else": (
        "POST",
        "/clients/{id}/explanation",
        {"resource": "berths", "operation": "berths.list", "token": "a.b.c"},
        409,
        "unsuited",
        "token",
    ),
    "a collection nobody knows": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "berths", "permissions": ["berths.assign"], "reach": {"kind": "only", "collections": ["moon"]}},
        409,
        "unsuited",
        "reach.collections",
    ),
    "a bounded reach without a collection": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "berths", "permissions": ["berths.assign"], "reach": {"kind": "only"}},
        409,
        "unsuited",
        "reach.collections",
    ),
    "a reach where there are no objects": (
        "POST",
        "/clients/{id}/asks",
        {"resource": "tariffs", "permissions": ["tariffs.view"], "reach": {"kind": "only", "collections": ["x"]}},
        409,
        "unsuited",
        "reach",
    ),
    "a list with an unknown name": (
        "POST",
        "/clients/{id}/asks/list",
        {"text": "berths.assign\nberths.fly"},
        409,
        "unsuited",
        "list",
    ),
    "an ask dropped that is not there": ("DELETE", f"/clients/{{id}}/asks/{uuid4()}", {}, 404, "not-found", ""),
    "consent for one person to act as itself": (
        "POST",
        "/clients/{id}/consent",
        {"terms": {"person": "oskar.pell@quillhaven.example"}},
        409,
        "unsuited",
        "person",
    ),
    "consent that ended yesterday": (
        "POST",
        "/clients/{id}/consent",
        {"terms": {"expires_at": "2020-01-01T00:00:00Z"}},
        409,
        "unsuited",
        "expires_at",
    ),
    "a request without a reason": ("POST", "/clients/{id}/requests", {"reason": " "}, 409, "unsuited", "reason"),
    "who can do what nobody knows": (
        "GET",
        "/resources/berths/holders?operation=sail",
        {},
        404,
        "not-found",
        "operation",
    ),
    "a resource that is not sound": (
        "PUT",
        "/resources/moon",
        {
            "title": "Moon",
            "identifier": "https://moon.example",
            "operations": [
                {"name": "look", "title": "Look", "method": "GET", "path": "/", "effect": "read", "data_class": "open"}
            ],
            "permissions": [{"name": "view", "title": "View", "kinds": ["application"], "unlocks": ["land"]}],
        },
        409,
        "unsuited",
        "permissions.view.unlocks",
    ),
    "an older description": (
        "POST",
        "/resources/draft",
        {"document": {"swagger": "2.0"}},
        422,
        "bad-input",
        "openapi",
    ),
    "collections without a parent": (
        "PUT",
        "/resources/berths/collections",
        {"collections": [{"path": "a/b"}]},
        409,
        "unsuited",
        "collections",
    ),
    "collections that a reach names, gone": (
        "PUT",
        "/resources/dispatches/collections",
        {"collections": []},
        409,
        "still-in-use",
        "collections",
    ),
    "a role of another's name": (
        "PUT",
        "/roles/steward",
        {"resource": "jamb", "permissions": ["registry.read"]},
        409,
        "unsuited",
        "name",
    ),
    "the top role for a client": (
        "POST",
        "/roles/steward/assignments",
        {"kind": "client", "holders": ["{id}"]},
        409,
        "top-role",
        "role",
    ),
    "a role that somebody holds, gone": ("DELETE", "/roles/quay-hand", {}, 409, "still-in-use", ""),
    "the last steward": (
        "POST",
        "/roles/steward/assignments/withdrawal",
        {"kind": "person", "holders": ["hanneke.brouwer@quillhaven.example"]},
        409,
        "still-in-use",
        "",
    ),
    "the last steward, made inactive": (
        "POST",
        "/people/hanneke.brouwer@quillhaven.example",
        {"active": False},
        409,
        "still-in-use",
        "",
    ),
    "a group within itself": (
        "PUT",
        "/groups/control-room",
        {"groups": ["harbour-office"]},
        409,
        "unsuited",
        "groups",
    ),
    "a group that a role is held by, gone": ("DELETE", "/groups/control-room", {}, 409, "still-in-use", "group"),
    "people from a file without names": (
        "POST",
        "/people/import",
        {"csv": "login\nx@y.example"},
        422,
        "bad-input",
        "csv",
    ),
    "people from a file with a broken line": (
        "POST",
        "/people/import",
        {"csv": "login,name\nnobody,No Body"},
        422,
        "bad-input",
        "line 2",
    ),
    "a policy outside its bounds": ("PUT", "/policy", {"warn_days": 0}, 422, "bad-input", "warn_days"),
}


@pytest.mark.parametrize("case", BAD.values(), ids=BAD.keys())
def test_bad_input_is_a_problem_that_names_the_field_and_changes_nothing(
    world: World, steward: httpx.Client, client: Made, case: tuple[str, str, dict[str, Any], int, str, str]
) -> None:
    method, path, body, status, code, field = case
    before = ledger_length(world)
    filled = json.loads(json.dumps(body).replace("{id}", client.id))
    answer = steward.request(
        method, HERE + path.replace("{id}", client.id), json=filled if method in {"POST", "PUT"} else None
    )
    problem = answer.json()
    assert answer.headers["content-type"] == "application/problem+json"
    assert (answer.status_code, problem["type"]) == (status, f"urn:jamb:problem:{code}")
    assert problem["detail"]
    if field:
        (found,) = [one for one in problem["fields"] if one["field"] == field]
        assert found["allowed"]
    assert ledger_length(world) == before


def ledger_length(world: World) -> int:
    with world.database() as database:
        return database.execute(
            "select sequence from ledger_head join directory on directory.id = directory_id where slug = 'quillhaven'"
        ).fetchone()[0]  # type: ignore[index]


def test_a_body_that_is_not_json_or_far_too_long_is_refused(steward: httpx.Client) -> None:
    broken = steward.post(f"{HERE}/clients", content=b"{", headers={"Content-Type": "application/json"})
    assert (broken.status_code, broken.json()["type"]) == (400, "urn:jamb:problem:malformed")
    huge = steward.post(f"{HERE}/clients", json=new(purpose="x" * 2_000_000))
    assert huge.status_code == 413
    assert "at most 1000000 bytes" in huge.text


def test_consent_for_nothing_and_a_second_withdrawal_are_conflicts(world: World) -> None:
    made = world.client(granted=["berths.view"])
    with world.session("steward") as http:
        nothing = http.post(f"{HERE}/clients/{made.id}/consent", json={})
        assert (nothing.status_code, nothing.json()["type"]) == (409, "urn:jamb:problem:nothing-to-grant")
        (secret,) = http.get(f"{HERE}/clients/{made.id}").json()["credentials"]
        path = f"{HERE}/clients/{made.id}/credentials/{secret['id']}/withdrawal"
        assert http.post(path, json={"reason": "lost"}).json()["state"] == "withdrawn"
        again = http.post(path, json={})
        assert (again.status_code, again.json()["type"]) == (409, "urn:jamb:problem:already-ended")


def test_an_ask_of_several_is_all_or_nothing(world: World, steward: httpx.Client, client: Made) -> None:
    body = {"resource": "berths", "permissions": ["arrivals.view", "berths.view"]}
    assert steward.post(f"{HERE}/clients/{client.id}/asks", json=body).status_code == 409
    asked = [
        rung["permission"]
        for place in steward.get(f"{HERE}/clients/{client.id}").json()["resources"]
        for rung in place["rungs"]
    ]
    assert asked == ["berths.view"]


ROLES = {
    "auditor": {"clients.list", "audit.read", "ledger.verify", "consent.preview"},
    "registrar": {
        "clients.register",
        "initial-access.make",
        "initial-access.withdraw",
        "clients.set-state",
        "owners.change",
        "asks.add",
        "asks.add-list",
        "asks.drop",
        "inheritance.ask",
        "requests.make",
        "requests.withdraw",
        "resources.publish",
        "resources.set-address",
        "collections.replace",
        "findings.assign",
        "findings.answer",
        "findings.resolve",
        "clients.change",
        "clients.remove",
        "dry-runs.start",
        "dry-runs.end",
        "rightsizing.request",
        "reviews.start",
        "reviews.close",
        "reviews.answer",
    },
    "approver": {
        "consent.grant",
        "consent.withdraw",
        "consent.change-reach",
        "requests.decide",
        "asks.decline",
        "tokens.revoke",
        "findings.waive",
        "findings.end-waiver",
        "findings.answer",
        "findings.resolve",
        "rightsizing.enforce",
        "clients.restore",
        "publishers.vouch",
        "publishers.disown",
        "reviews.carry-out",
    },
    "custodian": {
        "credentials.issue",
        "credentials.withdraw",
        "credentials.make",
        "credentials.add",
        "credentials.set-state",
        "rotations.open",
        "rotations.open-all",
        "rotations.reissue",
        "rotations.extend",
        "rotations.close",
        "rotations.abandon",
        "handovers.make",
        "handovers.seal",
        "handovers.withdraw",
        "probe.run",
        "findings.resolve",
        "findings.answer",
    },
}
OWNERS = (ROLES["custodian"] - {"findings.resolve", "rotations.open-all"}) | {
    "clients.set-state",
    "tokens.revoke",
    "owners.change",
    "asks.add",
    "asks.add-list",
    "asks.drop",
    "inheritance.ask",
    "requests.make",
    "requests.withdraw",
    "consent.withdraw",
    "clients.change",
    "reviews.answer",
    "rightsizing.request",
}
CHANGES = {one.name for one in own_api.OPERATIONS if one.effect is not Effect.READ}


def test_each_role_opens_what_it_says_and_no_more(world: World) -> None:
    for role, opened in ROLES.items():
        with world.session(role) as http:
            may = set(http.get(f"{HERE}/whoami").json()["may"])
            roles = world.person(role)["roles"]
        expected = set().union(*(ROLES[one] & CHANGES for one in roles))
        # Whoever owns a client may run it, whatever their role.
        expected |= OWNERS if role in {"registrar", "custodian"} else set()
        assert may & CHANGES == expected, role
        assert opened <= may


def test_a_refusal_names_what_is_missing_and_whom_to_ask(world: World) -> None:
    with world.session("auditor") as http:
        answer = http.post(f"{HERE}/clients", json=new())
    problem = answer.json()
    assert (answer.status_code, problem["type"]) == (403, "urn:jamb:problem:forbidden")
    assert "Register a client" in problem["detail"]
    assert "auditor" in problem["detail"]
    assert "registrar" in problem["next_step"]
    assert "Hanneke Brouwer" in problem["next_step"]


def test_someone_without_a_role_learns_why_nothing_opens(world: World) -> None:
    with world.session("lotte") as http:
        assert http.get(f"{HERE}/whoami").json()["may"] == []
        answer = http.get(f"{HERE}/clients")
    assert answer.status_code == 403
    assert "no role" in answer.json()["detail"]


def test_nobody_reaches_into_another_directory(world: World) -> None:
    with world.session("steward", "brisling") as http:
        answer = http.get(f"{HERE}/clients")
        assert answer.status_code == 404
        assert http.get("/api/v1/directories/brisling/clients").json()["total"] == 1
    token = world.token("steward")
    answer = patient.get(
        f"{world.base_url}/api/v1/directories/brisling/clients", headers={"Authorization": f"Bearer {token}"}
    )
    assert answer.status_code == 401


def test_lists_are_paged_with_links_and_lose_nothing(world: World, steward: httpx.Client) -> None:
    for sort in ("name", "registered", "expiry", "used"):
        seen, path = [], f"{HERE}/clients?limit=3&sort={sort}"
        while path:
            answer = steward.get(path)
            seen += [one["id"] for one in answer.json()["items"]]
            path = answer.links.get("next", {}).get("url", "")
        assert len(seen) == len(set(seen)) == answer.json()["total"], sort


def test_lists_are_filtered_by_what_needs_attention(world: World, steward: httpx.Client) -> None:
    no_credential = world.client(asked=["berths.view"], secret=False)

    def names(query: str) -> set[str]:
        return set(in_order(query))

    def in_order(query: str) -> list[str]:
        found, cursor = [], ""
        while cursor is not None:
            page = steward.get(f"{HERE}/clients?limit=100&{query}{cursor and f'&cursor={cursor}'}").json()
            found += [one["name"] for one in page["items"]]
            cursor = page["next"]
        return found

    assert {"Night invoice run"} <= names("attention=expiring")
    assert {"Crane telemetry trial", "Copy of berth board"} <= names("attention=expired-credential")
    assert {"Radio bridge", "Import test 3"} <= names("attention=ownerless")
    assert {"Fuel quay scheduler"} <= names("attention=waiting")
    # Asks for nothing, or has nothing to prove itself by; a public client has nothing of that kind.
    unfinished = names("attention=unfinished")
    assert {"Import test 3", no_credential.name} <= unfinished
    assert not {"Watch tablet", "Berth board", "Storm bell"} & unfinished
    # One that acts for people alone has no credential, and was there today.
    assert {"Import test 3", "Crane telemetry trial"} <= names("attention=dormant")
    assert "Watch tablet" not in names("attention=dormant")
    by_use = in_order("sort=used")
    assert by_use.index("Import test 3") < by_use.index("Crane telemetry trial") < by_use.index("Watch tablet")
    assert names("q=DUTY mailboxes") == {"Radio bridge"}
    assert names("q=100%25") == set(), "a percent sign is no wildcard"


def test_the_audit_of_the_demo_finds_what_was_put_there(steward: httpx.Client) -> None:
    found, path = [], f"{HERE}/audit/findings?limit=40"
    while path:
        answer = steward.get(path)
        found += answer.json()["items"]
        path = answer.links.get("next", {}).get("url", "")
    assert [one["severity"] for one in found] == sorted((one["severity"] for one in found), key="high medium low".index)
    by_client = {name: sorted(one["rule"] for one in found if one["client_name"] == name) for name in TABLE}
    assert by_client == {name: expected.rules for name, expected in TABLE.items()}
    grouped = steward.get(f"{HERE}/audit/groups", params={"by": "rule", "limit": 100}).json()["items"]
    assert {one["key"]: one["count"] for one in grouped} == Counter(one["rule"] for one in found)


def test_reports_of_use_are_believed_once_and_only_from_the_guard(world: World) -> None:
    made = world.client(granted=["berths.view"])
    use = {"client_id": made.id, "operation": "berths.list", "calls": 7, "last_at": _now()}
    report = {"batch": str(uuid4()), "resource": "berths", "uses": [use]}
    held = world.demo["automation"]
    url = f"{world.base_url}{HERE}/usage"

    def bearer(client_id: str, secret: str) -> dict[str, str]:
        form = {"grant_type": "client_credentials", "client_id": client_id, "client_secret": secret}
        answer = patient.post(world.token_endpoint(), data={**form, "resource": held["resource"]})
        return {"Authorization": f"Bearer {answer.json()['access_token']}"}

    refused = patient.post(url, json=report, headers=bearer(held["client_id"], held["client_secret"]))
    assert refused.status_code == 403
    guard = _guard(world)
    headers = bearer(guard["client_id"], guard["client_secret"])
    assert patient.post(url, json=report, headers=headers).json() == {"counted": 1}
    assert patient.post(url, json=report, headers=headers).json() == {"counted": 0}, "the same batch again"
    unknown = {**report, "batch": str(uuid4()), "uses": [{**use, "operation": "berths.sink"}]}
    assert patient.post(url, json=unknown, headers=headers).status_code == 409
    # Objects that a caller made up are counted together: whoever calls cannot fill the store with names.
    named = [
        {
            "client_id": made.id,
            "operation": "occupant.assign",
            "reason": "reach",
            "object": name,
            "calls": 2,
            "last_at": _now(),
        }
        for name in ("north-11", "no-such-1", "no-such-2")
    ]
    report = {"batch": str(uuid4()), "resource": "berths", "uses": [], "refusals": named}
    assert patient.post(url, json=report, headers=headers).status_code == 200
    with world.jamb() as jamb:
        (rung,) = jamb.clients.read(made.id).resources[0].rungs
        refused_calls = {one.object: one.calls for one in jamb.clients.refusals(made.id)}
    assert sum(rung.calls) == 7
    assert refused_calls == {"north-11": 2, "": 4}


def _now() -> str:
    return datetime.now(UTC).isoformat()


def _guard(world: World) -> dict[str, str]:
    return json.loads((world.home / "guards.json").read_text())["berths"]


def test_a_consent_ended_is_ended_everywhere_and_may_be_given_again(world: World) -> None:
    made = world.client(granted=["berths.assign", "arrivals.view"])
    before = world.ask_token(made).json()
    with world.jamb("approver") as approver:
        wait_until(lambda: any(one.outcome == "issued" for one in approver.clients.attempts(made.id)))
        ended = approver.consent.withdraw(made.id, "berths", ["berths.assign"], reason="Moved to the tug desk")
        assert set(ended.no_longer) == {"berths.list", "berths.read", "occupant.assign"}
        assert world.ask_token(made).json()["scope"] == "arrivals.view"
        assert not approver.clients.explain(made.id, "berths", "occupant.assign").allowed
        entry = next(approver.ledger.list(client=made.id))
        assert (entry.action, entry.reason) == ("consent.withdrawn", "Moved to the tug desk")
        assert (entry.before, entry.after["permissions"]) == (  # type: ignore[index]
            {"permissions": ["arrivals.view", "berths.assign"]},
            ["arrivals.view"],
        )
        # A token from before lives on until it runs out; that is said, and the guard refuses it within seconds.
        assert ended.live_tokens == 1
        assert world.call_berths(before["access_token"], "/arrivals").status_code == 200
        wait_until(lambda: world.call_berths(before["access_token"]).status_code == 403)
        assert (ended.tokens_until - entry.at).total_seconds() == before["expires_in"]
        approver.consent.grant(made.id)
        (rung,) = [
            one for one in approver.clients.read(made.id).resources[0].rungs if one.permission == "berths.assign"
        ]
    assert rung.granted_at is not None
    assert rung.granted_at >= entry.at
    assert "berths.assign" in world.ask_token(made).json()["scope"]


def test_an_owner_is_named_and_the_finding_is_gone(world: World) -> None:
    with world.jamb() as jamb:
        made = jamb.clients.register(unique("Orphan"), "Nobody asked whose it is")
        assert [one.rule for one in jamb.clients.read(made.id).findings] == ["no-owner"]
        changed = jamb.clients.change_owners(
            made.id, add=["pia.nowicki@quillhaven.example", "oskar.pell@quillhaven.example"]
        )
        assert [one.name for one in changed.owners] == ["Oskar Pell", "Pia Nowicki"]
        assert jamb.clients.read(made.id).findings == []
        left = jamb.clients.change_owners(made.id, remove=["oskar.pell@quillhaven.example"])
        assert [one.name for one in left.owners] == ["Pia Nowicki"]
        entry = next(jamb.ledger.list(client=made.id))
        assert (entry.before, entry.after) == ({"owners": ["Oskar Pell", "Pia Nowicki"]}, {"owners": ["Pia Nowicki"]})


def test_every_remedy_of_the_audit_can_be_carried_out(world: World) -> None:
    """One client with all four findings; each goes away by what the finding says to do."""
    made = world.client(granted=["berths.view"])
    past = datetime.now(UTC) - timedelta(days=30)
    with world.database() as database:
        database.execute("delete from client_owner where client_id = %s", [made.id])
        database.execute("update consent set granted_at = %s where client_id = %s", [past, made.id])
        database.execute("update credential set expires_at = %s where client_id = %s", [past, made.id])
    with world.jamb() as jamb:
        soon = jamb.secrets.issue(made.id, days=5)

        def rules() -> set[str]:
            return {one.rule for one in jamb.findings.list(client=made.id)}

        assert rules() == {"no-owner", "permission-never-used", "credential-expired", "credential-expiring"}
        jamb.clients.change_owners(made.id, add=[world.person(None)["login"]])
        jamb.consent.withdraw(made.id, "berths", ["berths.view"])
        jamb.secrets.issue(made.id)
        for held in jamb.secrets.list(made.id):
            if held.state == "expired" or held.id == soon.credential.id:
                jamb.credentials.withdraw(made.id, held.id)
        assert rules() == set()
