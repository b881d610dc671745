"""What the wheel says it needs is what its code imports: each part of it installs what it uses, and no more."""

from __future__ import annotations

import ast
import sys
import tomllib
from importlib.metadata import packages_distributions
from itertools import chain
from pathlib import Path

import pytest
from packaging.requirements import Requirement

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "jamb"
EXTRAS = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]["optional-dependencies"]
# Which folders an extra is for.
FOLDERS = {
    "guard": ["guard"],
    "gate": ["guard", "gate"],
    "client": ["client", "wire", "core"],
    "cli": ["client", "wire", "core", "cli"],
    "service": ["client", "wire", "core", "cli", "guard", "store", "actions", "service"],
}
# Nothing imports them by name: the database driver's dialects, the servers' own parts.
BY_NAME = {"httptools", "uvloop", "uvicorn"}


def imported(folders: list[str]) -> set[str]:
    found = set()
    for path in chain.from_iterable((SOURCE / folder).rglob("*.py") for folder in folders):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Import):
                found |= {alias.name.split(".")[0] for alias in node.names}
            elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
                found.add(node.module.split(".")[0])
    return {name for name in found if name not in sys.stdlib_module_names and name not in {"jamb", "__future__"}}


def declared(extra: str) -> set[str]:
    found: set[str] = set()
    for line in EXTRAS[extra]:
        requirement = Requirement(line)
        if requirement.name == "jamb":
            found |= set(chain.from_iterable(declared(one) for one in requirement.extras))
        else:
            found.add(requirement.name.lower().replace("_", "-"))
    return found


# What comes with one that is declared, and is a part of its face.
WITH_ANOTHER = {
    "starlette": "fastapi",
    "pydantic-core": "pydantic",
    "anyio": "httpx",
    "click": "typer",
    "cryptography": "pyjwt",
    "markupsafe": "jinja2",
}


@pytest.mark.parametrize("extra", sorted(FOLDERS))
def test_an_extra_declares_what_its_folders_import_and_nothing_else(extra: str) -> None:
    distributions = packages_distributions()
    needed = {distributions[name][0].lower().replace("_", "-") for name in imported(FOLDERS[extra])}
    needed = {WITH_ANOTHER.get(name, name) for name in needed}
    # Many distributions are in this one package, and the interface alone is imported.
    needed = {"opentelemetry-api" if name.startswith("opentelemetry") else name for name in needed}
    needed = {"psycopg" if name.startswith("psycopg") else name for name in needed}
    assert needed - declared(extra) == set(), "imported, and not declared"
    assert declared(extra) - needed - BY_NAME == set(), "declared, and not imported"
