"""Evidence of the audit: take it along, verify it offline."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.options import read_json
from jamb.cli.base.output import Form, Output, emit, note, out
from jamb.client.audit.evidence import verify_evidence


def evidence(
    save: Annotated[Path, typer.Option(help="File to write, as evidence.zip")],
) -> None:
    """Take reports, registrations, reviews and the ledger's head along, signed by the directory."""
    with connected() as jamb:
        size = jamb.findings.save_evidence(save)
    out.print(f"Written to {save}, {size:,} bytes. Verify it offline: jamb audit verify-evidence {save}", markup=False)


def verify(
    bundle: Annotated[Path, typer.Argument(metavar="FILE", help="As `jamb audit evidence` wrote it")],
    keys: Annotated[
        Path | None, typer.Option(help="The directory's published keys, kept from before (the issuer's jwks)")
    ] = None,
    output: Output = Form.TABLE,
) -> None:
    """Verify evidence without asking anybody: the signature, and every file against it."""
    found = verify_evidence(bundle, read_json("--keys", keys) if keys is not None else None)

    def show() -> None:
        out.print(f"Nothing was altered: {len(found.files)} files of {found.directory}, {found.made_at}.")
        out.print(f"The ledger had {found.ledger_entries} entries, head {found.ledger_head}.", markup=False)
        if not found.trusted:
            note("The keys came with the bundle: give --keys to know who signed it.")

    emit(asdict(found), output, show)
