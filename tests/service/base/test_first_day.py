"""From an empty database to a directory with a steward, by the operator's commands alone; and keys that do not fit."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import httpx
import psycopg
import pytest

from tests import patient
from tests.operating import OPEN, PASSWORD, STEWARD, Operator, link_in, operating
from tests.world import World, choose_password


@pytest.fixture
def operator(world: World, tmp_path: Path) -> Iterator[Operator]:
    with operating(world, tmp_path, world.port + 15) as made:
        yield made


def sign_in(base: str, password: str = PASSWORD) -> httpx.Response:
    return httpx.post(f"{base}/api/v1/session", json={"login": "ines@alder.example", "password": password}, timeout=60)


def test_a_first_steward_signs_in_and_the_operator_steps_back(operator: Operator) -> None:
    untouched = operator.runs("directories", "list")
    assert (untouched.returncode, "never migrated" in untouched.stderr) == (1, True)
    assert operator.runs("migrate").returncode == 0
    with operator.serving(ready=503) as base:
        assert "no directory yet" in patient.get(f"{base}/ready").json()["reason"]
    opened = operator.runs(*OPEN, *STEWARD)
    assert opened.returncode == 0, opened.stderr
    assert str(operator.home) in opened.stdout
    # A link that was lost before it was used is made anew; another steward may take the place.
    lost = operator.runs("directories", "steward", "alder", "--steward", "ines@alder.example")
    assert lost.returncode == 0, lost.stderr
    instead = operator.runs("directories", "steward", "alder", "--steward", "max@alder.example", "--name", "Max")
    assert instead.returncode == 0, instead.stderr
    again = operator.runs(*OPEN, *STEWARD)
    assert (again.returncode, "already a directory" in again.stderr) == (1, True)
    with operator.serving() as base, ExitStack() as stack:
        choose_password(link_in(lost.stdout), PASSWORD)
        console = stack.enter_context(httpx.Client(base_url=base, timeout=60))
        found = console.post("/api/v1/session", json={"login": "ines@alder.example", "password": PASSWORD}).json()
        assert (found["person"]["roles"], found["own_password"]) == (["steward"], True)
        actions = [one["action"] for one in console.get("/api/v1/directories/alder/ledger").json()["items"]]
        assert {"directory.opened", "person.added", "sign-in-link.made", "sign-in-link.used"} <= set(actions)
        other = operator.runs("directories", "steward", "alder", "--steward", "eva@alder.example", "--name", "Eva")
        assert (other.returncode, "Ines Alder" in other.stderr) == (1, True)
        # Whoever forgot theirs gets another link from the operator.
        forgot = operator.runs("directories", "steward", "alder", "--steward", "ines@alder.example")
        choose_password(link_in(forgot.stdout), "another bridge by now")
        assert (sign_in(base).status_code, sign_in(base, "another bridge by now").status_code) == (401, 200)


def test_a_suspended_directory_opens_to_nobody_and_is_as_before_when_resumed(operator: Operator) -> None:
    opened = operator.runs(*OPEN, *STEWARD)
    with operator.serving() as base, ExitStack() as stack:
        choose_password(link_in(opened.stdout), PASSWORD)
        console = stack.enter_context(httpx.Client(base_url=base, timeout=60))
        csrf = console.post("/api/v1/session", json={"login": "ines@alder.example", "password": PASSWORD}).json()[
            "csrf"
        ]
        console.headers["X-Jamb-CSRF"] = csrf
        here = "/api/v1/directories/alder"
        made = console.post(f"{here}/clients", json={"name": "Sluice log", "purpose": "Keeps the log"}).json()
        secret = console.post(f"{here}/clients/{made['id']}/secrets", json={"days": 30}).json()["sheets"][0]["secret"]
        assert operator.runs("directories", "suspend", "alder", "--reason", "An incident").returncode == 0
        refused = console.get(f"{here}/clients")
        assert (refused.status_code, refused.json()["type"]) == (403, "urn:jamb:problem:suspended")
        assert sign_in(base).json()["type"] == "urn:jamb:problem:suspended"
        form = {"grant_type": "client_credentials", "client_id": made["id"], "client_secret": secret}
        token = patient.post(f"{base}/d/alder/token", data={**form, "resource": f"{base}{here}"})
        assert (token.status_code, "suspended" in token.json()["error_description"]) == (400, True)
        assert "suspended" in operator.runs("directories", "list").stdout
        assert operator.runs("directories", "resume", "alder").returncode == 0
        assert operator.runs("directories", "resume", "alder").returncode == 1
        assert console.get(f"{here}/clients").status_code == 200
        renamed = operator.runs("directories", "rename", "alder", "--name", "Alder and Sons")
        assert renamed.returncode == 0
        assert console.get(here).json()["name"] == "Alder and Sons"


def test_another_sealing_key_is_refused_by_every_command_and_none_is_made(operator: Operator, tmp_path: Path) -> None:
    assert operator.runs(*OPEN, *STEWARD).returncode == 0
    elsewhere = tmp_path / "elsewhere"
    other = Operator(tmp_path / "other", operator.port, operator.url)
    for key, said in (
        ({"JAMB_HOME": str(elsewhere)}, "no sealing key"),
        ({"JAMB_SEALING_KEY": "A" * 43 + "="}, "not the one"),
    ):
        for command in (["serve"], ["migrate"], ["notify"], ["directories", "list"], OPEN + STEWARD):
            found = other.runs(*command, **key)
            assert (found.returncode, said in found.stderr) == (1, True), (command, found.stderr)
            assert len(found.stderr.splitlines()) == 1
    assert not elsewhere.exists()
    # A process that runs already, as one of another machine, says so itself.
    with operator.serving() as base, psycopg.connect(operator.url, autocommit=True) as database:
        database.execute("update sealing_mark set mark = 'another'")
        ready = patient.get(f"{base}/ready")
        assert (ready.status_code, "sealing key" in ready.json()["reason"]) == (503, True)
