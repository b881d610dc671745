"""A generated estate: the same for the same seed; what the audit finds in it is what was planted, no more and no less."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlmodel import Session

from jamb.actions.audit.evaluation import sweep
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.core.audit.evaluate import RULES
from jamb.core.audit.rules import past
from jamb.demo.estate import DECOYS, FAULTS, plan_estate
from jamb.store.audit import findings
from jamb.store.connections.engine import make_engine
from tests.cli.run import Shell
from tests.world import World, unique


def test_the_same_seed_plans_the_same_and_every_rule_has_a_fault() -> None:
    one, same, other = plan_estate(300, 4), plan_estate(300, 4), plan_estate(300, 5)
    assert one.clients == same.clients
    assert one.planted == same.planted
    assert one.clients != other.clients
    # An estate is loaded, not lived: its ledger tells nothing that rules could look back at.
    assert {fault.rule for fault in one.planted} == {rule.id for rule in RULES} - {rule.id for rule in past.RULES}
    assert len(FAULTS) * 4 <= 300, "every fault occurs"
    assert len(DECOYS) * 6 <= 300, "and every decoy"


def test_precision_and_recall_are_one(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path)
    slug = unique("estate").lower().replace(" ", "-")
    settings = {"JAMB_HOME": str(world.home), "JAMB_PORT": str(world.port)}
    wanted = ("--clients", "320", "--seed", "17", "--directory", slug, "--days", "40", "--save", "planted.jsonl")
    made = shell("demo", "estate", *wanted, **settings)
    assert made.code == 0, made.err
    again = shell("demo", "estate", *wanted[:4], **settings)
    assert (again.code, "already" in again.err) == (2, True), "an estate is made once"
    planted = {tuple(json.loads(line).values()) for line in (tmp_path / "planted.jsonl").read_text().splitlines()}
    engine = make_engine(world.cluster.url)
    sealer: Any = None  # to look takes no key
    assert sweep(Backend(engine, sealer, world.base_url), slug, datetime.now(UTC)).left == 0
    with Session(engine) as session:
        rows = findings.findings_of(session, find_directory(session, slug).id)
        found = [(row.client_id, row.rule, row.subject) for row, _ in rows]
    engine.dispose()
    assert len(found) == len(set(found))
    assert set(found) == planted
