"""Options that several commands share: kind, reach, moments and files."""

from __future__ import annotations

import json
from datetime import UTC, datetime, time
from pathlib import Path
from typing import Annotated, Any, TypeVar
from uuid import UUID

import typer
from pydantic import BaseModel

from jamb.client import BadInput
from jamb.core.permissions import AccessKind
from jamb.core.reach import ReachKind
from jamb.wire.consent.consent import ConsentPreview
from jamb.wire.resources.reach import ReachSent

ResourceArgument = Annotated[str, typer.Argument(metavar="RESOURCE", help="Short name or identifier of the resource")]
DelegatedOption = Annotated[bool, typer.Option("--delegated", help="For a person, not as the client itself")]
OnlyOption = Annotated[
    list[str] | None, typer.Option("--in", help="Only in this collection; may be given again", metavar="COLLECTION")
]
ExceptOption = Annotated[
    list[str] | None, typer.Option("--except", help="All but this collection; may be given again", metavar="COLLECTION")
]
UntilOption = Annotated[
    str | None, typer.Option("--until", help="A day (its end, UTC) or a moment, as 2027-03-31 or 2027-03-31T18:00Z")
]
ChosenOption = Annotated[
    list[str] | None,
    typer.Option("--only", help="PERMISSION or RESOURCE:PERMISSION, nothing else; may be given again"),
]
ReasonOption = Annotated[str, typer.Option(help="Why, for the ledger")]
LARGEST_FILE = 20_000_000
ModelT = TypeVar("ModelT", bound=BaseModel)


def kind_of(delegated: bool) -> AccessKind:
    return AccessKind.DELEGATED if delegated else AccessKind.APPLICATION


def reach_of(only: list[str] | None, all_but: list[str] | None) -> ReachSent | None:
    """Return the reach of --in or --except; None when neither was given."""
    if only and all_but:
        raise BadInput.field("--except", ", ".join(all_but), "either --in or --except, not both")
    if only:
        return ReachSent(kind=ReachKind.ONLY, collections=only)
    return ReachSent(kind=ReachKind.ALL_BUT, collections=all_but) if all_but else None


def chosen_asks(waiting: ConsentPreview, names: list[str], *, delegated: bool) -> list[UUID]:
    """Return the ids of the asks that --only names. Where both kinds wait, --delegated tells which."""
    asks = [ask for place in waiting.resources for ask in place.asks]
    found = []
    for name in names:
        resource, colon, permission = name.rpartition(":")
        fitting = [ask for ask in asks if ask.permission == permission and (not colon or ask.resource == resource)]
        of_kind = [ask for ask in fitting if ask.kind is kind_of(delegated)] or ([] if delegated else fitting)
        if len(of_kind) != 1:
            offered = of_kind or asks
            allowed = ", ".join(sorted({f"{ask.resource}:{ask.permission} ({ask.kind})" for ask in offered}))
            raise BadInput.field("--only", name, f"one that waits: {allowed or 'nothing waits'}")
        found.append(of_kind[0].id)
    return found


def reach_by_resource(only: list[str] | None, all_but: list[str] | None) -> dict[str, ReachSent]:
    """Return reaches by resource from "berths:north"; each resource has either --in or --except."""
    found: dict[str, ReachSent] = {}
    for option, values, kind in (("--in", only, ReachKind.ONLY), ("--except", all_but, ReachKind.ALL_BUT)):
        for value in values or []:
            resource, colon, path = value.partition(":")
            if not colon or not path:
                raise BadInput.field(option, value, "RESOURCE:COLLECTION, as berths:north")
            held = found.setdefault(resource, ReachSent(kind=kind, collections=[]))
            if held.kind is not kind:
                raise BadInput.field(option, value, f"either --in or --except for {resource}, not both")
            held.collections.append(path)
    return found


def moment_of(option: str, value: str | None) -> datetime | None:
    """Return a moment; a day alone means its end, in UTC."""
    if value is None:
        return None
    try:
        if len(value) == len("2027-03-31"):
            return datetime.combine(datetime.fromisoformat(value).date(), time(23, 59, 59), UTC)
        moment = datetime.fromisoformat(value)
    except ValueError as error:
        raise BadInput.field(option, value, "a day as 2027-03-31, or a moment as 2027-03-31T18:00Z") from error
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)


def read_text(option: str, path: Path) -> str:
    """Return a file's text, or that of standard input for "-"."""
    try:
        if str(path) == "-":
            return typer.get_text_stream("stdin").read()
        if path.stat().st_size > LARGEST_FILE:
            raise BadInput.field(option, str(path), f"at most {LARGEST_FILE} bytes")
        return path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput.field(option, str(path), "a readable file in UTF-8, or - for standard input") from error


def read_json(option: str, path: Path) -> Any:
    try:
        return json.loads(read_text(option, path))
    except json.JSONDecodeError as error:
        raise BadInput.field(option, f"{path}, line {error.lineno}", f"JSON: {error.msg}") from error


OwnersOption = Annotated[
    bool,
    typer.Option("--to-owners", help="Mail the link to the owners alone: you never see it, and nobody else must agree"),
]
