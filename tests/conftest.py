"""One demo for the whole run, on a port, a database and a folder of its own, started as a user starts it."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Generator, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from jamb.core.credentials.kinds import KeyType
from jamb.demo.cluster import Cluster
from jamb.store.credentials.keypairs import make_key_pair
from tests.console.browser import browser, open_console
from tests.leftovers import leftovers
from tests.world import HOME, PORT, ROOT, World, answers, never_synced, wait_until

__all__ = ["browser", "nothing_added_of_late", "open_console", "world"]

# Nothing here speaks TLS, and to read all the authorities that a machine trusts takes longer than a request: one will do.
ONE_AUTHORITY = ROOT / ".jamb-test" / f"authority-{PORT}.pem"
ONE_AUTHORITY.parent.mkdir(exist_ok=True)
ONE_AUTHORITY.write_bytes(
    make_key_pair("", "Nobody", "Nobody", KeyType.P256, datetime.now(UTC), datetime.now(UTC) + timedelta(1)).certificate
)
os.environ["SSL_CERT_FILE"] = str(ONE_AUTHORITY)

# How fast the machine is today is no property of the code, and a run says the same of the same code as the one before.
# Other examples, and more of them, are drawn by `make fuzz`.
EXAMPLES = int(os.environ.get("JAMB_EXAMPLES", "0"))
settings.register_profile(
    "jamb",
    deadline=None,
    suppress_health_check=list(HealthCheck),
    max_examples=EXAMPLES or 40,
    derandomize=not EXAMPLES,
    database=None,
)
settings.load_profile("jamb")


@contextmanager
def started_demo() -> Iterator[World]:
    """Start the demo as a user does, from nothing; stop it when the block ends."""
    Cluster(HOME, PORT + 2).stop(mode="immediate")
    shutil.rmtree(HOME, ignore_errors=True)
    HOME.mkdir(parents=True)
    environment = {**os.environ, "JAMB_HOME": str(HOME), "JAMB_PORT": str(PORT), "JAMB_LOG_LEVEL": "debug"}
    # Tests say themselves when it is time to tell.
    environment["JAMB_NOTICES_CRON"] = "0 0 1 1 *"
    environment.pop("JAMB_DATABASE_URL", None)
    output = HOME / "demo.out"
    with output.open("wb") as file:
        process = subprocess.Popen([sys.executable, "-m", "jamb.demo"], env=environment, stdout=file, stderr=file)
    try:
        wait_until(lambda: process.poll() is not None or b"Ctrl-C stops everything" in output.read_bytes(), seconds=300)
        assert process.poll() is None, output.read_text()
        assert answers(f"http://127.0.0.1:{PORT}/ready")
        made = World(HOME, PORT)
        never_synced(made.cluster.url)
        yield made
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(timeout=60)


# What reads the demo as it was made comes before all that changes it. Then what takes long, the longest before the
# others, so that all workers are done at the same time.
FIRST = (
    "tests/demo/test_scenario",
    "tests/contract",
    "tests/service/notices",
    "tests/journeys/test_guide",
    "tests/demo",
    "tests/attacks",
    "tests/adversary",
    "tests/faults",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: [not item.nodeid.startswith(name) for name in FIRST])


@pytest.fixture(autouse=True, scope="module")
def nothing_added_of_late(request: pytest.FixtureRequest) -> None:
    """What one person adds counts together for weeks: what the tests of other files added would, too."""
    items: list[pytest.Function] = request.session.items  # type: ignore[assignment]
    if any("world" in item.fixturenames for item in items if item.module is request.module):
        found: World = request.getfixturevalue("world")
        with found.database() as database:
            database.execute("delete from addition")


# An answer that takes longer than this is worth telling of where a test fails.
SLOW_MS = 2_000
SHOWN = 40


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(
    item: pytest.Item, call: pytest.CallInfo[None]
) -> Generator[None, Any, pytest.TestReport]:
    """Tell of a failed test what the service warned of while it ran, and what it was slow to answer."""
    report: pytest.TestReport = yield
    log = HOME / "service.log"
    if report.failed and log.exists():
        since = datetime.fromtimestamp(call.start, UTC).isoformat()
        lines = [line for line in map(json.loads, log.read_text().splitlines()) if line.get("at", "") >= since]
        told = [line for line in lines if line["level"] not in {"info", "debug"} or line.get("ms", 0) > SLOW_MS]
        if told:
            report.sections.append(("What the service told", "\n".join(map(str, told[-SHOWN:]))))
    return report


@pytest.fixture(scope="session")
def world() -> Iterator[World]:
    with started_demo() as made:
        yield made
        # At the end of the run, over all that the tests did.
        assert leftovers(made) == []
