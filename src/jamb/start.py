"""The programs of an installation. What was not installed is named in a sentence, with how to get it."""

from __future__ import annotations

import sys
from importlib import import_module

from jamb.imports import kept


def command_line() -> None:
    _run("jamb", "jamb.cli.main", "pip install 'jamb[cli]'")


def service() -> None:
    _run("jamb-service", "jamb.service.operate", "pip install 'jamb[service]'")


def gate() -> None:
    _run("jamb-guard", "jamb.gate.commands", "pip install 'jamb[gate]'")


def demo() -> None:
    _run("jamb-demo", "jamb.demo.run", "`make demo` in a checkout")


def _run(program: str, module: str, how: str) -> None:
    try:
        with kept():
            found = import_module(module)
    except ModuleNotFoundError as error:
        sys.exit(f"{program}: {error.name} is not installed here. It comes with: {how}")
    found.run()
