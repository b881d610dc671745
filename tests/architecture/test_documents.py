"""What is written about the code is true of the code that runs."""

from __future__ import annotations

import ast
import re
import shlex
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from typer.main import get_command

from jamb.cli.main import command_line
from jamb.core.clients.clients import ClientKind
from jamb.service.config.settings import Settings
from jamb.store.base.partitions import PARTED
from jamb.store.base.retention import FORGET, KEPT
from jamb.store.base.tables import METADATA

ROOT = Path(__file__).parents[2]
DOCS = ROOT / "docs"
PLACES = (ROOT, ROOT / "src" / "jamb", DOCS, ROOT / "tests")
# Files that a text may name by their last part, beside one named whole.
NAMED_SHORT = {"form.py", "errors.py", "public_keys.py"}


@pytest.mark.parametrize(
    "document",
    ["docs/architecture.md", "docs/security.md", "docs/standards.md", "CONTRIBUTING.md"],
)
def test_every_file_that_a_text_names_is_there(document: str) -> None:
    text = (ROOT / document).read_text()
    named = set(re.findall(r"`([\w./-]+\.(?:py|vue|ts|css|md|toml|json))`", text))
    named |= set(re.findall(r"`((?:core|store|actions|service|client|cli|guard|wire|demo|tests|docs)/[\w/]+)`", text))
    assert named
    missing = {one for one in named - NAMED_SHORT if not any((place / one).exists() for place in PLACES)}
    assert missing == set()


def test_every_decision_is_in_the_index_with_its_title() -> None:
    index = (DOCS / "decisions" / "README.md").read_text()
    for path in sorted((DOCS / "decisions").glob("0*.md")):
        number, title = path.read_text().splitlines()[0].removeprefix("# ").split(". ", 1)
        assert f"| [{number}]({path.name}) | {title} |" in index


def test_every_table_has_an_end_of_life() -> None:
    kept = set(" ".join(KEPT.values()).split())
    forgotten = set(re.findall(r"DELETE FROM (\w+)", " ".join(FORGET.values())))
    parted = {one.table for one in PARTED}
    # Of records of token requests rows go, too, where a directory keeps them for less than others.
    assert kept | forgotten | parted == set(METADATA.tables)
    assert (kept & forgotten, kept & parted, forgotten & parted) == (set(), set(), {"attempt"})


def test_the_settings_that_are_documented_are_those_of_the_service() -> None:
    table = (DOCS / "operations.md").read_text().split("## Settings")[1]
    told = {
        name
        for line in table.splitlines()
        if line.startswith("| `")
        for name in re.findall(r"`(JAMB_\w+)`", line.split("|")[1])
    }
    assert told == {f"JAMB_{name.upper()}" for name in Settings.model_fields}


def actions_entered() -> set[str]:
    """Return the names of all entries that the code makes in the ledger."""
    found: set[str] = set()
    for path in (ROOT / "src" / "jamb").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if (
                isinstance(node, ast.Call)
                and isinstance(node.func, ast.Attribute)
                and node.func.attr == "enter"
                and node.args
            ):
                found |= set(_names(node.args[0]))
    return {name for name in found if "." in name}


def _names(node: ast.expr) -> list[str]:
    match node:
        case ast.Constant(value=str() as name):
            return [name]
        case ast.IfExp(body=one, orelse=other):
            return [*_names(one), *_names(other)]
        case ast.JoinedStr(
            values=[ast.Constant(value=str() as start), ast.FormattedValue(value=ast.IfExp() as either)]
        ):
            return [start + end for end in _names(either)]
    return []


def test_everything_that_the_ledger_tells_has_a_sentence_at_the_console() -> None:
    told = set(re.findall(r'^  "([a-z-]+\.[a-z-]+)":', (ROOT / "console/src/api/history.ts").read_text(), re.MULTILINE))
    entered = actions_entered()
    assert len(entered) > 60
    assert entered - told == set()


def test_the_console_knows_the_grant_types_of_each_kind() -> None:
    text = (ROOT / "console/src/ui/use/words.ts").read_text().replace("${URN}", "urn:ietf:params:oauth:grant-type:")
    lists = dict(re.findall(r"^const ([A-Z_]+) = \[(.*)\] as const;$", text, re.MULTILINE))
    said = re.search(r"GRANT_TYPES[^{]*\{\n(.*?)\n\};", text, re.DOTALL)
    assert said is not None
    whole = said[1]
    for name, members in lists.items():
        whole = re.sub(rf"(?:\.\.\.)?\b{name}\b", members, whole)
    kinds = re.findall(r"^  (\w+): (.*),$", whole, re.MULTILINE)
    known = {kind: set(re.findall(r'["`]([^"`]+)["`]', members)) for kind, members in kinds}
    assert known == {kind.value: set(kind.grant_types) for kind in ClientKind}


def told_commands() -> Iterator[list[str]]:
    """Yield the words of each command that a text names in passing; whole examples are run by the journeys."""
    for path in (ROOT / "README.md", ROOT / "CHANGELOG.md", *DOCS.glob("*.md"), *(DOCS / "guide").glob("*.md")):
        prose = re.sub(r"```.*?```", "", path.read_text(), flags=re.DOTALL)
        for line in re.findall(r"`jamb ([a-z][^`\n]+)`", prose):
            yield shlex.split(line)


def test_every_command_that_a_text_names_in_passing_is_there_with_its_options() -> None:
    unknown = []
    for words in told_commands():
        command: Any = get_command(command_line(words))
        left = list(words)
        while left and hasattr(command, "commands") and left[0] in command.commands:
            command = command.commands[left.pop(0)]
        known = {option for one in command.params for option in (*one.opts, *one.secondary_opts)} | {"--help"}
        named = {word.partition("=")[0] for word in left if word.startswith("--")}
        if (hasattr(command, "commands") and left) or named - known:
            unknown.append(" ".join(words))
    assert unknown == []
