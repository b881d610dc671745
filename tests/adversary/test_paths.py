"""The escalation paths of the audit and the judgement at the door agree, on directories of any make."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from uuid import UUID

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlmodel import Session

from jamb.actions.audit.escalation import graph_of
from jamb.actions.audit.evaluation import sweep
from jamb.actions.base.act import Act, Caller
from jamb.actions.base.backend import Backend, console_client_id
from jamb.actions.base.lookups import find_client
from jamb.actions.directory import roles
from jamb.actions.entry.access import admit_also
from jamb.actions.judgement.judging import Wanted, harmless, judge_acting
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import Forbidden, NeedsAgreement, NobodyToAgree
from jamb.core.reach import EVERYWHERE, Reach
from jamb.store.base.work import Actor
from tests.adversary.scene import SETUP, Scene, backend_of, made_scene
from tests.world import World

CLIENTS = ("Strong", "Bounded", "Small", "Pipeline", "Empty")
HELD = st.sampled_from(["registrar", "custodian", "steward", "auditor", "opener", "watch"])
OWNED = st.builds("{} {}".format, st.sampled_from(CLIENTS), st.sampled_from(["full", "edit"]))


@pytest.fixture(scope="module")
def backend(world: World) -> Iterator[Backend]:
    made = backend_of(world)
    yield made
    made.engine.dispose()


def at_the_door(scene: Scene, person: Actor, client_id: str) -> bool:
    """Tell whether somebody is let act as a client with nobody else's yes, by an owner's name or by a secret."""
    now, caller = datetime.now(UTC), Caller(console_client_id(scene.directory.slug), UUID(person.id))
    for operation, kind in (("owners.change", ActKind.OWNERS), ("credentials.issue", ActKind.CREDENTIAL)):
        try:
            act = Act(scene.backend, scene.directory, person, now, caller=caller)
            admit_also(act, operation, client_id)
            with act.rehearse() as unit:
                client = find_client(unit.session, scene.directory, client_id)
                wanted = Wanted(kind, client.name, {}, client.id)
                judge_acting(unit, client, [person.id], wanted)
        except (Forbidden, NeedsAgreement, NobodyToAgree):
            continue
        return True
    return False


@given(
    held=st.lists(st.tuples(st.sampled_from(["ada", "di"]), HELD, st.none() | st.sampled_from(CLIENTS)), max_size=4),
    owned=st.lists(OWNED, max_size=3, unique_by=lambda one: one.split()[0]),
    lent=st.lists(st.tuples(st.sampled_from(CLIENTS), st.sampled_from(["opener", "custodian"])), max_size=2),
)
@settings(max_examples=8, derandomize=True, database=None)
def test_an_arrow_is_drawn_where_the_door_is_open(
    world: World,
    backend: Backend,
    held: list[tuple[str, str, str | None]],
    owned: list[str],
    lent: list[tuple[str, str]],
) -> None:
    scene = made_scene(world, backend, (), owned)
    now = datetime.now(UTC)

    def assign(role: str, kind: HolderKind, holder: str, reach: Reach) -> None:
        roles.assign_role(Act(backend, scene.directory, SETUP, now), role, kind, [holder], reach, None)

    for name, role, client in held:
        bounded = client is not None and role in {"registrar", "custodian"}
        reach = Reach.only(scene.clients[client]) if bounded and client is not None else EVERYWHERE
        assign(role, HolderKind.PERSON, scene.actors[name].id, reach)
    for client, role in lent:
        reach = Reach.only(scene.clients["Strong"]) if role == "custodian" else EVERYWHERE
        assign(role, HolderKind.CLIENT, scene.clients[client], reach)
    sweep(backend, scene.directory.slug, now, None)
    with Session(backend.engine) as session:
        _, arrows = graph_of(session, scene.directory, now)
    steps = {(one.source, one.target) for one in arrows}
    for name in ("ada", "di"):
        person = scene.actors[name]
        with Act(scene.backend, scene.directory, person, now).rehearse() as unit:
            for client_id in harmless(unit, list(scene.clients.values())):
                # Of many at once nothing is let through that is weighed alone.
                wanted = Wanted(ActKind.CREDENTIAL, "", {}, client_id)
                judge_acting(unit, find_client(unit.session, scene.directory, client_id), [person.id], wanted)
                assert not unit.session.new, (name, client_id, held, owned, lent)
        for client, client_id in scene.clients.items():
            drawn = (person.id, client_id) in steps or {(person.id, "every"), ("every", client_id)} <= steps
            assert drawn == at_the_door(scene, person, client_id), (name, client, held, owned, lent)
