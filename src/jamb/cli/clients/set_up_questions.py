"""What a set-up asks where an option was left out: at most six questions, each with an answer proposed."""

from __future__ import annotations

import re
import sys

import typer

from jamb.cli.base.output import err
from jamb.client import BadInput, Jamb
from jamb.core.lists import FoundKind
from jamb.wire.audit.search import Found

# Of what was found so many are offered: who finds more says it in more words.
_OFFERED = 6


def given(option: str, value: str | None, question: str, proposed: str | None = None) -> str:
    """Return what was given, or what is answered at the terminal.

    Raises:
        BadInput: neither, as there is no terminal.
    """
    if value is not None and value.strip():
        return value
    if not sys.stdin.isatty():
        raise BadInput.field(option, "nothing", "a value: there is no terminal to ask on")
    answer: str = typer.prompt(question, default=proposed, err=True)
    return answer


def folder_for(name: str) -> str:
    """Return a folder beside the job, by the client's name."""
    return "./" + (re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-") or "client")


def needed(jamb: Jamb) -> list[str]:
    """Ask what it must do, in words; return the smallest permissions that open that, as RESOURCE:PERMISSION."""
    if not sys.stdin.isatty():
        return []
    text: str = typer.prompt("What must it do? A word or two, as: list berths", default="", err=True)
    if len(text.strip()) < len("do"):
        return []
    found = [one for one in jamb.search(text.strip()) if one.kind is FoundKind.OPERATION][:_OFFERED]
    if not found:
        err.print(f"No operation has “{text.strip()}” in its name: ask for it afterwards.", markup=False)
        return []
    operation = _chosen(found)
    proposal = jamb.resources.smallest(operation.resource, [operation.id])
    return [f"{operation.resource}:{permission}" for permission in proposal.permissions]


def _chosen(found: list[Found]) -> Found:
    if len(found) == 1:
        return found[0]
    for place, one in enumerate(found, 1):
        err.print(f"  {place}  {one.more} ({one.name} at {one.resource})", markup=False)
    number: int = typer.prompt("Which of these?", default=1, type=int, err=True)
    return found[min(max(number, 1), len(found)) - 1]
