"""What the guard makes of tokens after any history of changes: never more than they said, never more than holds now."""

from __future__ import annotations

import json
import random
import time
from collections.abc import Callable, Iterator

import httpx
import pytest

import jamb.guard.reach
import jamb.guard.token
from jamb.client import Jamb, JambError
from jamb.core.directory.roles import HolderKind
from jamb.core.reach import ReachKind
from jamb.guard import OwnToken, Refused, Revocations, RevocationsReader, TokenClaims, verify
from jamb.guard.keys import IssuerKeys
from jamb.guard.reach import revocations_of
from jamb.guard.verify import bounded, require_permission
from jamb.wire.consent.consent import Terms
from jamb.wire.resources.reach import CollectionSent, ReachSent
from tests.world import BERTHS, World, wait_until

OBJECTS = ("north-2", "north-12", "south-3", "fuel-1")
# A permission, and the operation by which it is tried.
TRIED = {"berths.view": "berths.read", "berths.assign": "occupant.assign"}
Rights = set[tuple[str, str]]


@pytest.fixture(scope="module")
def http() -> Iterator[httpx.Client]:
    with httpx.Client(timeout=10) as opened:
        yield opened


@pytest.fixture(scope="module")
def revocations(world: World, http: httpx.Client) -> Callable[[], Revocations]:
    """Return a way to read what the guard of Berths would hear at this moment."""
    own = json.loads((world.home / "guards.json").read_text())["berths"]
    token = OwnToken(own["issuer"], own["api"], own["client_id"], own["client_secret"], http)
    reader = RevocationsReader(f"{own['api']}/revocations", "berths", token, http)

    def read() -> Revocations:
        reader.refresh()
        found = reader.revocations
        assert found is not None
        return found

    return read


