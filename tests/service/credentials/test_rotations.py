"""Rotations against the running service: both credentials valid, nothing taken away while it is used, nothing twice."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

import pytest

from jamb.client import AccessToken, BadInput, Conflict, Jamb, JambError
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.term import CredentialState
from jamb.core.errors import AlreadyOpened, StillInUse
from jamb.core.rotation import RotationState
from jamb.wire.base.problems import error_of
from jamb.wire.credentials.rotations import MOST_AT_ONCE, OpenedRotation, Rotation, RotationWanted
from tests.world import Made, World, wait_until

DAY = timedelta(days=1)


@pytest.fixture
def custodian(world: World) -> Iterator[Jamb]:
    with world.jamb("custodian") as jamb:
        yield jamb


def aged(world: World, made: Made, days: int) -> UUID:
    """Make the client's secret one that ends in some days."""
    with world.database() as database:
        row = database.execute(
            "update credential set expires_at = now() + make_interval(days => %s) where client_id = %s returning id",
            [days, made.id],
        ).fetchone()
    assert row is not None
    found: UUID = row[0]
    return found


def last_used(world: World, credential_id: UUID, ago: timedelta) -> None:
    with world.database() as database:
        database.execute(
            "update credential set last_used_at = %s where id = %s", [datetime.now(UTC) - ago, credential_id]
        )


def secret_in(opened: OpenedRotation) -> str:
    assert opened.issued is not None
    return opened.issued.secret


def opened_ago(world: World, rotation: Rotation, ago: timedelta) -> None:
    with world.database() as database:
        moved = "opened_at - %(ago)s, overlap_ends_at = overlap_ends_at - %(ago)s"
        database.execute(f"update rotation set opened_at = {moved} where id = %(id)s", {"ago": ago, "id": rotation.id})


def test_a_rotation_from_its_opening_to_its_close(world: World, custodian: Jamb) -> None:
    made = world.client(granted=["berths.view"])
    old_id = aged(world, made, 5)
    assert old_id in {one.credential.id for one in custodian.rotations.due(within=7)}
    opened = custodian.rotations.open(made.id, old_id)
    one, new = opened.rotation, Made(made.id, made.name, secret_in(opened))
    assert (one.state, one.old.id) == (RotationState.OPENED, old_id)
    assert one.overlap_ends_at == one.old.expires_at, "it never outlasts the old one"
    assert old_id not in {due.credential.id for due in custodian.rotations.due(within=7)}
    assert world.ask_token(made).status_code == world.ask_token(new).status_code == 200, "both are valid"

    def state() -> RotationState:
        return custodian.rotations.read(made.id, one.id).state

    wait_until(lambda: state() is RotationState.PROVEN)
    wait_until(lambda: custodian.rotations.read(made.id, one.id).used_since is not None)
    with pytest.raises(StillInUse, match=r"python-httpx.* at 127\.0\.0\.1, last .* quiet on"):
        custodian.rotations.close(made.id, one.id)
    seen = custodian.rotations.read(made.id, one.id)
    assert (seen.users[0].address, seen.users[0].times) == ("127.0.0.1", 1)
    opened_ago(world, one, 4 * DAY)
    last_used(world, old_id, 3 * DAY + timedelta(minutes=1))
    assert state() is RotationState.QUIET
    closed = custodian.rotations.close(made.id, one.id)
    assert (closed.state, closed.forced, closed.old.state) == (RotationState.CLOSED, False, CredentialState.WITHDRAWN)
    assert (world.ask_token(made).status_code, world.ask_token(new).status_code) == (401, 200)
    with pytest.raises(Conflict, match="closed already"):
        custodian.rotations.close(made.id, one.id)
    with world.jamb("auditor") as auditor:
        actions = {entry.action for entry in auditor.ledger.list(client=made.id)}
    assert {"rotation.opened", "rotation.closed", "credential.withdrawn"} <= actions


def test_what_nobody_configured_is_overdue_extended_and_given_up(world: World, custodian: Jamb) -> None:
    made = world.client(granted=["berths.view"])
    (old,) = custodian.secrets.list(made.id)
    one = custodian.rotations.open(made.id, old.id, overlap_days=2).rotation
    for again in (old.id, one.new.id):
        with pytest.raises(Conflict, match="takes part in a rotation already"):
            custodian.rotations.open(made.id, again)
    opened_ago(world, one, 3 * DAY)
    assert custodian.rotations.read(made.id, one.id).state is RotationState.OVERDUE
    with pytest.raises(StillInUse, match="never seen"):
        custodian.rotations.close(made.id, one.id, forced=True)
    assert custodian.rotations.extend(made.id, one.id, 5).state is RotationState.OPENED
    with pytest.raises(BadInput):
        custodian.rotations.extend(made.id, one.id, 1)
    given_up = custodian.rotations.abandon(made.id, one.id, reason="The host is gone")
    assert (given_up.state, given_up.new.state) == (RotationState.ABANDONED, CredentialState.WITHDRAWN)
    assert world.ask_token(made).status_code == 200, "the old one stands as before"
    assert custodian.rotations.open(made.id, old.id).rotation.state is RotationState.OPENED, "and may be rotated again"


