"""Reads that may be old go to a standby, say how old they may be, and come back to the primary where it is too old."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import httpx
import psycopg
import pytest

from tests.operating import HERE
from tests.soak.estate import Estate, estate
from tests.world import PORT, answers, wait_until

A_LITTLE_OLD = {"Cache-Control": "no-transform, max-age=30"}


@pytest.fixture
def followed(tmp_path: Path) -> Iterator[Estate]:
    with estate(tmp_path, PORT + 33, with_standby=True) as made:
        assert made.standby is not None
        standby = made.standby.url.rsplit("/", 1)[0] + f"/{made.cluster.database}"
        made.settings |= {"JAMB_STANDBY_URL": standby, "JAMB_METRICS_TOKEN": "counted"}
        made.kill(1)
        with psycopg.connect(made.cluster.url, autocommit=True) as database:
            database.execute("alter system reset synchronous_standby_names")
            database.execute("select pg_reload_conf()")
        wait_until(lambda: answers(f"{made.bases[1]}/ready"))
        yield made


def names(answer: httpx.Response) -> set[str]:
    return {one["name"] for one in answer.raise_for_status().json()["items"]}


def test_what_may_be_old_is_read_at_the_standby_and_says_how_old(followed: Estate) -> None:
    assert followed.standby is not None
    with closing(followed.signed_in(followed.bases[1])) as http:

        def clients(**headers: str) -> httpx.Response:
            return http.get(f"{HERE}/clients", headers=headers)

        def made(name: str) -> None:
            body = {"name": name, "purpose": "Reads", "kind": "service", "owners": ["ines@alder.example"]}
            http.post(f"{HERE}/clients", json=body).raise_for_status()

        made("Early")
        wait_until(lambda: "Early" in names(clients(**A_LITTLE_OLD)))
        assert int(clients(**A_LITTLE_OLD).headers["Age"]) <= 30
        assert "Age" not in clients().headers
        assert "Age" in http.get(f"{HERE}/audit/report", params={"form": "html"}).headers
        with psycopg.connect(followed.standby.url, autocommit=True) as standby:
            standby.execute("select pg_wal_replay_pause()")
            made("Late")
            assert "Late" in names(clients()), "whoever says nothing of an age reads what is"
            old = clients(**A_LITTLE_OLD)
            assert "Late" not in names(old)
            time.sleep(2)
            assert int(clients(**A_LITTLE_OLD).headers["Age"]) >= 2, "it grows old"
            new = clients(**{"Cache-Control": "max-age=1"})
            assert "Late" in names(new), "too old for this caller: the primary answers"
            assert "Age" not in new.headers
            standby.execute("select pg_wal_replay_resume()")
        wait_until(lambda: "Late" in names(clients(**A_LITTLE_OLD)))
        told = http.get("/metrics", headers={"Authorization": "Bearer counted"}).text
        assert "jamb_standby_age_seconds " in told
        followed.standby.stop(mode="immediate")
        for path in (f"{HERE}/clients", f"{HERE}/audit/report?form=csv", f"{HERE}/audit/bundle"):
            answer = http.get(path, headers=A_LITTLE_OLD)
            assert (answer.status_code, "Age" in answer.headers) == (200, False), path
