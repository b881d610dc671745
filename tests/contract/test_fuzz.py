"""A bounded part of what `make fuzz` does without a bound."""

from __future__ import annotations

import re

from tests.contract.fuzz import fuzz
from tests.world import World

# The same requests in every run; `make fuzz` makes others.
EXAMPLES, SEED = 1, 20261128


def test_what_the_service_answers_is_what_its_description_says(world: World) -> None:
    done = fuzz(world, examples=EXAMPLES, seed=SEED)
    found, _, _ = done.stdout.partition("WARNINGS")
    assert done.returncode == 0, found[-12_000:] + done.stderr[-2000:]
    tested = re.search(r"Tested: (\d+)", done.stdout)
    assert tested is not None
    assert int(tested[1]) > 140
    assert "5 Server error" not in done.stdout
