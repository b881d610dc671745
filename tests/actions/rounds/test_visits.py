"""Of many directories a round visits those in which something is new, and of the others each in its turn."""

from __future__ import annotations

from datetime import datetime, timedelta

import psycopg
import pytest

from jamb.actions.audit.evaluation import sweep
from jamb.actions.base.act import act_in
from jamb.actions.base.all_directories import OPERATOR
from jamb.actions.directory.directories import change_policy, open_directory
from jamb.actions.notices import notices, rounds
from jamb.core.directory.policy import DirectoryPolicy
from tests.actions.scene import NOW, Scene

YARDS = [f"yard-{number}" for number in range(5)]


def visit(scene: Scene, now: datetime) -> list[str]:
    """Do what a round does, and return where."""
    found = rounds.directories_to_visit(scene.backend, now)
    for slug in found:
        sweep(scene.backend, slug, now)
        notices.tell(scene.backend, slug, now)
    return found


def test_what_is_new_is_visited_at_once_and_all_else_in_turn(scene: Scene, monkeypatch: pytest.MonkeyPatch) -> None:
    for slug in YARDS:
        open_directory(scene.backend, slug, slug, f"{slug}.example", DirectoryPolicy(), OPERATOR, NOW)
    monkeypatch.setattr(rounds, "MOST_QUIET", 2)
    minutes = iter(NOW + timedelta(minutes=number) for number in range(1, 60))
    assert set(visit(scene, next(minutes))) == {"alder", *YARDS}
    # Nothing is new: all six within three rounds, and again within the next three.
    for _ in range(2):
        turns = [visit(scene, next(minutes)) for _ in range(3)]
        assert [len(turn) for turn in turns] == [2, 2, 2]
        assert {slug for turn in turns for slug in turn} == {"alder", *YARDS}
    # A deed, what the audit is to look at again, and what comes due by the clock are each visited in the next round.
    monkeypatch.setattr(rounds, "MOST_QUIET", 0)
    assert visit(scene, next(minutes)) == []
    now = next(minutes)
    change_policy(act_in(scene.backend, "yard-3", now, OPERATOR), {"digest_hours": 7})
    assert visit(scene, now) == ["yard-3"]
    client = scene.client()
    assert visit(scene, next(minutes)) == ["alder"]
    with psycopg.connect(scene.url) as database:
        database.execute("insert into audit_stale (client_id) values (%s)", [client.id])
    assert visit(scene, next(minutes)) == ["alder"]
    assert visit(scene, next(minutes)) == []
    due = NOW + timedelta(minutes=58)
    with psycopg.connect(scene.url) as database:
        database.execute("update audit_state set next_at = %s where client_id = %s", [due, client.id])
    assert visit(scene, due - timedelta(seconds=1)) == []
    assert visit(scene, due) == ["alder"]
