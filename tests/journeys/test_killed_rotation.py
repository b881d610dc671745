"""Many rotations opened by a command that is killed again and again: each client keeps something that works."""

from __future__ import annotations

import random
import signal
import subprocess
import time
from pathlib import Path

from jamb.core.credentials.term import CredentialState
from jamb.core.rotation import RotationState
from tests.cli.run import JAMB, Shell
from tests.world import Made, World

CLIENTS, KILLS = 8, 3


def test_a_bulk_rotation_that_is_killed_at_random_points_ends_whole(world: World, tmp_path: Path) -> None:
    clients = {made.id: made for made in (world.client(granted=["berths.view"], days=1) for _ in range(CLIENTS))}
    shell = Shell(world, tmp_path).signed_in("custodian")
    words = ["rotate", "open-all", "--within", "1", "--save", "out", "--yes"]
    dice, kills = random.Random(11), 0
    while kills < KILLS:
        process = subprocess.Popen(
            [str(JAMB), *words],
            env=shell.environment,
            cwd=tmp_path,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        # Some are killed before anything was asked, most in the midst of it.
        time.sleep(0.5 + dice.random() * 1.2)
        process.send_signal(signal.SIGKILL)
        process.wait()
        kills += 1
        _valid(world, clients)
    done = shell(*words)
    assert done.code == 0, done.err
    with world.jamb("custodian") as custodian:
        mine = [one for one in custodian.rotations.list() if one.client_id in clients]
    assert sorted(one.client_id for one in mine) == sorted(clients), "each in exactly one"
    assert {one.state for one in mine} == {RotationState.OPENED}
    assert _valid(world, clients) == {2}, "never none, never three"
    for made in clients.values():
        (file,) = (tmp_path / "out").glob(f"{made.name.lower().replace(' ', '-')}-*.after")
        lines = file.read_text().splitlines()
        secret = next(line.partition("=")[2] for line in lines if line.startswith("CLIENT_SECRET="))
        assert world.ask_token(Made(made.id, made.name, secret)).status_code == 200
        assert world.ask_token(made).status_code == 200


def _valid(world: World, clients: dict[str, Made]) -> set[int]:
    """Return how many valid secrets the clients have, each number once: one or two, at any moment."""
    with world.jamb("custodian") as custodian:
        works = {CredentialState.LIVE, CredentialState.EXPIRING}
        found = {sum(one.state in works for one in custodian.secrets.list(key)) for key in clients}
    assert found <= {1, 2}
    return found
