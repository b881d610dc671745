"""Find anything by a word."""

from __future__ import annotations

from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.output import Form, Output, emit, out, table


def search(
    text: Annotated[str, typer.Argument(help="Part of a name, title, login, id, or of a credential's hint")],
    output: Output = Form.TABLE,
) -> None:
    """Find clients, people, groups, roles, resources, permissions, operations and credentials by a word."""
    with connected() as jamb:
        found = jamb.search(text)

    def show() -> None:
        if not found:
            out.print(f"Nothing has “{text}” in its name.", markup=False)
            return
        table(
            ["kind", "name", "at", "what", "id"],
            [[one.kind.value, one.name, one.resource, one.more, one.id if one.id != one.name else ""] for one in found],
        )

    emit(found, output, show)
