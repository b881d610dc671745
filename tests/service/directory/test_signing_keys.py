"""Signing keys by whoever manages the directory: listed, rotated and withdrawn over every face."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import islice
from pathlib import Path

import pytest

from jamb.client import Conflict, Forbidden, Jamb, NotFound
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.wire.directory.signing_keys import SigningKey
from tests import patient
from tests.cli.run import Shell
from tests.world import World


def settled(jamb: Jamb) -> str:
    """Take back what another test published; return the key that signs."""
    keys = jamb.signing_keys.list()
    for key in keys:
        if key.state == "coming":
            jamb.signing_keys.withdraw(key.id, "Left by a test")
    return signing(keys)


def signing(keys: Iterable[SigningKey]) -> str:
    """The key that signs by ES256: each algorithm has one, and both may have been made at the same moment."""
    return next(key.id for key in keys if (key.state, key.algorithm) == ("signs", SigningAlgorithm.ES256))


def kids(world: World) -> set[str]:
    keys = patient.get(f"{world.base_url}/d/quillhaven-trial/jwks").raise_for_status().json()["keys"]
    return {key["kid"] for key in keys}


def test_a_steward_rotates_and_withdraws_the_keys_of_their_directory(world: World, tmp_path: Path) -> None:
    steward = Shell(world, tmp_path).signed_in("steward", "quillhaven-trial")
    with world.jamb("steward", "quillhaven-trial") as jamb:
        first = settled(jamb)
    # One that signed before may be published still.
    before = kids(world)
    made = steward("signing-keys", "rotate", "--reason", "Yearly", "-o", "json").json()
    assert (made["state"], kids(world)) == ("coming", {*before, made["id"]})
    again = steward("signing-keys", "rotate")
    assert (again.code, "is published and signs from" in again.err) == (2, True), again.err
    shown = steward("signing-keys", "list").out
    assert "signs soon" in shown
    assert first in shown
    unknown = steward("signing-keys", "withdraw", "ffff", "--reason", "Seen in a log", "--yes")
    assert (unknown.code, "There is no signing key" in unknown.err) == (2, True), unknown.err
    unsure = steward("signing-keys", "withdraw", made["id"][:8], "--reason", "Seen in a log")
    assert (unsure.code, "Nothing was changed" in unsure.err) == (2, True), unsure.err
    done = steward(
        "signing-keys", "withdraw", made["id"][:8].upper(), "--reason", "Seen in a log", "--yes", "-o", "json"
    ).json()
    assert done == {"withdrawn": made["id"], "signs": first}
    assert kids(world) == before
    states = {one["id"]: one["state"] for one in steward("signing-keys", "list", "-o", "json").json()}
    assert (states[first], states[made["id"]]) == ("signs", "withdrawn")


def test_nobody_else_may_and_what_is_not_there_is_said(world: World) -> None:
    with world.jamb("auditor") as auditor:
        key = signing(auditor.signing_keys.list())
        for attempt in (auditor.signing_keys.rotate, lambda: auditor.signing_keys.withdraw(key, "No")):
            with pytest.raises(Forbidden):
                attempt()
    with world.jamb() as steward:
        with pytest.raises(NotFound, match="no signing key"):
            steward.signing_keys.withdraw("none", "Gone")
        assert settled(steward) == key
        made = steward.signing_keys.rotate("To be taken back")
        with pytest.raises(Conflict):
            steward.signing_keys.rotate()
        assert steward.signing_keys.withdraw(made.id, "Taken back").signs == key
        said = [(entry.action, entry.reason) for entry in islice(steward.ledger.list(), 2)]
    assert said == [("signing-key.withdrawn", "Taken back"), ("signing-key.made", "To be taken back")]