def test_forcing_is_written_down_and_withdrawing_by_hand_ends_a_rotation_too(world: World, custodian: Jamb) -> None:
    made = world.client(granted=["berths.view"])
    (old,) = custodian.secrets.list(made.id)
    opened = custodian.rotations.open(made.id, old.id)
    world.ask_token(made)
    world.ask_token(Made(made.id, made.name, secret_in(opened)))
    one = opened.rotation
    wait_until(lambda: custodian.rotations.read(made.id, one.id).state is RotationState.PROVEN)
    assert custodian.rotations.close(made.id, one.id, forced=True, reason="It leaked").forced
    again = custodian.rotations.open(made.id, one.new.id).rotation
    custodian.credentials.withdraw(made.id, again.new.id)
    assert custodian.rotations.read(made.id, again.id).state is RotationState.ABANDONED


def test_a_secret_lost_before_it_was_used_is_issued_again(world: World, custodian: Jamb) -> None:
    made = world.client(granted=["berths.view"])
    (old,) = custodian.secrets.list(made.id)
    first = custodian.rotations.open(made.id, old.id)
    again = custodian.rotations.reissue(made.id, first.rotation.id)
    assert (again.rotation.id, again.rotation.state) == (first.rotation.id, RotationState.OPENED)
    assert world.ask_token(Made(made.id, made.name, secret_in(first))).status_code == 401
    assert world.ask_token(Made(made.id, made.name, secret_in(again))).status_code == 200
    standing = [one for one in custodian.secrets.list(made.id) if one.state is CredentialState.LIVE]
    assert len(standing) == 2, "never three"
    wait_until(lambda: custodian.rotations.read(made.id, first.rotation.id).state is RotationState.PROVEN)
    with pytest.raises(Conflict, match="something uses it already"):
        custodian.rotations.reissue(made.id, first.rotation.id)


def test_a_lost_certificate_is_made_again_with_the_life_that_was_asked_for(world: World, custodian: Jamb) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    old = custodian.credentials.make_certificate(made.id).credential
    first = custodian.rotations.open(made.id, old.id, days=40)
    again = custodian.rotations.reissue(made.id, first.rotation.id)
    assert first.made is not None
    assert again.made is not None
    assert again.made.certificate != first.made.certificate
    assert again.rotation.new.expires_at is not None
    assert (again.rotation.new.expires_at - again.rotation.new.issued_at).days in {39, 40}
    custodian.rotations.abandon(made.id, first.rotation.id)
    keys = {"kind": "issuer", "issuer": "https://builds.example", "subject": "never made here"}
    trusted = custodian.rotations.open(made.id, old.id, successor=keys).rotation
    with pytest.raises(Conflict, match="cannot be made again here"):
        custodian.rotations.reissue(made.id, trusted.id)


SUCCESSORS: dict[str, tuple[dict[str, Any] | None, CredentialKind]] = {
    "one like it": (None, CredentialKind.CERTIFICATE),
    "a secret instead": ({"kind": "secret"}, CredentialKind.SECRET),
    "an outside issuer instead": (
        {"kind": "issuer", "issuer": "https://builds.example", "subject": "rotated"},
        CredentialKind.ISSUER,
    ),
}


@pytest.mark.parametrize(("successor", "kind"), SUCCESSORS.values(), ids=SUCCESSORS.keys())
def test_each_kind_may_follow_another(
    world: World, custodian: Jamb, successor: dict[str, Any] | None, kind: CredentialKind
) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    old = custodian.credentials.make_certificate(made.id, label="Host 3").credential
    opened = custodian.rotations.open(made.id, old.id, successor=successor, days=40)
    assert (opened.rotation.new.kind, opened.rotation.new.label) == (kind, "Host 3")
    assert (opened.made is not None) is (kind is CredentialKind.CERTIFICATE)
    assert (opened.issued is not None) is (kind is CredentialKind.SECRET)
    custodian.rotations.abandon(made.id, opened.rotation.id)


