"""The probe: a live test that reads the token, calls the resource and explains; and reading tokens offline."""

from __future__ import annotations

import contextlib
import json
from datetime import UTC, datetime, timedelta
from pathlib import Path

import jwt
import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.client import BadInput, Forbidden, Wanted, set_up
from jamb.core.tokens import CLAIMS, read_token
from jamb.wire.resources.reach import ReachSent
from tests import patient
from tests.cli.run import Shell
from tests.service.entry.roster import made
from tests.world import Made, World, unique

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
KEY = "x" * 40


@pytest.fixture(scope="module")
def bounded(world: World) -> Made:
    """A client that may see and assign berths of the north quay."""
    reach = {"berths": ReachSent.model_validate({"kind": "only", "collections": ["north"]})}
    wanted = Wanted(unique("Probe"), "Tests a probe", asks={"berths": ["berths.view", "berths.assign"]}, reach=reach)
    with world.jamb("steward") as jamb:
        ready = set_up(jamb, wanted, wanted.name)
        if ready.consent.value != "granted":
            with world.jamb("approver") as approver:
                approver.consent.grant(ready.client.id)
    assert ready.issued is not None
    return Made(ready.client.id, ready.client.name, ready.issued.secret)


def occupant(world: World, made: Made, berth: str) -> object:
    token = world.ask_token(made).json()["access_token"]
    return world.call_berths(token, f"/berths/{berth}").json()["occupant"]


def test_the_whole_chain_is_tried_with_a_token_that_does_nothing(world: World, bounded: Made) -> None:
    with world.jamb("custodian") as jamb:
        read = jamb.clients.probe(bounded.id, "berths", "berths.read", object="north-3")
        assert (read.works, read.call and read.call.status) == (True, 204)
        said = {one.name: one.value for one in (*read.token.header, *read.token.claims)}
        assert (said["typ"], said["sub"]) == ("probe+jwt", bounded.id)
        assert "berths.assign, berths.view only in north" in said["authorization_details"]
        before = occupant(world, bounded, "north-4")
        write = jamb.clients.probe(bounded.id, "berths", "occupant.assign", object="north-4")
        assert (write.works, write.verdict) == (True, "It works. It would be let in; nothing was done.")
        assert occupant(world, bounded, "north-4") == before
        beyond = jamb.clients.probe(bounded.id, "berths", "berths.read", object="south-3")
        assert beyond.call is not None
        assert (beyond.works, beyond.call.status, "does not reach south-3" in beyond.call.said) == (False, 403, True)
        assert beyond.explanation.steps[0].kind == "widen-reach"
        with pytest.raises(BadInput, match="berth"):
            jamb.clients.probe(bounded.id, "berths", "berths.read")
    with world.jamb("auditor") as auditor:
        entry = next(iter(auditor.ledger.list(client=bounded.id)))
        assert (entry.action, entry.after and entry.after["operation"]) == ("client.probed", "berths.read")
        with pytest.raises(Forbidden):
            auditor.clients.probe(bounded.id, "berths", "berths.list")


def test_with_its_own_secret_it_is_what_the_integrator_meets(world: World, bounded: Made) -> None:
    with world.jamb("custodian") as jamb:
        real = jamb.clients.probe(bounded.id, "berths", "berths.list", secret=bounded.secret)
        assert (real.works, real.call and real.call.status) == (True, 200)
        assert {one.name: one.value for one in real.token.header}["typ"] == "at+jwt"
        wrong = jamb.clients.probe(bounded.id, "berths", "berths.list", secret=bounded.secret[:-1])
        assert (wrong.works, wrong.call) == (False, None)
        assert "checksum does not fit" in wrong.verdict
        with pytest.raises(BadInput, match="only reads"):
            jamb.clients.probe(bounded.id, "berths", "occupant.assign", object="north-4", secret=bounded.secret)
    failure = world.failures(bounded.id)[0]
    assert (failure["outcome"], failure["user_agent"], failure["address"]) == ("secret-damaged", "jamb-probe", "probe")
    assert bounded.secret not in (world.home / "service.log").read_text()


def test_a_client_is_tried_for_a_person_who_need_not_sign_in(world: World) -> None:
    """What both may, with a token that opens nothing; and why there would be none."""
    native = made(world, "native", ["http://127.0.0.1/back"], ["berths.assign"])
    oskar, lotte = (world.person(who) for who in ("oskar", "lotte"))
    with world.jamb("custodian") as jamb:
        tried = jamb.clients.probe(native.id, "berths", "occupant.assign", object="north-4", person=oskar["login"])
        assert (tried.works, tried.call and tried.call.status) == (True, 204)
        said = {one.name: one.value for one in (*tried.token.header, *tried.token.claims)}
        assert (said["typ"], said["scope"], said["client_id"]) == ("probe+jwt", "berths.assign berths.view", native.id)
        assert (tried.explanation.person, tried.explanation.allowed) == ("Oskar Pell", True)
        nothing = jamb.clients.probe(native.id, "berths", "berths.list", person=lotte["login"])
        assert "nothing that both it and Lotte" in nothing.verdict
        assert nothing.explanation.steps[0].kind == "assign-role"
        with pytest.raises(BadInput, match="left out"):
            jamb.clients.probe(native.id, "berths", "berths.list", person=oskar["login"], secret="jamb_s1_x")
    with world.jamb() as steward:
        steward.clients.change(native.id, sign_in_groups=["night-watch"])
        outside = steward.clients.probe(native.id, "berths", "berths.list", person=oskar["login"])
        assert "is for people of night-watch alone" in outside.verdict
        assert [step.kind for step in outside.explanation.steps] == ["join-group"]
        (entry, *_) = [one for one in steward.ledger.list(client=native.id) if one.action == "client.probed"]
        assert entry.after is not None
        assert entry.after["for"] == "Oskar Pell"


