"""The directory's policy."""

from __future__ import annotations

import dataclasses
import json
from typing import Annotated, Any

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.output import Form, IfMatchOption, Output, emit, out, table
from jamb.client import BadInput
from jamb.core.directory.policy import DirectoryPolicy, meanings
from jamb.core.nearest_names import as_written, did_you_mean
from jamb.wire.directory.directories import Policy, PolicyPreview

app = typer.Typer(no_args_is_help=True)
_UNITS = ("days", "hours", "minutes", "seconds", "weight")
_SETTINGS = tuple(field.name for field in dataclasses.fields(DirectoryPolicy))


@app.command()
def show(output: Output = Form.TABLE) -> None:
    """Show every setting."""
    with connected() as jamb:
        found = jamb.directory().policy
    emit(found, output, lambda: _show(found))


@app.command("set")
def change(
    settings: Annotated[list[str], typer.Argument(metavar="NAME=VALUE...", help="As warn_days=21")],
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say whom it would put in breach")] = False,
    if_match: IfMatchOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Change settings; those left out stay. Credentials that are in breach afterwards go on working."""
    changes = dict(_setting(one) for one in settings)
    with connected() as jamb:
        if dry_run:
            found = jamb.preview_policy(**changes)
            emit(found, output, lambda: _show_breaches(found))
            return
        changed = jamb.change_policy(if_match=if_match, **changes).policy
    emit(changed, output, lambda: _show(changed))


def _show_breaches(found: PolicyPreview) -> None:
    if found.new:
        table(["client", "what", "setting"], [[one.client_name, one.words, one.setting] for one in found.new])
    out.print(f"{len(found.new)} would be in breach, {found.already} are already, {found.resolved} would be no more.")


def _setting(text: str) -> tuple[str, Any]:
    name, equals, value = text.partition("=")
    name = as_written(name, _SETTINGS)
    if not equals or name not in _SETTINGS:
        step = did_you_mean(name, _SETTINGS, "See `jamb policy show`.")
        raise BadInput.field("NAME=VALUE", text, "the name of a setting, =, and its value", step)
    if name == "registering_groups":
        return name, [part for part in value.split(",") if part]
    try:
        return name, json.loads(value)
    except json.JSONDecodeError:
        return name, value


def _show(policy: Policy) -> None:
    """Print every setting with its unit, what it means, and its default where that is another."""
    usual, means = DirectoryPolicy(), meanings()
    rows = []
    for name in _SETTINGS:
        value, default = _said(getattr(policy, name)), _said(getattr(usual, name))
        unit = next((unit for unit in _UNITS if name.endswith(f"_{unit}")), "")
        rows.append([name, value, unit, "" if value == default else default, means.get(name, "")])
    table(["setting", "value", "unit", "default", "what it means"], rows, right=["value", "default"])


def _said(value: Any) -> str:
    return (", ".join(value) or "none") if isinstance(value, (list, tuple)) else json.dumps(value).strip('"')
