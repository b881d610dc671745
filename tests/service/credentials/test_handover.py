"""Handover links: seen once, by whoever has link and passphrase; both sides know; a copy of the database opens none."""

from __future__ import annotations

import json
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from uuid import uuid4

import pytest
from authlib.jose import ECKey, JsonWebEncryption

from jamb.client import BadInput, Conflict, Forbidden, HandoverLink, Jamb, NotFound, PrivateKey
from jamb.core.credentials.handover import HandoverState
from jamb.core.credentials.kinds import CredentialKind
from tests.cli.run import Shell
from tests.world import Made, World


@pytest.fixture
def custodian(world: World) -> Iterator[Jamb]:
    with world.jamb("custodian") as jamb:
        yield jamb


def test_a_secret_is_handed_over_without_its_maker_seeing_it(world: World, custodian: Jamb) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    handed = custodian.handovers.make(made.id, hours=2, note="For the kiosk", days=20)
    link = HandoverLink(handed.link)
    for _ in range(3):
        waiting = link.look()
        assert (waiting.client_name, waiting.state, waiting.note) == (made.name, HandoverState.WAITING, "For the kiosk")
    opened = link.open()
    assert opened.issued is not None
    assert opened.issued.secret not in handed.model_dump_json()
    token = world.ask_token(Made(made.id, made.name, opened.issued.secret)).json()["access_token"]
    assert world.call_berths(token).status_code == 200
    with pytest.raises(Conflict, match=r"opened before, on .* from 127\.0\.0\.1") as refused:
        link.open()
    assert "tell Maren Oduya at once" in refused.value.next_step
    (seen,) = custodian.handovers.list(made.id)
    assert (seen.state, seen.opened_from, seen.late_tries) == (HandoverState.OPENED, "127.0.0.1", 1)
    with world.jamb("auditor") as jamb:
        told = [(one.action, one.actor["kind"]) for one in jamb.ledger.list(client=made.id)][:3]
    assert told == [("handover.tried-again", "link"), ("handover.opened", "link"), ("handover.made", "person")]


def test_five_wrong_passphrases_lock_a_link_for_good(world: World, custodian: Jamb) -> None:
    made = world.client(secret=False)
    link = HandoverLink(custodian.handovers.make(made.id, passphrase="correct horse").link)
    for left in (4, 3, 2, 1):
        with pytest.raises(BadInput) as refused:
            link.open("wrong horse")
        assert f"{left} tr" in refused.value.violations[0].next_step
    with pytest.raises(BadInput, match="passphrase"):
        link.open()
    with pytest.raises(Conflict, match="locked"):
        link.open("correct horse")
    (seen,) = custodian.handovers.list(made.id)
    assert (seen.state, seen.wrong_tries, seen.late_tries) == (HandoverState.LOCKED, 5, 1)
    second = HandoverLink(custodian.handovers.make(made.id, passphrase="correct horse").link)
    with pytest.raises(BadInput):
        second.open("wrong horse")
    assert second.open("correct horse").issued is not None


def test_of_many_who_open_at_once_in_two_processes_one_sees_it(world: World, custodian: Jamb) -> None:
    made = world.client(secret=False)
    link = custodian.handovers.make(made.id, kind=CredentialKind.CERTIFICATE).link
    with world.second_process() as second:

        def attempt(address: str) -> bool:
            try:
                return HandoverLink(address).open().made is not None
            except Conflict:
                return False

        with ThreadPoolExecutor(8) as pool:
            seen = list(pool.map(attempt, [link, link.replace(world.base_url, second)] * 4))
    assert seen.count(True) == 1
    assert custodian.handovers.list(made.id)[0].late_tries == 7


def test_what_opens_no_link(world: World, custodian: Jamb) -> None:
    made = world.client(secret=False)
    handed = custodian.handovers.make(made.id)
    head, _, key = handed.link.partition("#")
    wrong = "A" if key[0] != "A" else "B"
    for link in (
        f"{head}#{wrong}{key[1:]}",
        f"{head}#{key[:-4]}",
        handed.link.replace(head.rpartition("/")[2], str(uuid4())),
    ):
        with pytest.raises(NotFound, match="no such handover"):
            HandoverLink(link).open()
    for link in (head, "https://jamb.example/", "nothing"):
        with pytest.raises(BadInput, match="whole handover link"):
            HandoverLink(link)
    assert custodian.handovers.list(made.id)[0].wrong_tries == 0, "who does not have the link cannot lock it"
    assert custodian.handovers.withdraw(made.id, handed.handover.id).state is HandoverState.WITHDRAWN
    with pytest.raises(Conflict, match="took this link back"):
        HandoverLink(handed.link).open()
    late = custodian.handovers.make(made.id)
    with world.database() as database:
        database.execute("update handover set expires_at = now() where id = %s", [late.handover.id])
    with pytest.raises(Conflict, match="ran out"):
        HandoverLink(late.link).open()
    for hours, passphrase in ((0, ""), (169, ""), (1, "short")):
        with pytest.raises(BadInput):
            custodian.handovers.make(made.id, hours=hours, passphrase=passphrase)
    assert len(custodian.credentials.list(made.id)) == 2, "what was refused left no credential behind"
    with world.jamb("auditor") as auditor, pytest.raises(Forbidden):
        auditor.handovers.make(made.id)


