"""Sums that are kept of other tables are what these come to, whatever was done, and whoever puts their parts together."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from datetime import UTC, date, datetime, time, timedelta
from uuid import UUID, uuid4

import pytest
from sqlalchemy import text
from sqlmodel import Session, select

from jamb.actions.audit.evaluation import sweep
from jamb.actions.clients.removals import remove
from jamb.actions.consent import requests
from jamb.actions.credentials.adding import SecretIssued, add_credential
from jamb.actions.credentials.credentials import set_credential_state, withdraw
from jamb.core.consent.requests import RequestEvent
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.term import CredentialState
from jamb.store.credentials import expiries
from jamb.store.credentials.credentials import CredentialRow
from jamb.store.directory.sums import PUT_TOGETHER
from tests.actions.rounds.walk import Walk
from tests.actions.scene import NOW, Scene, at_once

_KEPT = "select sum_of, day, sum(amount) from kept_sum group by 1, 2 having abs(sum(amount)) > 0.0001"
_COUNTED = "select sum_of, day, amount from counted_sum where abs(amount) > 0.0001"
DAY = timedelta(days=1)


class EndingWalk(Walk):
    """A walk in which things end, too."""

    @property
    def deeds(self) -> list[Callable[[], object]]:
        some = super().deeds
        some += [self.issue, self.grant, self.take_out] if self.clients else []
        return some + ([self.withdraw, self.turn_credential] if self.credentials else [])

    def grant(self) -> None:
        self.ask()
        _, made = self.requests.pop()
        requests.decide_request(self.act("vera"), made, RequestEvent.GRANT, None, None, "so it is")

    def take_out(self) -> None:
        remove(self.act(), self.drawn.choice(self.clients), "not needed")

    def withdraw(self) -> None:
        withdraw(self.act(), *self.drawn.choice(self.credentials), "not needed")

    def turn_credential(self) -> None:
        set_credential_state(self.act(), *self.drawn.choice(self.credentials), self.drawn.random() < 0.5, "so it is")


def kept(scene: Scene, statement: str = _KEPT) -> dict[tuple[str, date | None], float]:
    with Session(scene.backend.engine) as session:
        return {(sum_of, day): round(amount, 3) for sum_of, day, amount in session.execute(text(statement))}


def put_together(scene: Scene) -> None:
    with scene.backend.engine.begin() as connection:
        connection.exec_driver_sql(PUT_TOGETHER)


@pytest.mark.parametrize("seed", range(2))
def test_sums_are_what_the_rows_come_to(scene: Scene, seed: int) -> None:
    walk = EndingWalk(scene, seed)
    seen: set[str] = set()
    for number in range(80):
        walk.step()
        if number % 3 == 0:
            sweep(scene.backend, "alder", walk.now, clock=lambda: walk.now)
        if number % 7 == 0:
            put_together(scene)
        counted = kept(scene, _COUNTED)
        assert kept(scene) == counted, f"after {walk.at}"
        seen |= {sum_of for sum_of, _ in counted}
    assert {"clients", "expiring", "asked", "granted", "granted weight", "granted weight rose"} <= seen
    put_together(scene)
    with Session(scene.backend.engine) as session:
        apart = "select 1 from kept_sum group by sum_of, day having count(*) > 1"
        assert session.execute(text(apart)).all() == [], "parts of one sum were left apart"


def test_sums_hold_while_several_put_them_together(scene: Scene) -> None:
    clients = [scene.client(f"Board {number}").id for number in range(6)]

    def work(number: int) -> None:
        if number >= len(clients):
            return put_together(scene)
        for _ in range(4):
            made = add_credential(scene.act(), clients[number], SecretIssued(days=30), "host")
            withdraw(scene.act(), clients[number], made.credential.id, "at once")
        add_credential(scene.act(), clients[number], SecretIssued(days=30), "host")
        return put_together(scene)

    _, failed = at_once(work)
    assert failed == {}
    assert kept(scene) == kept(scene, _COUNTED)
    assert kept(scene)["expiring", (NOW + 30 * DAY).date()] == len(clients)


MIDNIGHT = datetime.combine(NOW.date(), time(), UTC) + 7 * DAY
ENDS = [
    NOW - DAY,
    NOW,
    *(NOW + days * DAY + seconds * timedelta(seconds=1) for days in (0, 7, 30, 90, 364) for seconds in (-1, 0, 1)),
    *(MIDNIGHT + seconds * timedelta(seconds=1) for seconds in (-1, 0, 1)),
    NOW + 700 * DAY,
    None,
]


def credential(client_id: str, directory: UUID, ends: datetime | None, **more: datetime) -> CredentialRow:
    common = {"kind": CredentialKind.KEYS.value, "hint": "keys", "label": "", "issued_by": "a test", "keys": []}
    return CredentialRow(
        id=uuid4(), client_id=client_id, directory_id=directory, issued_at=NOW - DAY, expires_at=ends, **common, **more
    )


def test_what_expires_when_is_counted_as_one_by_one(scene: Scene) -> None:
    client, directory = scene.client().id, scene.act().directory
    states = ({}, {"withdrawn_at": NOW}, {"disabled_at": NOW}, {"starts_at": NOW + DAY}, {"starts_at": NOW})
    with Session(scene.backend.engine) as session:
        session.add_all(credential(client, directory.id, ends, **more) for ends in ENDS for more in states)
        session.commit()
    put_together(scene)
    with Session(scene.backend.engine) as session:
        for now in (NOW, NOW + timedelta(hours=5), NOW + 2 * DAY, MIDNIGHT, NOW + 31 * DAY):
            warn = directory.policy.warn_before
            works = {CredentialState.LIVE, CredentialState.EXPIRING}
            live = [row for row in session.exec(select(CredentialRow)) if row.state(now, warn) in works]
            left = [row.expires_at - now for row in live if row.expires_at is not None]
            bands = [sum(after < ends <= most for ends in left) for after, most in BANDS]
            told = expiries.in_bands(directory.id, now).of(session)
            assert [many for _, many in told] == [*bands, len(live) - len(left)], now
            weeks = Counter((ends - timedelta(microseconds=1)) // (7 * DAY) for ends in left)
            found = expiries.by_week(directory.id, now, 53, 6).of(session)
            assert {one.week: one.in_week for one in found} == {week: n for week, n in weeks.items() if week < 53}, now
            assert Counter(one.week for one in found) == {week: min(n, 6) for week, n in weeks.items() if week < 53}


BANDS = [
    (timedelta(0), 7 * DAY),
    (7 * DAY, 30 * DAY),
    (30 * DAY, 90 * DAY),
    (90 * DAY, timedelta.max),
]
