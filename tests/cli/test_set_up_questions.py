"""A set-up that asks: six questions from nothing to a client, each with an answer proposed; and one that waits."""

from __future__ import annotations

import json
import os
import pty
import select
import subprocess
import threading
import time
from pathlib import Path

from tests.cli.run import JAMB, Shell
from tests.world import World, unique, wait_until

# Seconds: as much as a slow machine takes.
PATIENCE = 120


def answered(shell: Shell, answers: list[tuple[str, str]], *words: str) -> tuple[int, str]:
    """Run a command at a terminal of its own, answering each question as it comes; return how it ended, and all it said."""
    mine, theirs = pty.openpty()
    with subprocess.Popen(
        [str(JAMB), *words],
        env={**shell.environment, "TERM": "dumb", "COLUMNS": "200"},
        stdin=theirs,
        stdout=theirs,
        stderr=theirs,
        cwd=shell.folder,
    ) as running:
        os.close(theirs)
        said, left, until = "", list(answers), time.monotonic() + PATIENCE
        while time.monotonic() < until:
            if select.select([mine], [], [], 0.2)[0]:
                try:
                    said += os.read(mine, 4096).decode(errors="replace")
                except OSError:
                    break
            if left and said.splitlines() and left[0][0] in said.splitlines()[-1]:
                os.write(mine, (left.pop(0)[1] + "\n").encode())
            if running.poll() is not None and not select.select([mine], [], [], 0)[0]:
                break
        code = running.wait(timeout=PATIENCE)
    os.close(mine)
    assert not left, said
    return code, said


def test_six_questions_lead_from_nothing_to_a_client(world: World, tmp_path: Path) -> None:
    shell, name = Shell(world, tmp_path).signed_in("steward"), unique("Asked for")
    code, said = answered(
        shell,
        [
            ("Name of the client", name),
            ("What it is for", "Shows the berths"),
            ("Folder for its files", ""),
            ("What must it do", "list berths"),
        ],
        "set-up",
    )
    assert code in {0, 3}, said
    folder = tmp_path / name.lower().replace(" ", "-")
    assert {one.name for one in folder.iterdir()} >= {"client.json", "client.env"}
    with world.jamb("auditor") as auditor:
        found = auditor.clients.read(auditor.clients.find(name).id)
    assert [one.permission for one in found.resources[0].rungs] == ["berths.view"], "the smallest that opens it"
    assert [one.name for one in found.client.owners] == [world.person("steward")["name"]]


def test_without_a_terminal_what_is_missing_is_named(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path).signed_in("steward")
    told = shell("set-up", "--name", unique("Silent"))
    assert (told.code, "--purpose: sent nothing" in told.err) == (2, True)


def test_a_set_up_waits_for_the_approvers(world: World, tmp_path: Path) -> None:
    shell, name = Shell(world, tmp_path).signed_in("registrar"), unique("Waits")
    ran: list[tuple[int, str]] = []
    words = ["set-up", "--name", name, "--purpose", "Waits for a yes", "--ask", "berths:berths.view"]

    def run() -> None:
        done = Shell(world, tmp_path, cold=True).signed_in("registrar")(
            *words, "--proof", "none", "--save", "waits", "--wait", "2", "-o", "json"
        )
        ran.append((done.code, done.out))

    waiting = threading.Thread(target=run)
    waiting.start()
    with world.jamb("approver") as approver:
        wait_until(lambda: any(one.client_name == name for one in approver.requests.list()), seconds=PATIENCE)
        (request,) = [one for one in approver.requests.list() if one.client_name == name]
        approver.requests.grant(request.id)
    waiting.join(PATIENCE)
    ((code, out),) = ran
    told = json.loads(out)
    assert (code, told["consent"], told["did"][-1]) == (0, "granted", "approvers consented")
    assert shell("clients", "show", name).code == 0
