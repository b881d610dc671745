"""Every fault once, while callers work: nothing acknowledged is lost, doubled or half done. Longer: `make soak`."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.soak.run import FAULTS, lost_primary, soak
from tests.world import PORT

# With a reserve for a busy machine.
BACK_SECONDS = 30.0


@pytest.mark.parametrize("fronted", [False, True], ids=["two services", "behind a proxy and a pooler"])
def test_a_promoted_standby_has_all_that_was_acknowledged_and_is_found(tmp_path: Path, fronted: bool) -> None:
    told = lost_primary(tmp_path, PORT + 33, fronted=fronted)
    assert told.wrong == []
    assert told.clients > 2
    assert max(map(max, told.back.values())) < BACK_SECONDS, dict(told.back)


def test_what_was_acknowledged_is_so_after_every_fault(tmp_path: Path) -> None:
    told = soak(tmp_path, PORT + 34, 0, seed=7, faults=list(FAULTS))
    assert told.wrong == []
    assert told.clients > 5
    assert max(map(max, told.back.values())) < BACK_SECONDS, dict(told.back)