def test_a_guard_whose_tokens_were_revoked_hears_again_by_another(
    world: World, http: httpx.Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    own = json.loads((world.home / "guards.json").read_text())["berths"]
    token = OwnToken(own["issuer"], own["api"], own["client_id"], own["client_secret"], http)
    reader = RevocationsReader(f"{own['api']}/revocations", "berths", token, http)
    reader.refresh()
    with world.jamb("approver") as approver:
        approver.clients.revoke_tokens(own["client_id"])
    for age in (60.0, 0.0):
        # What is young is kept: to fetch one after the other would not help whoever may not.
        monkeypatch.setattr(jamb.guard.token, "YOUNG_SECONDS", age)
        with pytest.raises(httpx.HTTPStatusError):
            reader.refresh()
    reader.refresh()


def test_behind_a_proxy_that_gives_up_sooner_a_guard_asks_again_and_again(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(jamb.guard.reach, "PAUSE_SECONDS", 0.3)
    preferred: list[str] = []
    said = {"revocations": [], "collections": {}, "collections_revision": 1}

    def proxy(request: httpx.Request) -> httpx.Response:
        if request.url.path == "/token":
            return httpx.Response(200, json={"access_token": "t", "expires_in": 300})
        if request.url.path != "/revocations":
            return httpx.Response(200, json={"token_endpoint": "https://issuer.example/token"})
        preferred.append(request.headers.get("Prefer", ""))
        if len(preferred) == 2:
            # It starts anew: that says nothing of who waits.
            raise httpx.ConnectError("refused", request=request)
        if preferred[-1] not in ("", "wait=0"):
            time.sleep(0.6)
            raise httpx.ReadTimeout("it gave up", request=request)
        return httpx.Response(200, json=said, headers={"ETag": '"a"'})

    with httpx.Client(transport=httpx.MockTransport(proxy)) as http:
        token = OwnToken("https://issuer.example", "https://issuer.example/api", "guard", "secret", http)
        reader = RevocationsReader("https://issuer.example/revocations", "berths", token, http)
        reader.start()
        wait_until(lambda: len(preferred) > 5)
        reader.close()
    waits = f"wait={jamb.guard.reach.WAIT_SECONDS}"
    assert preferred[:3] == ["", waits, waits]
    assert set(preferred[3:]) == {"wait=0"}
    assert reader.revocations == Revocations({}, {})


def reach(dice: random.Random) -> ReachSent:
    kind = dice.choice(list(ReachKind))
    paths = (
        []
        if kind is ReachKind.EVERYWHERE
        else dice.sample(["north", "north/inner", "south", "fuel"], dice.randint(1, 2))
    )
    return ReachSent(kind=kind, collections=sorted(paths))


def step(dice: random.Random, client_id: str, steward: Jamb, approver: Jamb) -> str:
    """Change something about what the client holds; what cannot be done as things stand is no change."""
    permission = dice.choice(list(TRIED))
    done = dice.choice(["grant", "reach", "withdraw", "role", "no role", "revoked"])
    try:
        if done == "grant":
            approver.consent.grant(client_id, terms=Terms(reach={"berths": reach(dice)}))
        elif done == "reach":
            approver.consent.change_reach(client_id, "berths", [permission], reach(dice))
        elif done == "withdraw":
            approver.consent.withdraw(client_id, "berths", [permission])
        elif done == "role":
            role = dice.choice(["lookout", "quay-hand"])
            steward.roles.assign(role, HolderKind.CLIENT, [client_id], reach=reach(dice))
        elif done == "no role":
            steward.roles.withdraw(dice.choice(["lookout", "quay-hand"]), HolderKind.CLIENT, [client_id])
        else:
            approver.clients.revoke_tokens(client_id)
    except JambError:
        return "nothing"
    return done


def rights(claims: TokenClaims, heard: Revocations) -> Rights:
    """Return what the guard lets this token do."""
    try:
        now = bounded(claims, heard)
    except Refused:
        return set()
    found = set()
    for permission in TRIED:
        for name in OBJECTS:
            try:
                require_permission(now, [permission], name)
            except Refused:
                continue
            found.add((permission, name))
    return found


def held_now(auditor: Jamb, client_id: str) -> Rights:
    """Return what the decision says of the client at this moment."""
    found = set()
    for name in OBJECTS:
        allowed = {
            one.operation for one in auditor.clients.reach(client_id, "berths", object=name).decisions if one.allowed
        }
        found |= {(permission, name) for permission, operation in TRIED.items() if operation in allowed}
    return found


@pytest.mark.parametrize("seed", range(6))
def test_after_any_history_old_tokens_do_no_more_than_they_said_and_than_holds_and_fresh_ones_all_that_holds(
    world: World, revocations: Callable[[], Revocations], http: httpx.Client, seed: int
) -> None:
    dice = random.Random(seed)
    made = world.client()
    keys = IssuerKeys(f"{world.base_url}/d/quillhaven", http)
    kept: list[tuple[TokenClaims, Rights]] = []
    history = []
    with world.jamb("steward") as steward, world.jamb("approver") as approver, world.jamb("auditor") as auditor:
        steward.asks.add(made.id, "berths", list(TRIED))
        approver.consent.grant(made.id)
        for _ in range(9):
            history.append(step(dice, made.id, steward, approver))
            allowed = held_now(auditor, made.id)
            answer = world.ask_token(made)
            heard = revocations()
            if answer.status_code == 200:
                claims = verify(answer.json()["access_token"], f"{world.base_url}/d/quillhaven", BERTHS, keys.get)
                assert rights(claims, heard) == allowed, ("a fresh token", history)
                kept.append((claims, allowed))
            else:
                assert allowed == set(), ("no token, though something holds", history)
            for claims, said in kept:
                now = rights(claims, heard)
                assert now <= said, ("more than it said", history)
                assert now <= allowed, ("more than holds", history)
    assert len(set(history) - {"nothing"}) >= 2, "the history was one"


def test_a_notice_is_refused_whole_when_it_is_not_understood() -> None:
    good = {"client_id": "c", "kind": None, "subject": None, "until": 1, "permissions": ["p"], "reach": []}
    body = {"revocations": [good], "collections": {"north": ["n1"]}}
    assert revocations_of(body, {}).taken_away("c", "c", 1) == {"p": ((),)}
    assert revocations_of(body, {}).taken_away("c", "c", 2) == {}
    assert revocations_of(body, {}).taken_away("other", "other", 1) == {}
    for broken in (
        {**good, "reach": [{}]},
        {**good, "reach": [{"only": [], "all_but": []}]},
        {**good, "until": "soon"},
    ):
        with pytest.raises((ValueError, KeyError)):
            revocations_of({**body, "revocations": [broken]}, {})


SUBJECTS = {
    "as itself": ("application", None, "c", True),
    "as itself, though the entry is for people": ("delegated", None, "c", False),
    "for a person, any": ("delegated", None, "p1", True),
    "for the person of the entry": ("delegated", "p1", "p1", True),
    "for another person": ("delegated", "p1", "p2", False),
    "of either kind": (None, None, "p2", True),
}


@pytest.mark.parametrize(("kind", "subject", "presented", "touched"), SUBJECTS.values(), ids=SUBJECTS.keys())
def test_an_entry_touches_the_tokens_of_its_kind_and_person_alone(
    kind: str | None, subject: str | None, presented: str, touched: bool
) -> None:
    entry = {"client_id": "c", "kind": kind, "subject": subject, "until": 9, "permissions": None, "reach": []}
    heard = revocations_of({"revocations": [entry], "collections": {}}, {})
    assert (heard.taken_away("c", presented, 5) is None) is touched


def test_a_bounded_token_is_refused_until_the_guard_has_heard_once_and_a_free_one_is_not() -> None:
    free = TokenClaims("c", "c", frozenset({"p"}), 1, 2)
    assert bounded(free, None) is free
    limited = TokenClaims("c", "c", frozenset({"p"}), 1, 2, {"p": ((),)})
    with pytest.raises(Refused) as refused:
        bounded(limited, None)
    assert (refused.value.status, refused.value.reason) == (503, "no-revocations")


def test_collections_come_once_and_anew_when_they_changed(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    own = json.loads((world.home / "guards.json").read_text())["berths"]
    came: list[bool] = []

    def note(answer: httpx.Response) -> None:
        answer.read()
        if "revocations" in answer.url.path:
            came.append(answer.json()["collections"] is not None)

    with httpx.Client(timeout=10, event_hooks={"response": [note]}) as http, world.jamb() as steward:
        token = OwnToken(own["issuer"], own["api"], own["client_id"], own["client_secret"], http)
        reader = RevocationsReader(f"{own['api']}/revocations", "berths", token, http)

        def heard() -> list[str]:
            reader.refresh()
            assert reader.revocations is not None
            return sorted(reader.revocations.members)

        first = heard()
        assert (first, came) == (heard(), [True, False])
        before = steward.resources.collections("berths").collections
        sent = [CollectionSent(path=one.path, title=one.title, objects=list(one.objects)) for one in before]
        steward.resources.replace_collections(
            "berths", [*sent, CollectionSent(path="mole", title="Mole", objects=["mole-1"])]
        )
        try:
            assert sorted([*first, "mole"]) == heard() == heard()
            monkeypatch.setattr(jamb.guard.reach, "COLLECTIONS_SECONDS", 0.0)
            heard()
        finally:
            steward.resources.replace_collections("berths", sent)
    assert came == [True, False, True, False, True]
