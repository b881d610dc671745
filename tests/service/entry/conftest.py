"""The client of the tests of tokens for people."""

from __future__ import annotations

import pytest

from tests.service.entry.roster import BACK, Roster, made
from tests.world import World


@pytest.fixture
def roster(world: World) -> Roster:
    return made(world, "web", [BACK], ["berths.assign"])
