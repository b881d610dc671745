"""The shape of the code is kept: small rooms, one act, rows by name, SQL in one place, variables that say what they hold."""

from __future__ import annotations

import ast
from dataclasses import fields
from pathlib import Path

import pytest

from jamb.actions.base.act import Act
from jamb.store.entry.tokens import ROWS

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "jamb"
MOST_IN_A_ROOM = 15
# Each may only fall.
UNNAMED = {"actions": 593, "store": 153}


def test_no_room_holds_more_than_can_be_overlooked() -> None:
    crowded = {
        str(folder.relative_to(ROOT)): count
        for top in (SOURCE, ROOT / "tests", ROOT / "console" / "src")
        for folder in (top, *top.rglob("*"))
        if folder.is_dir()
        and (
            count := sum(
                one.suffix in {".py", ".ts", ".vue", ".css"} and one.name != "__init__.py" for one in folder.iterdir()
            )
        )
        > MOST_IN_A_ROOM
        # One file a migration, and never moved; what the console is built into.
        and folder.name not in {"versions", "assets"}
    }
    assert crowded == {}


def test_an_act_is_who_where_when_and_with_what_and_no_bag() -> None:
    assert [field.name for field in fields(Act)] == [
        "backend",
        "directory",
        "actor",
        "now",
        "own",
        "caller",
        "if_match",
        "lease",
        "aged",
    ]


@pytest.mark.parametrize(("row", "statement"), ROWS, ids=lambda one: getattr(one, "__name__", ""))
def test_the_rows_of_the_token_path_are_named_as_their_columns(row: type, statement: object) -> None:
    assert row._fields == tuple(column.key for column in statement.selected_columns)  # type: ignore[attr-defined]


@pytest.mark.parametrize("layer", sorted(UNNAMED))
def test_variables_say_what_they_hold(layer: str) -> None:
    unnamed = sum(
        isinstance(node, ast.Name) and node.id == "one"
        for path in (SOURCE / layer).rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
    )
    assert unnamed <= UNNAMED[layer]


def test_statements_are_made_in_the_store_alone() -> None:
    allowed = {("sqlmodel", "Session"), ("sqlalchemy", "Engine"), ("sqlalchemy", "Connection")}
    elsewhere = set()
    for layer in ("core", "wire", "actions", "service", "client", "guard", "cli"):
        for path in (SOURCE / layer).rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.Import):
                    elsewhere |= {
                        (path.name, one.name) for one in node.names if one.name.startswith(("sqlalchemy", "sqlmodel"))
                    }
                elif (
                    isinstance(node, ast.ImportFrom)
                    and node.module
                    and node.module.startswith(("sqlalchemy", "sqlmodel"))
                ):
                    made = {(node.module, one.name) for one in node.names} - allowed
                    elsewhere |= {(path.name, *one) for one in made if one[0] != "sqlalchemy.exc"}
    assert elsewhere == set()
