"""Calls at Jamb's own API are written together: each once, whatever threads, outages and other processes do."""

from __future__ import annotations

from datetime import timedelta

import psycopg
import pytest
from sqlalchemy import create_engine
from sqlalchemy.exc import OperationalError

from jamb.actions.base.own_uses import OwnUses
from jamb.core.ladder import Use
from jamb.core.permissions import AccessKind
from tests.actions.scene import MANY, NOW, Scene, at_once

DAY = timedelta(days=1)


def read(minute: int = 0, day: int = 0) -> Use:
    at = NOW + day * DAY + timedelta(minutes=minute)
    return Use("clients.read", AccessKind.APPLICATION, at.date(), 1, at)


def counted(scene: Scene) -> list[tuple[int, int]]:
    """The days from now on which something is counted, and how many calls."""
    with psycopg.connect(scene.url) as database:
        rows = database.execute("select day, calls, last_at from usage order by day").fetchall()
    assert all(last.date() == day for day, _, last in rows)
    return [((day - NOW.date()).days, calls) for day, calls, _ in rows]


def test_each_call_is_counted_once(scene: Scene) -> None:
    with psycopg.connect(scene.url) as database:
        (own,) = database.execute("select id from resource where name = 'jamb'").fetchone() or ()
    client, uses, others = scene.client(), OwnUses(), OwnUses()
    assert uses.write(scene.backend.engine) == 0

    def call(number: int) -> None:
        for minute in range(50):
            uses.note(own, client.id, read(minute))
            if minute % 10 == number:
                uses.write(scene.backend.engine)

    at_once(call)
    others.note(own, client.id, read(7))
    uses.note(own, client.id, read(day=1))
    for process in (uses, others):
        process.write(scene.backend.engine)
    assert counted(scene) == [(0, 50 * MANY + 1), (1, 1)]
    # An outage holds them back and loses none; what no table takes is left out, and holds up no other.
    uses.note(own, client.id, read())
    uses.note(own, "nobody-at-all", read())
    with pytest.raises(OperationalError):
        uses.write(create_engine("postgresql+psycopg://127.0.0.1:1/away"))
    assert uses.write(scene.backend.engine) == 1
    assert uses.write(scene.backend.engine) == 0
    assert counted(scene) == [(0, 50 * MANY + 2), (1, 1)]
