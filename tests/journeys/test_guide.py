"""The guide and the README as they are printed: every line runs, in order, and takes as many steps as is said."""

from __future__ import annotations

import os
import pty
import re
import shlex
import subprocess
from pathlib import Path

import pytest
import typer.main

from jamb.cli.main import command_line
from tests.cli.run import Shell
from tests.world import ROOT, World, unique

GUIDE = ROOT / "docs" / "guide"
PAGES = sorted(GUIDE.glob("*.md"))
README = (ROOT / "README.md").read_text()
FENCE = re.compile(r"^```sh (\S+)\n(.*?)^```", re.MULTILINE | re.DOTALL)
# What is told to end so, and why.
CODES = {
    "jamb set-up": (0, 3),  # an approver has to say yes
    "jamb charter compare": (0, 1),  # something differs
    "jamb explain": (0, 1),  # it is refused
    "jamb reach test": (0, 1),  # it can do nothing there
    "jamb audit --fail-on": (0, 1),  # something was found
}
# Who has no role here: an owner.
ROLES = {"owner": None, "custodian": "registrar"}


class Reader:
    """Somebody with the page open: types its lines one after the other, under names of their own."""

    def __init__(self, world: World, folder: Path, text: str) -> None:
        self.world, self.folder = world, folder
        mine = unique("").strip()
        self._renamed = {f'"{name}"': f'"{name} {mine}"' for name in re.findall(r'--name "([^"]+)"', text)}
        self._renamed |= {"--once ": f"--once {mine}", "8440": str(world.port), "8441": str(world.port + 1)}

    def types(self, line: str, who: str) -> str:
        """Run a line, with a terminal that says yes; return what it printed."""
        for printed, here in self._renamed.items():
            line = line.replace(printed, here)
        role, _, directory = who.partition("@")
        shell = Shell(self.world, self.folder).signed_in(ROLES.get(role, role), directory or "quillhaven")
        environment = {**shell.environment, "PATH": f"{ROOT / '.venv/bin'}:{os.environ['PATH']}"}
        ours, theirs = pty.openpty()
        os.write(ours, b"y\n" * 3)
        done = subprocess.run(
            ["bash", "-o", "pipefail", "-c", line],
            cwd=self.folder,
            env=environment,
            stdin=theirs,
            capture_output=True,
            text=True,
            timeout=90,
            check=False,
        )
        os.close(ours)
        os.close(theirs)
        allowed = next((codes for command, codes in CODES.items() if line.startswith(command)), (0,))
        assert done.returncode in allowed, f"{who}: {line}\n{done.stdout}{done.stderr}"
        assert "Traceback" not in done.stderr
        return done.stdout


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_every_line_of_the_guide_runs(world: World, tmp_path: Path, page: Path) -> None:
    text = page.read_text()
    reader = Reader(world, tmp_path, text)
    for who, lines in FENCE.findall(text):
        for line in lines.strip().splitlines():
            reader.types(line, who)


def test_every_line_of_the_journey_in_the_readme_runs(world: World, tmp_path: Path) -> None:
    journey = README.partition("## The journey, line by line")[2]
    lines = re.search(r"```\n(.*?)```", journey, re.DOTALL)[1].strip().splitlines()  # type: ignore[index]
    assert lines[0].startswith("jamb sign-in")
    reader = Reader(world, tmp_path, "\n".join(lines))
    (tmp_path / "src").mkdir()
    subprocess.run(["git", "init", "--quiet", tmp_path], check=True)
    finding = ""
    try:
        for line in lines[1:]:
            for command in re.split(r" ; | {2,}#.*$", line.partition("  #")[0].partition(" # ")[0]):
                said = reader.types(command.replace("a1b2c3", finding), "steward")
                found = re.findall(r"^ +high +([0-9a-f]{8})", said, re.MULTILINE)
                finding = found[0] if found else finding
                assert said.strip() or "--save" in command or "scan" in command, command
    finally:
        for undo in ("rotate abandon {} --yes", "rightsize end {} berths"):
            Shell(world, tmp_path).signed_in("steward")(*shlex.split(undo.format("'Quay dashboard'")))


def steps_of(line: str) -> int:
    """Return how many steps a line is: itself, and each value that it is given."""
    words = shlex.split(line.partition(" > ")[0])
    if words[0] != "jamb":
        return 1
    command = typer.main.get_group(command_line(words[1:2]))
    at = 1
    while at < len(words) and words[at] in getattr(command, "commands", {}):
        command, at = command.commands[words[at]], at + 1  # type: ignore[attr-defined]
    return 1 + sum(not word.startswith("-") for word in words[at:])


def recipe_of(address: str) -> tuple[str, int]:
    """Return the steps in the console (or none) and on the command line, as a recipe has them."""
    name, anchor = address.split("#")
    for section in (GUIDE / name).read_text().split("\n## ")[1:]:
        title = section.splitlines()[0]
        if re.sub(r"[^\w -]", "", title.lower()).replace(" ", "-") == anchor:
            console = section.partition("### In the console\n")[2].partition("\n### ")[0]
            block = FENCE.search(section.partition("### On the command line\n")[2])
            assert block is not None, title
            presses = len(re.findall(r"^\d+\. ", console, re.MULTILINE))
            return str(presses or "none"), sum(map(steps_of, block[2].strip().splitlines()))
    raise AssertionError(f"no recipe at {address}")


def test_each_errand_takes_as_many_steps_as_the_guide_says() -> None:
    table = re.findall(r"^\| \[.*?\]\((\S+?)\) \| (\w+) \| (\d+) \|$", (GUIDE / "index.md").read_text(), re.MULTILINE)
    assert len(table) >= 15
    told = {address: (console, int(commands)) for address, console, commands in table}
    assert told == {address: recipe_of(address) for address in told}
    assert max(commands for _, commands in told.values()) <= 10
