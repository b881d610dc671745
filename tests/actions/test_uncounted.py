"""A guard that could not count all calls says so, and for that time the audit calls nothing unused."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from uuid import uuid4

import pytest

from jamb.actions.audit.evaluation import sweep
from jamb.actions.clients.dossier import read_dossier
from jamb.actions.consent import asks, consent
from jamb.actions.resources import usage
from jamb.actions.resources.resources import publish, read_resource
from jamb.core.errors import Unsuited
from jamb.core.ladder import UsedState
from jamb.core.permissions import AccessKind
from jamb.store.audit import findings
from jamb.wire.clients.clients import Client
from tests.actions.scene import NOW, QUAY, Scene

DAY = timedelta(days=1)


def unused(scene: Scene, client: Client, day: int) -> tuple[bool, UsedState]:
    """Whether the audit of that day says that it was never used, and what the dossier says."""
    act = scene.act(at=day * DAY)
    sweep(act.backend, act.slug, act.now, clock=lambda: act.now)
    with act.read() as session:
        found = {row.rule for row, _ in findings.findings_of(session, act.directory.id) if row.client_id == client.id}
    return "permission-never-used" in found, read_dossier(act, client.id).resources[0].rungs[0].used


def test_nothing_is_called_unused_by_calls_that_nobody_counted(scene: Scene) -> None:
    client, guard = scene.client(), scene.client("Quay guard", "ines")
    publish(scene.act(), QUAY, guard_client_id=guard.id)
    asks.ask(scene.act("tom"), client.id, "quay", ["quay.read"], AccessKind.APPLICATION, "Reads")
    consent.grant(scene.act("vera"), client.id, None, "Fine")
    assert unused(scene, client, 13) == (False, UsedState.TOO_EARLY)
    assert unused(scene, client, 14) == (True, UsedState.NEVER)

    def report(day: int, *times: tuple[timedelta, timedelta]) -> None:
        act = scene.act(at=day * DAY)
        act = replace(act, actor=replace(act.actor, kind="client", id=guard.id))
        usage.report(act, "quay", uuid4(), [], uncounted=[(act.now - ago, act.now - until) for ago, until in times])

    report(15, (timedelta(hours=2), timedelta(hours=1, minutes=5)))
    assert unused(scene, client, 15) == (False, UsedState.TOO_EARLY)
    assert unused(scene, client, 28) == (False, UsedState.TOO_EARLY)
    kept = read_resource(scene.act(at=28 * DAY), "quay")
    assert kept.uncounted_since == NOW + 15 * DAY - timedelta(hours=2)
    assert kept.uncounted_until == NOW + 15 * DAY - timedelta(hours=1), "the full hour after it"
    assert unused(scene, client, 29) == (True, UsedState.NEVER)
    # One that goes on is one time; another begins anew, and an older one changes nothing.
    report(30, (timedelta(hours=3), timedelta(hours=2)), (timedelta(hours=2), timedelta(hours=1)))
    report(31, (timedelta(days=2), timedelta(days=2)))
    kept = read_resource(scene.act(at=31 * DAY), "quay")
    assert (kept.uncounted_since, kept.uncounted_until) == (NOW + 30 * DAY - timedelta(hours=3), NOW + 30 * DAY)
    for times in (
        (timedelta(hours=-1), timedelta(hours=-1)),
        (timedelta(0), timedelta(hours=1)),
        (timedelta(days=40),) * 2,
    ):
        with pytest.raises(Unsuited, match="uncounted"):
            report(32, times)
