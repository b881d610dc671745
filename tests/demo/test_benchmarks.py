"""The benchmarks still run: each reads what it measures, with sizes that say nothing."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path
from xml.etree import ElementTree

from benchmarks.administration import READS
from benchmarks.growth import READS as GROWING

from tests.world import ROOT


def test_the_reads_of_a_steward_are_measured_beside_the_floor_and_an_earlier_run(tmp_path: Path) -> None:
    base, kept = tmp_path / "base.json", tmp_path / "kept.json"
    base.write_text(json.dumps({"figures": {"administration, whoami, floors": 1000, "tokens, gone": 2}}))
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks", "administration", "growth"],
        cwd=ROOT,
        env={**os.environ, "CLIENTS": "60", "SIZES": "70,80", "QUICK": "1", "BASE": str(base), "JSON": str(kept)},
        capture_output=True,
        text=True,
        timeout=240,
        check=False,
    )
    assert done.returncode == 0, done.stderr[-2000:]
    assert [name for name in READS if not re.search(rf"^  {re.escape(name)} +\d", done.stdout, re.MULTILINE)] == []
    noted = json.loads(kept.read_text())["figures"]
    assert {f"administration, {name}, floors" for name in READS} <= noted.keys()
    assert re.search(r"^  administration, whoami, floors +[\d.]+ +1,000.00 +0.0\d  \*$", done.stdout, re.MULTILINE)
    assert "tokens, gone: in one of the two only" in done.stdout
    grown = {f"growth, {name}, {size} clients, ms" for name in (*GROWING, "a token by secret") for size in (70, 80)}
    assert grown <= noted.keys()
    drawing = [sys.executable, "-m", "benchmarks.drawing", str(kept), str(tmp_path / "drawn")]
    subprocess.run(drawing, cwd=ROOT, check=True, timeout=60)
    for picture in (tmp_path / "drawn").iterdir():
        assert ElementTree.parse(picture).getroot().attrib["aria-label"]


def test_a_part_that_there_is_not_is_named() -> None:
    command = [sys.executable, "-m", "benchmarks", "moonlight"]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode != 0
    assert "no part moonlight" in done.stderr
