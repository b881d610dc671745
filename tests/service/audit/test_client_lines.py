"""The list of clients: from what the audit kept of each, and from the client itself where it changed since."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlmodel import Session

from jamb.actions.base.lookups import find_directory, weights_of
from jamb.client import Jamb
from jamb.core.audit.excess import granted_weight
from jamb.core.clients.next_steps import NextStepKind
from jamb.core.directory.roles import HolderKind
from jamb.core.lists import Attention
from jamb.store.audit import client_facts
from jamb.store.connections.engine import make_engine
from tests.world import World, unique, wait_until

# What use changes between two reads.
MOVING = {"last_used_at"}


def lines(jamb: Jamb) -> dict[str, dict[str, object]]:
    return {one.id: one.model_dump(exclude=MOVING) for one in jamb.clients.list()}


def test_a_line_says_what_the_client_itself_says(world: World) -> None:
    with world.jamb("steward") as steward:
        while steward.findings.look_again().left:
            pass
        listed = lines(steward)
        assert len(listed) > 20

        def itself(client_id: str) -> dict[str, object]:
            return steward.clients.read(client_id).client.model_dump(exclude=MOVING)

        for client_id in [one for one, line in listed.items() if itself(one) != line]:
            # A use that guards told of since the list was read: both tell it.
            wait_until(lambda there=client_id: lines(steward)[there] == itself(there))


def test_a_change_is_in_the_list_at_once_and_after_it_was_looked_at(world: World) -> None:
    with world.jamb("steward") as steward:
        made = steward.clients.register(unique("Nobody's"), "Has no owner, which is a finding")
        while steward.findings.look_again().left:
            pass
        before = lines(steward)[made.id]
        assert before["ladder"] == {"asked": 0, "granted": 0, "used": 0, "waiting": 0}
        steward.asks.add(made.id, "berths", ["berths.view"])
        changed = lines(steward)[made.id]
        assert changed["ladder"] == {"asked": 1, "granted": 0, "used": 0, "waiting": 1}
        assert [step["kind"] for step in changed["next_steps"]] == ["consent", "credential"]  # type: ignore[attr-defined]
        while steward.findings.look_again().left:
            pass
        kept = lines(steward)[made.id]
        assert kept["ladder"] == changed["ladder"]
        finding = next(one for one in steward.findings.list(client=made.id))
        steward.findings.waive(finding.id, days=3, reason="On purpose")
        assert lines(steward)[made.id]["findings"] == kept["findings"] - 1  # type: ignore[operator]


def test_the_last_use_is_the_latest_call_or_token(world: World) -> None:
    made = world.client(granted=["berths.view"])
    token = world.ask_token(made).json()["access_token"]
    world.call_berths(token).raise_for_status()
    with world.jamb("steward") as steward:

        def told() -> bool:
            line = next(one for one in steward.clients.list(q=made.name))
            rungs = [rung for place in steward.clients.read(made.id).resources for rung in place.rungs]
            used = [rung.last_used_at for rung in rungs if rung.last_used_at is not None]
            return bool(used) and line.last_used_at is not None and line.last_used_at >= max(used)

        wait_until(told)


def test_what_a_client_weighs_is_told_alike_with_and_without_its_use(world: World) -> None:
    now, engine = datetime.now(UTC), make_engine(world.cluster.url)
    try:
        with Session(engine) as session:
            directory = find_directory(session, "quillhaven")
            loaded = client_facts.load(session, directory.id, directory.policy, now)
            whole = {one.row.id: granted_weight(one.picture.resources) for one in loaded}
            assert weights_of(session, list(whole), now) == whole
            assert len(set(whole.values())) > 5
    finally:
        engine.dispose()


def test_what_a_role_gives_does_not_wait_for_consent(world: World) -> None:
    made = world.client(asked=["arrivals.view"], secret=False)
    with world.jamb("steward") as steward:
        assert made.id in {one.id for one in steward.clients.list(attention=Attention.WAITING)}
        steward.roles.assign("quay-hand", HolderKind.CLIENT, [made.id])
        for _ in "changed", "looked at":
            line = next(one for one in steward.clients.list(q=made.name))
            assert (line.ladder.asked, line.ladder.waiting) == (1, 0)
            assert NextStepKind.CONSENT not in {step.kind for step in line.next_steps}
            assert made.id not in {one.id for one in steward.clients.list(attention=Attention.WAITING)}
            while steward.findings.look_again().left:
                pass
