"""The benchmarks still run: each reads what it measures, with sizes that say nothing."""

from __future__ import annotations

import os
import re
import subprocess
import sys

from benchmarks.administration import READS

from tests.world import ROOT


def test_the_reads_of_a_steward_are_measured_beside_the_floor() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks", "administration"],
        cwd=ROOT,
        env={**os.environ, "CLIENTS": "60", "QUICK": "1"},
        capture_output=True,
        text=True,
        timeout=240,
        check=False,
    )
    assert done.returncode == 0, done.stderr[-2000:]
    assert [name for name in READS if not re.search(rf"^  {re.escape(name)} +\d", done.stdout, re.MULTILINE)] == []


def test_a_part_that_there_is_not_is_named() -> None:
    command = [sys.executable, "-m", "benchmarks", "moonlight"]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode != 0
    assert "no part moonlight" in done.stderr
