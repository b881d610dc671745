"""What must hold whatever happens: two processes, a database that goes away, secrets that never leak, and
descriptions that agree with what runs."""

from __future__ import annotations

import json
import subprocess
import threading
from concurrent.futures import ThreadPoolExecutor

import httpx
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from fastapi.routing import APIRoute

from jamb.core import errors, own_api
from jamb.service.app import ROUTERS
from jamb.service.config.settings import Settings
from jamb.service.http.routing import JsonRoute
from jamb.store.base.partitions import is_part
from jamb.store.base.tables import METADATA
from jamb.store.connections.engine import make_engine
from jamb.wire.base.problems import TABLE, error_of, problem_of
from tests import patient
from tests.leftovers import dump_of
from tests.world import ROOT, World, unique, wait_until

HERE = "/api/v1/directories/quillhaven"
# Open to whoever is signed in: these are how one signs in and out, and learns to have no role.
WITHOUT_ROLE = {"whoami", "end_sign_in", "read_registering"}


def api_routes() -> list[APIRoute]:
    routes = [route for router in ROUTERS for route in router.routes if isinstance(route, APIRoute)]
    return [route for route in routes if route.path.startswith("/api/v1/directories/{directory}")]


def guards_of(route: APIRoute) -> list[str]:
    found, todo = [], [route.dependant]
    while todo:
        one = todo.pop()
        todo.extend(one.dependencies)
        operation = getattr(one.call, "operation", None)
        if operation:
            found.append(operation)
    return found


def test_every_route_names_the_operation_that_opens_it_and_the_catalogue_agrees() -> None:
    known = {one.name: (one.method, one.path) for one in own_api.OPERATIONS}
    seen = {}
    for route in api_routes():
        if route.name in WITHOUT_ROLE:
            continue
        (operation,) = guards_of(route)
        assert isinstance(route, JsonRoute), "another class would leave its door shut, and do its work all the same"
        (method,) = route.methods
        path = route.path.removeprefix("/api/v1/directories/{directory}") or "/"
        seen[operation] = (method, path)
    assert seen == known


def test_whoever_may_not_call_is_told_that_and_not_how_to_call(world: World) -> None:
    wrong, told = {"never": "asked for"}, {}
    with patient.Client(base_url=world.base_url) as http:
        for route in api_routes():
            (method,) = route.methods
            if route.body_field is not None:
                path = route.path.replace("{directory}", "quillhaven").replace("{", "no-").replace("}", "")
                told[route.name] = http.request(method, path, json=wrong).status_code
        auditor = {"Authorization": f"Bearer {world.token('auditor')}"}
        assert http.post(f"{HERE}/clients", json=wrong, headers=auditor).status_code == 403
        assert http.post(f"{HERE}/audit/evaluation", json=wrong, headers=auditor).status_code == 422
    assert len(told) > 60
    assert {name: status for name, status in told.items() if status != 401} == {}


def test_the_committed_description_is_that_of_the_running_service(world: World) -> None:
    committed = json.loads((ROOT / "docs" / "openapi.json").read_text())
    assert patient.get(f"{world.base_url}/openapi.json").json() == committed


def test_every_error_has_its_place_on_the_wire_and_comes_back_as_itself() -> None:
    for cls in errors.every_error():
        if cls.__module__ != "jamb.core.errors":
            continue
        assert cls.code in TABLE, cls
        original = cls("what happened", next_step="what to do")
        returned = error_of(problem_of(original))
        assert type(returned) is (errors.JambError if cls is errors.Misuse else cls) or TABLE[cls.code][0] == 500
        if TABLE[cls.code][0] != 500:
            assert (returned.message, returned.next_step) == (original.message, original.next_step)


def test_our_own_mistakes_tell_the_caller_nothing() -> None:
    problem = problem_of(errors.Misuse("the password of the database is swordfish"))
    assert problem.status == 500
    assert "swordfish" not in problem.model_dump_json()


def test_the_migrations_make_exactly_the_tables_of_the_code(world: World) -> None:
    engine = make_engine(world.cluster.url)
    with engine.connect() as connection:

        def ours(_item: object, name: str | None, kind: str, *_: object) -> bool:
            return kind != "table" or not is_part(name)

        context = MigrationContext.configure(connection, opts={"compare_type": True, "include_object": ours})
        assert compare_metadata(context, METADATA) == []
    engine.dispose()


def test_the_list_of_settings_is_complete() -> None:
    told = subprocess.run([ROOT / ".venv/bin/jamb-service", "settings"], capture_output=True, text=True, check=True)
    listed = (ROOT / "docs/operations.md").read_text()
    for name in Settings.model_fields:
        assert f"JAMB_{name.upper()}" in told.stdout
        assert f"JAMB_{name.upper()}" in listed


# Two processes on one database


def test_two_processes_take_a_name_once_and_keep_one_chain(world: World) -> None:
    token = world.token("steward")
    with world.second_process() as second:
        addresses = [world.base_url, second]

        def register(number: int) -> int:
            body = {"name": f"{name} {number // 2}", "purpose": "Registered twice at once"}
            url = f"{addresses[number % 2]}{HERE}/clients"
            return patient.post(url, json=body, headers={"Authorization": f"Bearer {token}"}).status_code

        name = unique("Twin")
        with ThreadPoolExecutor(8) as pool:
            statuses = list(pool.map(register, range(40)))
        assert sorted(statuses) == [201] * 20 + [409] * 20
        with world.jamb() as jamb:
            assert jamb.ledger.verify().sound
            assert len(list(jamb.clients.list(q=name))) == 20


