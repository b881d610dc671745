"""What was looked at by a clock that was ahead is looked at anew by one that is right."""

from __future__ import annotations

from datetime import datetime, timedelta

from jamb.actions.audit.evaluation import look_again_at_the_future, sweep
from jamb.actions.credentials.adding import SecretIssued, add_credential
from jamb.store.audit import findings
from tests.actions.scene import NOW, Scene

DAY = timedelta(days=1)


def found(scene: Scene) -> set[str]:
    act = scene.act()
    with act.read() as session:
        return {row.rule for row, _ in findings.findings_of(session, act.directory.id)}


def test_findings_of_a_clock_that_was_ahead_do_not_stay(scene: Scene) -> None:
    client = scene.client()
    add_credential(scene.act(), client.id, SecretIssued(days=30), "job")

    def look(at: datetime) -> set[str]:
        look_again_at_the_future(scene.backend, "alder", at)
        sweep(scene.backend, "alder", at, clock=lambda: at)
        return found(scene)

    before = look(NOW)
    assert "credential-expired" not in before
    assert "credential-expired" in look(NOW + 100 * DAY)
    assert look(NOW + timedelta(minutes=1)) == before
    assert look(NOW + 100 * DAY) >= before, "and when the time has come it is found"