def test_many_are_opened_by_one_call_and_each_that_is_not_says_why(world: World, custodian: Jamb) -> None:
    first, second, third = (world.client(granted=["berths.view"]) for _ in range(3))
    old = {made.id: aged(world, made, 5) for made in (first, second, third)}
    alone = custodian.rotations.open(third.id, old[third.id]).rotation
    wanted = [RotationWanted(client=key, credential=credential, id=uuid4()) for key, credential in old.items()]
    done = custodian.rotations.open_all(wanted, overlap_days=3)
    assert [one.rotation.id for one in done.opened] == [one.id for one in wanted[:2]]
    assert [(one.id, one.problem.detail) for one in done.failed] == [
        (wanted[2].id, f"{alone.old.hint} takes part in a rotation already.")
    ]
    for made, opened in zip((first, second), done.opened, strict=True):
        assert world.ask_token(Made(made.id, made.name, secret_in(opened))).status_code == 200
        assert world.ask_token(made).status_code == 200
    again = custodian.rotations.open_all(wanted[:2])
    assert {error_of(one.problem).code for one in again.failed} == {AlreadyOpened.code}, "they can be issued again"
    with pytest.raises(BadInput, match="cannot be asked for"):
        custodian.rotations.open_all(wanted * MOST_AT_ONCE)


def test_two_custodians_at_once_open_one_rotation(world: World, custodian: Jamb) -> None:
    made = world.client(granted=["berths.view"])
    (old,) = custodian.secrets.list(made.id)
    outcomes: list[str] = []

    def open_it(jamb: Jamb) -> None:
        try:
            outcomes.append(jamb.rotations.open(made.id, old.id).rotation.state.value)
        except JambError as error:
            outcomes.append(error.code)

    with world.second_process() as url, Jamb(url, "quillhaven", AccessToken(world.token("custodian"))) as other:
        everyone = [custodian, other] * 3
        threads = [threading.Thread(target=open_it, args=(one,)) for one in everyone]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    assert sorted(outcomes) == ["conflict"] * 5 + ["opened"]
    assert len([one for one in custodian.secrets.list(made.id) if one.state is CredentialState.LIVE]) == 2


def test_a_forecast_under_another_policy(custodian: Jamb) -> None:
    today, shorter = custodian.rotations.forecast(), custodian.rotations.forecast(secret_default_days=20)
    assert len(today) == len(shorter) == 52
    assert sum(one.secrets for one in shorter) > sum(one.secrets for one in today) > 0
    assert [one.keys for one in shorter] == [one.keys for one in today]
    with pytest.raises(BadInput):
        custodian.rotations.forecast(secret_default_days=0)


def test_lists_are_paged_and_lose_nothing(world: World, custodian: Jamb) -> None:
    many = [world.client(granted=["berths.view"]) for _ in range(3)]
    credentials = {one.id: aged(world, one, 2) for one in many}
    with world.session("custodian") as http:

        def walk(path: str, **params: Any) -> list[dict[str, Any]]:
            found, url = [], f"/api/v1/directories/quillhaven/rotations{path}"
            answer = http.get(url, params={**params, "limit": 1})
            while True:
                body = answer.json()
                found += body["items"]
                assert ("next" in answer.links) is (body["next"] is not None)
                if body["next"] is None:
                    return found
                answer = http.get(answer.links["next"]["url"])

        due = [one["credential"]["id"] for one in walk("/due", within=3)]
        assert {str(one) for one in credentials.values()} <= set(due)
        assert len(due) == len(set(due))
        opened = [custodian.rotations.open(key, one).rotation.id for key, one in credentials.items()]
        under_way = walk("")
        assert {str(one) for one in opened} <= {one["id"] for one in under_way}
        assert [one["overlap_ends_at"] for one in under_way] == sorted(one["overlap_ends_at"] for one in under_way)
        for key, rotation in zip(credentials, opened, strict=True):
            custodian.rotations.abandon(key, rotation)
        ended = [one["id"] for one in walk("", ended=True)]
        assert ended[:3] == [str(one) for one in reversed(opened)], "the latest first"
        assert not set(ended) & {one["id"] for one in walk("")}
        assert http.get("/api/v1/directories/quillhaven/rotations", params={"cursor": "x"}).status_code == 404


def test_owners_see_and_rotate_their_own(world: World) -> None:
    made = world.client(granted=["berths.view"])
    with world.jamb(None) as owner:
        (held,) = owner.secrets.list(made.id)
        one = owner.rotations.open(made.id, held.id).rotation
        assert {row.client_id for row in owner.rotations.list()} >= {made.id}
        owner.rotations.abandon(made.id, one.id)
    with world.jamb("auditor") as auditor, pytest.raises(JambError) as refused:
        auditor.rotations.open(made.id, held.id)
    assert refused.value.code == "forbidden"