def test_what_is_missing_is_named_at_each_link_of_the_chain(world: World) -> None:
    asked, gone = world.client(asked=["berths.view"]), world.client(granted=["berths.view"])
    with world.jamb("steward") as jamb:
        nothing = jamb.clients.probe(asked.id, "berths", "berths.list")
        assert "Nothing is granted" in nothing.verdict
        assert nothing.explanation.steps[0].kind == "consent"
        jamb.clients.disable(gone.id)
        assert "disabled" in jamb.clients.probe(gone.id, "berths", "berths.list").verdict
        jamb.clients.enable(gone.id)
        address = jamb.resources.set_address("berths", "")
        try:
            assert address == ""
            found = jamb.clients.probe(gone.id, "berths", "berths.list")
            assert (found.works, found.call, "was not called" in found.verdict) == (True, None, True)
            jamb.resources.set_address("berths", "http://127.0.0.1:1")
            assert "nothing answered there" in jamb.clients.probe(gone.id, "berths", "berths.list").verdict
            jamb.resources.set_address("berths", "http://10.0.0.1")
            assert "inner address" in jamb.clients.probe(gone.id, "berths", "berths.list").verdict
            for wrong in ("ftp://x", "berths", "https://a:b@berths.example", "https://berths.example/?x=1"):
                with pytest.raises(BadInput):
                    jamb.resources.set_address("berths", wrong)
        finally:
            jamb.resources.set_address("berths", world.berths_url)


def test_the_command_line_tells_and_leaves_by_a_code(world: World, tmp_path: Path, bounded: Made) -> None:
    shell = Shell(world, tmp_path).signed_in("custodian")
    good = shell("probe", bounded.name, "berths.read", "--resource", "berths", "--object", "north-3")
    assert (good.code, "It works" in good.out, "only in north" in good.out) == (0, True, True)
    bad = shell("probe", bounded.name, "berths.read", "--resource", "berths", "--object", "fuel-1")
    assert (bad.code, "The smallest change that would allow it" in bad.out) == (1, True)
    own = shell(
        "probe", bounded.name, "berths.list", "--resource", "berths", "--secret-file", "-", stdin=bounded.secret + "\n"
    )
    assert (own.code, bounded.secret in own.out + own.err) == (0, False)
    token = world.ask_token(bounded).json()["access_token"]
    read = Shell(world, tmp_path)("token", "read", stdin=f"Bearer {token}\n")
    assert (read.code, "in 10 minutes" in read.out) == (0, True)
    narrow = Shell(world, tmp_path, cold=True)(
        "token", "read", stdin=f"Bearer {token}\n", COLUMNS="80"
    ).out.splitlines()
    (aud,) = (place for place, line in enumerate(narrow) if line.split()[:1] == ["aud"])
    assert narrow[aud + 1] == " " * 24 + "the one resource that it is for", "neither breaks: not what may be copied"


# Reading tokens


def signed(claims: dict[str, object], typ: str = "at+jwt") -> str:
    return jwt.encode(claims, KEY, "HS256", {"typ": typ})


WHOLE: dict[str, object] = {
    "iss": "https://jamb.example/d/port",
    "aud": "https://berths.example",
    "sub": "c",
    "client_id": "c",
    "iat": int(NOW.timestamp()),
    "exp": int((NOW + timedelta(minutes=10)).timestamp()),
}
WRONG = {
    "nothing": (signed(WHOLE), None),
    "run out": (signed({**WHOLE, "exp": int(NOW.timestamp()) - 1}), "has run out"),
    "from the future": (signed({**WHOLE, "iat": int(NOW.timestamp()) + 600}), "a clock is wrong"),
    "another kind": (signed(WHOLE, "JWT"), "not that of an access token"),
    "not signed": (jwt.encode(WHOLE, None, "none", {"typ": "at+jwt"}), "not signed"),
    "no audience": (signed({name: value for name, value in WHOLE.items() if name != "aud"}), "lacks aud"),
}


@pytest.mark.parametrize(("token", "said"), WRONG.values(), ids=WRONG.keys())
def test_what_would_be_refused_is_said(token: str, said: str | None) -> None:
    found = read_token(token, NOW)
    assert list(found.wrong) == [] if said is None else said in " ".join(found.wrong)
    assert {one.name for one in found.claims} <= set(CLAIMS)


@given(st.text(max_size=300))
def test_any_text_is_read_or_refused_without_being_repeated(text: str) -> None:
    with contextlib.suppress(BadInput):
        read_token(text, NOW)
        return
    with pytest.raises(BadInput) as refused:
        read_token(text, NOW)
    assert "(not shown" in refused.value.violations[0].sent


def test_the_words_for_claims_are_open_to_all(world: World) -> None:
    found = patient.get(f"{world.base_url}/api/v1/claims").raise_for_status().json()
    assert {one["name"] for one in found} == set(CLAIMS)
    assert json.dumps(found).count("RFC") >= 10


def test_probes_reach_nobody_who_does_not_know_them(world: World, bounded: Made) -> None:
    """A probe token is made within the service alone: what it answers holds none."""
    with world.jamb("custodian") as jamb:
        answer = jamb.clients.probe(bounded.id, "berths", "berths.list").model_dump_json()
    assert "eyJ" not in answer
