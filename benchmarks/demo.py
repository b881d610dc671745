"""The demo on which everything is measured, in a folder and on ports of its own."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from jamb.demo.cluster import Cluster

HOME = Path(__file__).parent.parent / ".jamb-bench"
# Above the ports of the tests: each of their workers takes forty from 8540 on.
PORT = 8900


def fresh() -> None:
    """Remove what a run before left behind."""
    Cluster(HOME, PORT + 2).stop(mode="immediate")
    shutil.rmtree(HOME, ignore_errors=True)


@contextmanager
def demo() -> Iterator[float]:
    """Start the demo; yield the seconds until it was ready; stop it."""
    environment = {**os.environ, "JAMB_HOME": str(HOME), "JAMB_PORT": str(PORT)}
    environment.pop("JAMB_DATABASE_URL", None)
    # What is measured is not mixed with the rounds of the service itself.
    environment["JAMB_NOTICES_CRON"] = "0 0 1 1 *"
    started = time.perf_counter()
    command = [sys.executable, "-m", "jamb.demo"]
    process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    for line in process.stdout:
        if line.startswith("Jamb is ready"):
            break
    else:
        sys.exit("the demo did not start")
    try:
        yield time.perf_counter() - started
    finally:
        process.send_signal(signal.SIGINT)
        process.communicate(timeout=60)
