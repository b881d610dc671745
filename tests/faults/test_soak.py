"""Every fault once, while callers work: nothing acknowledged is lost, doubled or half done. Longer: `make soak`."""

from __future__ import annotations

from pathlib import Path

from tests.soak.run import FAULTS, soak
from tests.world import PORT

# With a reserve for a busy machine.
BACK_SECONDS = 20.0


def test_what_was_acknowledged_is_so_after_every_fault(tmp_path: Path) -> None:
    told = soak(tmp_path, PORT + 34, 0, seed=7, faults=list(FAULTS))
    assert told.wrong == []
    assert told.clients > 5
    assert max(map(max, told.back.values())) < BACK_SECONDS, dict(told.back)