def test_two_approvers_at_once_grant_once(world: World) -> None:
    made = world.client(asked=["berths.view", "arrivals.view"])
    token = world.token("approver")
    with world.second_process() as second:
        start = threading.Barrier(4)

        def grant(number: int) -> int:
            start.wait()
            url = f"{[world.base_url, second][number % 2]}{HERE}/clients/{made.id}/consent"
            return patient.post(url, json={}, headers={"Authorization": f"Bearer {token}"}).status_code

        with ThreadPoolExecutor(4) as pool:
            assert sorted(pool.map(grant, range(4))) == [201, 409, 409, 409]
    with world.database() as database:
        assert database.execute("select count(*) from consent where client_id = %s", [made.id]).fetchone() == (2,)


def test_a_secret_withdrawn_at_one_process_is_dead_at_the_other(world: World) -> None:
    made = world.client(granted=["berths.view"])
    with world.second_process() as second:
        form = {"grant_type": "client_credentials", "client_id": made.id, "client_secret": made.secret}
        url = f"{second}/d/quillhaven/token"
        assert patient.post(url, data=form).status_code == 200
        with world.jamb() as jamb:
            jamb.credentials.withdraw(made.id, jamb.secrets.list(made.id)[0].id)
        assert patient.post(url, data=form).status_code == 401


# The ledger behind the service's back


def test_a_row_altered_behind_the_services_back_is_found(world: World) -> None:
    with world.jamb("auditor") as jamb, world.database() as database:
        before = jamb.ledger.verify()
        assert before.sound
        row = database.execute(
            "update ledger_entry set actor = jsonb_set(actor, '{name}', '\"Nobody\"') where sequence = 5 "
            "and directory_id = (select id from directory where slug = 'quillhaven') returning directory_id"
        ).fetchone()
        assert row is not None
        try:
            found = jamb.ledger.verify()
            assert not found.sound
            assert found.first_fault == 5
            assert "altered" in found.what
        finally:
            database.execute(
                "update ledger_entry set actor = jsonb_set(actor, '{name}', '\"Demo set-up\"') "
                "where sequence = 5 and directory_id = %s",
                row,
            )
        assert jamb.ledger.verify().sound


# Secrets


def test_no_secret_password_or_token_is_in_the_database_or_a_log(world: World) -> None:
    made = world.client(granted=["berths.view"])
    token = world.ask_token(made).json()["access_token"]
    world.ask_token(made, client_secret=made.secret + " ")
    world.call_berths(token)
    with world.session("steward") as http:
        cookie = http.cookies["jamb_session"]
    patient.post(f"{world.base_url}/api/v1/session", json={"login": "x@y.example", "password": made.secret})
    patient.post(f"{world.base_url}/api/v1/session", json={"login": made.secret * 9, "password": "p", "secret": "q"})
    automation, passwords = world.demo["automation"], [one["password"] for one in world.demo["people"]]
    hidden = [made.secret, token, cookie, automation["client_secret"], *passwords, world.token("steward")]
    dump = dump_of(world).decode()
    logs = "".join(file.read_text(errors="replace") for file in world.home.glob("*.log"))
    assert made.id in dump
    assert "POST" in logs
    for secret in hidden:
        assert secret not in dump
        assert secret not in logs


def test_files_with_secrets_are_readable_by_their_owner_alone(world: World) -> None:
    for name in ("demo.json", "guards.json", "sealing.key", "database-password"):
        assert (world.home / name).stat().st_mode & 0o777 == 0o600, name


# A database that goes away and comes back


def test_an_outage_is_said_plainly_loses_nothing_and_ends_by_itself(world: World) -> None:
    made = world.client(granted=["berths.view"])
    token = world.ask_token(made).json()["access_token"]
    world.call_berths(token)
    with world.session("steward") as http:
        world.cluster.stop(mode="immediate")
        try:
            answer = http.post(f"{HERE}/clients", json={"name": unique("Lost"), "purpose": "p"}, timeout=30)
            assert (answer.status_code, answer.json()["type"]) == (503, "urn:jamb:problem:store-unavailable")
            assert answer.headers["Retry-After"]
            assert answer.json()["next_step"]
            refused = patient.post(
                world.token_endpoint(),
                data={"grant_type": "client_credentials", "client_id": made.id, "client_secret": made.secret},
                timeout=30,
            )
            assert (refused.status_code, refused.json()["error"]) == (503, "temporarily_unavailable")
            assert patient.get(f"{world.base_url}/health").status_code == 200
            assert httpx.get(f"{world.base_url}/ready", timeout=30).status_code == 503
            assert world.call_berths(token).status_code == 200, "a guard does not need the issuer for a known key"
        finally:
            world.cluster.start()
        wait_until(lambda: httpx.get(f"{world.base_url}/ready", timeout=30).status_code == 200)
        wait_until(lambda: world.ask_token(made).status_code == 200)
        assert http.post(f"{HERE}/clients", json={"name": unique("Kept"), "purpose": "p"}).status_code == 201

    def reported() -> bool:
        with world.jamb() as jamb:
            (rung,) = jamb.clients.read(made.id).resources[0].rungs
        return sum(rung.calls) == 2

    wait_until(reported)
    with world.jamb() as jamb:
        assert jamb.ledger.verify().sound