def test_neither_database_nor_logs_hold_what_opens_a_link(world: World, custodian: Jamb) -> None:
    made = world.client(secret=False)
    handed = custodian.handovers.make(made.id, passphrase="a quiet harbour")
    key = handed.link.partition("#")[2]
    opened = HandoverLink(handed.link).open("a quiet harbour")
    assert opened.issued is not None
    with world.database() as database:
        kept = database.execute(
            "select handover::text, sealed from handover where id = %s", [handed.handover.id]
        ).fetchone()
        ledger = database.execute("select string_agg(ledger_entry::text, ' ') from ledger_entry").fetchone()
    assert kept is not None
    assert kept[1] is None, "once it was shown it is gone"
    logs = (world.home / "service.log").read_text()
    for secret in (key, "a quiet harbour", opened.issued.secret):
        assert secret not in f"{kept} {ledger} {logs}"


def test_a_credential_is_sealed_to_the_key_that_its_owner_registered(
    world: World, custodian: Jamb, tmp_path: Path
) -> None:
    made, owner = world.client(granted=["berths.view"], secret=False), Shell(world, tmp_path).signed_in(None)
    assert "no key" in owner("handover", "key").out
    seal = ["handover", "seal", made.name, "--to", world.person(None)["name"], "--save", "sealed.jwe", "--days", "9"]
    shell = Shell(world, tmp_path).signed_in("custodian")
    early = shell(*seal)
    assert (early.code, "nobody yet" in early.err) == (2, True)
    assert "P-256" in owner("handover", "key", "--make", "mine.pem").out
    assert (tmp_path / "mine.pem").stat().st_mode & 0o777 == 0o600
    try:
        assert shell(*seal).code == 0
        assert len(custodian.credentials.list(made.id)) == 1
        # Whoever made it never saw it, and an independent library reads what was sealed.
        text, pem = (tmp_path / "sealed.jwe").read_text().strip(), (tmp_path / "mine.pem").read_text()
        plain = JsonWebEncryption().deserialize_compact(text, ECKey.import_key(pem))["payload"]
        got = json.loads(plain)["issued"]["secret"]
        assert world.ask_token(Made(made.id, made.name, got)).status_code == 200
        said = Shell(world, tmp_path)("handover", "unseal", "sealed.jwe", "--key", "mine.pem", "--save", "got")
        assert (said.code, made.name in said.out) == (0, True), said.err
        assert got in (tmp_path / "got" / "client.env").read_text()
        (tmp_path / "other.pem").write_bytes(PrivateKey.make().pem())
        wrong = owner("handover", "unseal", "sealed.jwe", "--key", "other.pem", "--save", "other")
        assert (wrong.code, "sealed to this key" in wrong.err) == (2, True)
        for bad in (pem, '{"kty": "oct", "k": "AAAA"}', '{"kty": "EC"}', "key"):
            refused = owner("handover", "key", "-", stdin=bad)
            assert (refused.code, "public key" in refused.err) == (2, True)
            assert "MIG" not in refused.err
        with world.jamb("auditor") as auditor, pytest.raises(Forbidden):
            auditor.handovers.seal(made.id, custodian.handovers.recipients(made.id)[0].id)
    finally:
        assert "no key" in owner("handover", "key", "--remove").out
    with world.database() as database:
        kept = database.execute("select string_agg(ledger_entry::text, ' ') from ledger_entry").fetchone()
    assert kept is not None
    assert got not in kept[0]


def test_the_command_line_makes_lists_and_opens(world: World, tmp_path: Path) -> None:
    shell, made = Shell(world, tmp_path).signed_in("custodian"), world.client(secret=False)
    link = shell("handover", "make", made.name, "--days", "20", "-o", "json").json()["link"]
    stranger = Shell(world, tmp_path)
    said = stranger("handover", "open", "--save", "got", "--yes", stdin=link + "\n")
    assert (said.code, "used up" in said.out) == (0, True), said.err
    assert "CLIENT_SECRET" in (tmp_path / "got" / "client.env").read_text().upper()
    assert (tmp_path / "got" / "client.env").stat().st_mode & 0o777 == 0o600
    again = stranger("handover", "open", "--save", "other", "--yes", stdin=link + "\n")
    assert (again.code, "opened before" in again.err) == (2, True)
    assert "opened" in shell("handover", "list", made.name).out
    kept = shell("handover", "make", made.name, "--certificate", "-o", "json").json()["handover"]["id"]
    assert "stands" in shell("handover", "withdraw", made.name, kept, "--yes").out
