"""Connection sheets, and how they are printed."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.output import (
    ClientArgument,
)
from jamb.wire.credentials.credentials import Sheet


class SheetForm(StrEnum):
    TEXT = "text"
    ENV = "env"
    JSON = "json"
    HTTP = "http"
    CURL = "curl"
    PYTHON = "python"
    JAVASCRIPT = "javascript"


def sheet(
    client: ClientArgument,
    form: Annotated[SheetForm, typer.Option(help="How to print it")] = SheetForm.TEXT,
) -> None:
    """Print the connection sheet, without the secret (which is shown only when it is issued)."""
    with connected() as jamb:
        sheets = jamb.clients.sheets(jamb.clients.find(client).id)
    print_sheets(list(sheets), form)


def print_sheets(sheets: list[Sheet], form: SheetForm) -> None:
    for place, one in enumerate(sheets):
        if place:
            print()
        print(one.forms[form])
