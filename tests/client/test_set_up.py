"""A whole set-up in one call or command: it works at once, and run again under the same name it changes nothing."""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from uuid import uuid4

import pytest

from jamb.client import AccessToken, BadInput, DoneBefore, Jamb, Wanted, set_up
from jamb.client.credentials.setting_up import Consented
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.term import CredentialState
from tests import patient
from tests.cli.run import Shell
from tests.world import Made, World, unique


def entries(world: World, client_id: str) -> int:
    with world.jamb("auditor") as jamb:
        return len(list(jamb.ledger.list(client=client_id)))


def test_a_set_up_works_at_once_and_again_changes_nothing(world: World) -> None:
    wanted = Wanted(unique("Set up"), "Tests a set-up", asks={"berths": ["berths.view"]}, days=20)
    with world.jamb("steward") as jamb:
        first = set_up(jamb, wanted, f"test {wanted.name}")
        assert first.consent is Consented.GRANTED
        assert first.issued is not None
        token = world.ask_token(Made(first.client.id, first.client.name, first.issued.secret))
        assert world.call_berths(token.json()["access_token"]).status_code == 200
        before = entries(world, first.client.id)
        again = set_up(jamb, wanted, f"test {wanted.name}")
        assert (again.did, again.issued, again.client.id) == ((), None, first.client.id)
        assert again.credential is not None
        assert again.credential.id == first.issued.credential.id
        assert entries(world, first.client.id) == before
        with pytest.raises(BadInput, match="another request"):
            set_up(jamb, Wanted(wanted.name, "Something else"), f"test {wanted.name}")


def test_who_may_not_consent_asks_and_goes_on_when_it_is_granted(world: World) -> None:
    wanted = Wanted(
        unique("Set up"), "Tests a set-up", asks={"berths": ["berths.view"]}, credential=CredentialKind.CERTIFICATE
    )
    with world.jamb("registrar") as jamb, world.jamb("approver") as approver:
        first = set_up(jamb, wanted, wanted.name)
        assert (first.consent, first.did[-1]) == (Consented.REQUESTED, "asked the approvers")
        assert "an approver has to say yes" in first.left[0]
        assert first.made is not None
        (waiting,) = [one for one in approver.requests.list() if one.client_id == first.client.id]
        assert set_up(jamb, wanted, wanted.name).did == ()
        approver.requests.grant(waiting.id)
        again = set_up(jamb, wanted, wanted.name)
        assert (again.consent, again.did, again.left) == (Consented.GRANTED, (), ())


def test_of_two_processes_that_do_the_same_one_does_it(world: World) -> None:
    key, body = str(uuid4()), {"name": unique("Once"), "purpose": "Tests a key", "kind": "service", "owners": []}
    with world.second_process() as second:

        def register(base: str) -> str:
            with Jamb(base, "quillhaven", AccessToken(world.token("steward"))) as jamb:
                try:
                    return jamb.clients.register(str(body["name"]), "Tests a key", once=key).id
                except DoneBefore as done:
                    return (done.made or {})["id"]

        with ThreadPoolExecutor(8) as pool:
            answers = list(pool.map(register, [world.base_url, second] * 4))
    # Whoever came too late, and however late, learns what was made.
    (made,) = set(answers)
    with world.jamb() as jamb:
        assert [one.id for one in jamb.clients.list(q=str(body["name"]))] == [made]
        with pytest.raises(DoneBefore) as done:
            jamb.clients.register(str(body["name"]), "Tests a key", once=key)
    assert (done.value.made or {})["name"] == body["name"]


def test_a_key_is_the_callers_own_and_has_bounds(world: World) -> None:
    key, name = str(uuid4()), unique("Key")
    with world.jamb("steward") as steward, world.jamb("registrar") as registrar:
        steward.clients.register(name, "Tests a key", once=key)
        assert registrar.clients.register(f"{name} too", "Tests a key", once=key).id, "another caller's key is another"
        for wrong in ("", " ", "Größe", "x" * 201):
            with pytest.raises(BadInput):
                steward.clients.register(f"{name} three", "Tests a key", once=wrong)
    answer = patient.post(
        f"{world.base_url}/api/v1/directories/quillhaven/clients",
        json={"name": name, "purpose": "Tests a key"},
        headers={"Authorization": f"Bearer {world.token('steward')}", "Idempotency-Key": key},
    )
    assert answer.status_code == 409, "without quotes it is the same key, and this is another request"


def test_the_command_leaves_files_replaces_what_nobody_has_and_goes_on(world: World, tmp_path: Path) -> None:
    shell, folder = Shell(world, tmp_path).signed_in("steward"), tmp_path / "made"
    words = [
        "set-up",
        "--name",
        unique("Set up"),
        "--purpose",
        "Tests a command",
        "--ask",
        "berths:berths.view",
        "--in",
        "berths:north",
        "--save",
        "made",
        "--once",
        "first",
    ]
    said = shell(*words, "-o", "json")
    ids = said.json()
    sheet = (folder / "client.env").read_text()
    secret = next(line.partition("=")[2].strip("'\"") for line in sheet.splitlines() if "SECRET=" in line)
    assert secret not in said.out + said.err
    assert json.loads((folder / "client.json").read_text())["client_id"] == ids["client_id"]
    assert all(one.stat().st_mode & 0o777 == 0o600 for one in folder.iterdir())
    made = Made(ids["client_id"], "", secret)
    token = world.ask_token(made).json()["access_token"]
    assert [world.call_berths(token, f"/berths/{one}").status_code for one in ("north-3", "south-3")] == [200, 403]
    assert "nothing was changed" in shell(*words).out
    # As if a stop had come between the answer and the files.
    for file in folder.iterdir():
        if file.name != "client.json":
            file.unlink()
    again = shell(*words, "-o", "json").json()
    assert again["credential_id"] != ids["credential_id"]
    assert world.ask_token(made).status_code == 401, "the lost one is withdrawn"
    with world.jamb() as jamb:
        states = [one.state for one in jamb.secrets.list(made.id)]
        assert sorted(states) == [CredentialState.LIVE, CredentialState.WITHDRAWN]
    assert shell(*words, "-o", "json").json()["did"] == []
    assert shell(*words[:-2]).code == 2, "without a name it does not write over what is there"
    (tmp_path / "client.key").write_text("of somebody else")
    foreign = shell("set-up", "--name", unique("Set up"), "--purpose", "Tests a command", "--save", ".", "--once", "x")
    assert (foreign.code, "without client.key" in foreign.err) == (2, True)
    assert (tmp_path / "client.key").read_text() == "of somebody else"
