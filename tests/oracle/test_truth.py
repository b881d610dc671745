"""The audit against the slow judge: what should be found is found, as bad as it should be, and nothing else."""

from __future__ import annotations

import os
import secrets
from collections import Counter
from datetime import UTC, datetime

import pytest

from jamb.actions.audit.evaluation import sweep
from jamb.actions.base.backend import Backend
from jamb.core.audit.evaluate import RULES
from tests.adversary.scene import backend_of
from tests.oracle.draw import Draw
from tests.oracle.facts import DAY
from tests.oracle.literal import RULES as LITERAL
from tests.oracle.literal import judge
from tests.oracle.load import found, load
from tests.world import World

# An estate in which every rule finds something; others have no data that some rules are about.
EVERY_RULE = 6
# `make truth` tries many, and larger ones.
FIRST = int(os.environ.get("JAMB_TRUTH_FIRST", str(EVERY_RULE)))
SEEDS = range(FIRST, FIRST + int(os.environ.get("JAMB_TRUTH_SEEDS", "1")))
CLIENTS = int(os.environ.get("JAMB_TRUTH_CLIENTS", "400"))
# Days after which the clock alone has moved: only what came due is looked at.
LATER = (0, 1, 3, 20, 80)


def compare(backend: Backend, url: str, seed: int) -> Counter[str]:
    """Return how many findings there were of each rule. Raises `AssertionError` with what differs."""
    now, slug = datetime.now(UTC).replace(microsecond=0), f"truth-{secrets.token_hex(5)}"
    estate = Draw(seed, CLIENTS, now, secrets.randbits(120)).estate
    directory = load(backend, url, slug, estate, now)
    judged: Counter[str] = Counter()
    for days in LATER:
        then = now + days * DAY
        sweep(backend, slug, then, clock=lambda then=then: then)
        kept, wanted = found(url, directory.id), judge(estate, then)
        judged.update(rule for rule, *_ in wanted)
        assert kept == wanted, (
            f"seed {seed}, after {days} days: {len(kept - wanted)} too many {sorted(kept - wanted)[:6]}, "
            f"{len(wanted - kept)} missed {sorted(wanted - kept)[:6]}; the first is of "
            f"{estate.clients[min(kept ^ wanted)[1]]}"
        )
    return judged


def test_the_judge_knows_every_rule() -> None:
    assert set(LITERAL) == {rule.id for rule in RULES}


@pytest.mark.parametrize("seed", SEEDS)
def test_precision_recall_and_severity_are_one(world: World, seed: int) -> None:
    backend = backend_of(world)
    try:
        judged = compare(backend, world.cluster.url, seed)
    finally:
        backend.engine.dispose()
    print(f"seed {seed}: {sum(judged.values())} findings of {CLIENTS} clients at {len(LATER)} moments")
    if seed == EVERY_RULE:
        assert {rule.id for rule in RULES} == set(judged), "every rule finds something"
