"""A clock that jumps: nothing is issued, found or forgotten by it, and all is as before when it is right again."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

import httpx
import jwt
import pytest

from tests import patient
from tests.operating import HERE, PASSWORD, Operator, client_in, opened, operating, steward_of, token
from tests.world import ROOT, World, answers, choose_password, wait_until

FAKE = next(iter(Path("/usr/lib").glob("*/faketime/libfaketimeMT.so.1")), None)


@contextmanager
def serving(operator: Operator, clock: Path) -> Iterator[str]:
    """A service whose clock is set by what a file says; the time that passes is not."""
    clock.write_text("+0")
    log = (operator.home.parent / "log").open("w")
    settings = {
        "LD_PRELOAD": str(FAKE),
        "FAKETIME_TIMESTAMP_FILE": str(clock),
        "FAKETIME_NO_CACHE": "1",
        "DONT_FAKE_MONOTONIC": "1",
    }
    process = subprocess.Popen(
        [sys.executable, "-m", "jamb.service", "serve"],
        env=operator.environment(**settings),
        cwd=ROOT,
        stdout=log,
        stderr=log,
    )
    try:
        base = f"http://127.0.0.1:{operator.port}"
        wait_until(lambda: answers(f"{base}/ready"))
        yield base
    finally:
        process.terminate()
        process.wait(20)
        log.close()


def found(console: httpx.Client) -> list[tuple[str, str, str]]:
    rows = console.get(f"{HERE}/audit/findings").raise_for_status().json()["items"]
    return sorted((row["id"], row["rule"], row["first_seen_at"]) for row in rows)


@pytest.mark.skipif(FAKE is None, reason="needs Debian's faketime, which tools/setup installs")
def test_by_a_clock_that_jumps_nothing_is_issued_found_or_forgotten(world: World, tmp_path: Path) -> None:
    with operating(world, tmp_path, world.port + 17) as operator:
        link, clock = opened(operator), tmp_path / "clock"
        with serving(operator, clock) as base:
            choose_password(link, PASSWORD)
            with steward_of(base) as console:
                form = client_in(console, ["revocations.read"])
                before, count = found(console), len(console.get(f"{HERE}/ledger").json()["items"])
                for jump, words in (("+100d", "ahead of"), ("-2h", "behind")):
                    clock.write_text(jump)
                    refused = patient.post(f"{base}/d/alder/token", data=form)
                    assert (refused.status_code, refused.json()["error"]) == (503, "temporarily_unavailable")
                    for answer in (
                        console.get(f"{HERE}/audit/findings"),
                        console.post(f"{HERE}/clients", json={"name": "In another year", "purpose": "x"}),
                    ):
                        assert answer.status_code == 503
                        assert answer.json()["type"] == "urn:jamb:problem:clock-wrong"
                        assert answer.headers["Retry-After"] == "30"
                    told = patient.get(f"{base}/ready")
                    assert (told.status_code, words in told.json()["reason"]) == (503, True)
                    clock.write_text("+0")
                    wait_until(lambda: answers(f"{base}/ready"))
                    claims = jwt.decode(token(base, form), options={"verify_signature": False})
                    assert abs(claims["iat"] - datetime.now(UTC).timestamp()) < 60
                    assert found(console) == before
                    assert len(console.get(f"{HERE}/ledger").json()["items"]) == count
