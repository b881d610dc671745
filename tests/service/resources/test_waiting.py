"""Guards that wait for what is new: they hear of each kind within seconds, and nobody else waits for them."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass
from uuid import UUID, uuid4

import httpx
import pytest

from jamb.client import Jamb
from jamb.core.directory.roles import HolderKind
from jamb.core.reach import ReachKind
from jamb.guard import OwnToken
from jamb.service.running import waiting
from jamb.service.running.waiting import Watch, Watched
from jamb.store.resources.taken_away import Mark
from jamb.wire.resources.reach import CollectionSent, ReachSent
from tests.own_loop import in_own_loop
from tests.world import Made, World

WAIT = 25
# Far less than the wait, and far more than a look.
SOON = 12
ONLY_NORTH = ReachSent(kind=ReachKind.ONLY, collections=["north"])


class Waiter:
    """The guard of Berths, as far as it reads what was taken away. `base`: the process that it asks."""

    def __init__(self, world: World, base: str = "") -> None:
        self.own = json.loads((world.home / "guards.json").read_text())["berths"]
        self.http = httpx.Client(timeout=WAIT + 10)
        self._url = f"{self.own['api']}/revocations".replace(world.base_url, base or world.base_url)
        token = OwnToken(
            self.own["issuer"], self.own["api"], self.own["client_id"], self.own["client_secret"], self.http
        )
        self._header = token.header()

    def ask(self, **headers: str) -> httpx.Response:
        params: dict[str, str | int] = {"resource": "berths"}
        named = {name.replace("_", "-"): value for name, value in headers.items()}
        return self.http.get(self._url, params=params, headers=self._header | named)

    def waits(self, before: httpx.Response, seconds: int = WAIT) -> httpx.Response:
        return self.ask(If_None_Match=before.headers["ETag"], Prefer=f"wait={seconds}")


@dataclass
class Waits:
    """A guard that waits. `before`: what it knows; `asked`: what it asks for."""

    waiter: Waiter
    before: httpx.Response
    asked: Future[httpx.Response]

    def hears(self, enough: Callable[[httpx.Response], bool]) -> None:
        """Let it go on until it hears enough: what runs out in other tests is told, too."""
        ends, answer = time.monotonic() + SOON, self.asked.result(timeout=SOON)
        while not enough(answer):
            assert time.monotonic() < ends
            answer = self.waiter.waits(answer)


@contextmanager
def waiting_guard(waiter: Waiter, seconds: int = WAIT) -> Iterator[Waits]:
    """Let it wait while the block goes on."""
    with closing(waiter.http), ThreadPoolExecutor(1) as pool:
        for _ in range(3):
            before = waiter.ask().raise_for_status()
            asked = pool.submit(waiter.waits, before, seconds)
            # It is answered at once where it does not wait.
            time.sleep(1.5)
            if not asked.done():
                break
            assert asked.result().status_code == 200, "it did not wait, and nothing was new"
        assert not asked.done()
        yield Waits(waiter, before, asked)


def withdrawn(world: World, made: Made) -> None:
    with world.jamb("approver") as approver:
        approver.consent.withdraw(made.id, "berths", ["berths.view"])


def narrowed(world: World, made: Made) -> None:
    with world.jamb("approver") as approver:
        approver.consent.change_reach(made.id, "berths", ["berths.view"], ONLY_NORTH)


def narrowed_late(world: World, made: Made) -> None:
    """By a change that came before the one that the guard knows, waited for it, and was committed after it."""
    with world.database() as database:
        database.execute(
            "update consent set narrowed_at = now() - interval '30 seconds' where client_id = %s and permission = %s",
            [made.id, "arrivals.view"],
        )


def revoked(world: World, made: Made) -> None:
    with world.jamb("approver") as approver:
        approver.clients.revoke_tokens(made.id)


def expired(world: World, made: Made) -> None:
    with world.database() as database:
        database.execute("update consent set expires_at = now() + interval '1 second' where client_id = %s", [made.id])


def lost_a_role(world: World, made: Made) -> None:
    with world.jamb() as steward:
        steward.roles.withdraw("lookout", HolderKind.CLIENT, [made.id])


def person_lost_a_role(world: World, made: Made) -> None:
    with world.jamb() as steward:
        person = next(iter(steward.people.list(q=made.name)))
        steward.roles.withdraw("lookout", HolderKind.PERSON, [str(person.id)])


def collection_added(world: World, made: Made) -> None:
    with world.jamb() as steward:
        sent = [
            CollectionSent(path=one.path, title=one.title, objects=list(one.objects))
            for one in steward.resources.collections("berths").collections
        ]
        mole = CollectionSent(path="mole", title="Mole", objects=["mole-1"])
        steward.resources.replace_collections("berths", [*sent, mole])
        steward.resources.replace_collections("berths", sent)


CHANGES = [withdrawn, narrowed, narrowed_late, revoked, expired, lost_a_role, person_lost_a_role, collection_added]


def set_up(world: World, steward: Jamb, change: Callable[..., None]) -> Made:
    made = world.client(granted=["berths.view", "arrivals.view"])
    if change is narrowed_late:
        narrowed(world, made)
    if change is lost_a_role:
        steward.roles.assign("lookout", HolderKind.CLIENT, [made.id])
    if change is person_lost_a_role:
        person = steward.people.add(f"{uuid4().hex}@quillhaven.example", made.name)
        steward.roles.assign("lookout", HolderKind.PERSON, [str(person.id)])
    return made


@pytest.mark.parametrize("change", CHANGES, ids=lambda change: change.__name__)
def test_who_waits_hears_within_seconds_of_what_was_taken_away(
    world: World, change: Callable[[World, Made], None]
) -> None:
    with world.jamb() as steward:
        made = set_up(world, steward, change)
    with waiting_guard(Waiter(world)) as guard:
        known = concerning(made, guard.before)
        change(world, made)
        guard.hears(lambda answer: concerning(made, answer) != known)


def concerning(made: Made, answer: httpx.Response) -> list[object]:
    """Return what a guard is told of this client, of people, and of which collections there are."""
    said = answer.raise_for_status().json()
    of_it = [one for one in said["revocations"] if one["client_id"] in (made.id, "")]
    return [*of_it, said["collections_revision"]]


def test_who_waits_is_let_in_anew_before_it_is_answered(world: World) -> None:
    waiter = Waiter(world)
    with waiting_guard(waiter) as guard, world.jamb("approver") as approver:
        approver.clients.revoke_tokens(waiter.own["client_id"])
        guard.hears(lambda answer: answer.status_code == 403)


def test_where_nothing_is_new_the_answer_says_so_when_the_wait_ends(world: World) -> None:
    began = time.monotonic()
    with waiting_guard(Waiter(world), 3) as guard:
        answer = guard.asked.result(timeout=SOON)
    assert time.monotonic() - began >= 3
    assert (answer.status_code, answer.headers["Preference-Applied"], answer.content) == (304, "wait=3", b"")


@pytest.mark.parametrize(
    "sent",
    [
        {"Prefer": "wait=0"},
        {"Prefer": "respond-async"},
        {"Prefer": "wait=soon"},
        # Its proof is for one look.
        {"Prefer": f"wait={WAIT}", "DPoP": "a.b.c"},
        {},
    ],
    ids=str,
)
def test_who_does_not_prefer_to_wait_is_answered_at_once(world: World, sent: dict[str, str]) -> None:
    waiter = Waiter(world)
    with closing(waiter.http):
        tag, began = waiter.ask().raise_for_status().headers["ETag"], time.monotonic()
        answer = waiter.ask(If_None_Match=tag, **sent)
        assert (answer.status_code, "Preference-Applied" in answer.headers) == (304, False)
        assert waiter.ask(Prefer=f"wait={WAIT}").status_code == 200, "it knows nothing yet"
    assert time.monotonic() - began < SOON


def test_a_process_that_ends_lets_nobody_wait(world: World) -> None:
    with ExitStack() as running:
        base = running.enter_context(world.second_process())
        with waiting_guard(Waiter(world, base)) as guard:
            began = time.monotonic()
            # It is told to end, and waited for.
            running.close()
            assert guard.asked.result(timeout=1).status_code == 304
        assert time.monotonic() - began < SOON


def test_a_process_lets_so_many_wait_and_looks_for_all_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(waiting, "MOST_WAITING", 3)
    monkeypatch.setattr(waiting, "LOOK_SECONDS", 0.01)
    looks: list[set[UUID]] = []
    old, new = Mark("a", 1, 1), Mark("b", 1, 1)
    changed, same = Watched(uuid4(), old), Watched(uuid4(), old)

    async def marks(ids: set[UUID]) -> dict[UUID, Mark]:
        looks.append(ids)
        return {changed.resource_id: new, same.resource_id: old}

    async def wait() -> list[bool]:
        watch = Watch(marks)  # type: ignore[arg-type]
        looking = asyncio.create_task(watch.look())
        tasks = [asyncio.create_task(watch.changed(one, 0.5)) for one in (changed, same, same)]
        await asyncio.sleep(0)
        assert watch.is_full
        heard = [await one for one in tasks]
        assert not watch.is_full
        watch.end()
        assert watch.is_full
        looking.cancel()
        return heard

    assert in_own_loop(wait()) == [True, False, False]
    assert looks[0] == {changed.resource_id, same.resource_id}
    assert len(looks) > 2
