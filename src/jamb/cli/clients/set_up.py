"""One command from nothing to a client that works: registration, asks, consent, credential, files."""

from __future__ import annotations

import json
import time
from base64 import b64decode
from dataclasses import replace
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any
from uuid import uuid4

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.options import reach_by_resource
from jamb.cli.base.output import EXIT_REFUSED, Form, Output, emit, fields, note, out, relative
from jamb.cli.clients.set_up_questions import folder_for, given, needed
from jamb.cli.credentials.private_files import write_private
from jamb.client import BadInput, Jamb, Wanted
from jamb.client import set_up as run_set_up
from jamb.client.credentials.setting_up import Consented, Ready
from jamb.core.credentials.kinds import CredentialKind
from jamb.wire.credentials.credentials import Credential, Sheet

# How often it is looked whether the approvers decided.
_LOOK_EACH = 3.0
IDS, SHEET = "client.json", "client.env"
_PAIR = ("client.pem", "client.key", "client.p12", "client.passphrase")


class Proof(StrEnum):
    SECRET = "secret"  # noqa: S105 - a kind, not one
    CERTIFICATE = "certificate"
    NONE = "none"


def set_up(
    name: Annotated[str | None, typer.Option(help="A name no other client has")] = None,
    purpose: Annotated[str | None, typer.Option(help="What it is for, in a sentence")] = None,
    save: Annotated[
        Path | None, typer.Option(help="A folder for what the next step needs: ids, sheet, credential")
    ] = None,
    ask: Annotated[
        list[str] | None, typer.Option(help="RESOURCE:PERMISSION, acting as itself; may be given again")
    ] = None,
    owner: Annotated[
        list[str] | None, typer.Option(help="Login of an owner, you if left out; may be given again")
    ] = None,
    only: Annotated[
        list[str] | None, typer.Option("--in", help="RESOURCE:COLLECTION it shall reach; may be given again")
    ] = None,
    all_but: Annotated[
        list[str] | None, typer.Option("--except", help="RESOURCE:COLLECTION it shall not reach; may be given again")
    ] = None,
    reason: Annotated[str, typer.Option(help="Why it needs what it asks")] = "",
    proof: Annotated[Proof, typer.Option(help="How it shall prove itself")] = Proof.SECRET,
    days: Annotated[
        int | None, typer.Option(help="Days until the credential expires; the policy's if left out")
    ] = None,
    ask_only: Annotated[bool, typer.Option("--ask-only", help="Do not consent, even if you may")] = False,
    once: Annotated[
        str | None, typer.Option(help="Names this set-up: run again under the same name, it changes nothing")
    ] = None,
    wait: Annotated[
        int, typer.Option(min=0, max=10_080, metavar="MINUTES", help="Wait so long for approvers to decide")
    ] = 0,
    output: Output = Form.TABLE,
) -> None:
    """Register a client, ask, consent where you may (or ask the approvers), and issue a credential.

    What is left out of name, purpose, folder and asks is asked at the terminal. Leaves ids and credential in files that
    only you can read. A run that was stopped goes on under the same --once.
    Leaves with code 3 when something is left that others must do.
    """
    asked_here = name is None and ask is None
    name = given("--name", name, "Name of the client")
    purpose = given("--purpose", purpose, "What it is for, in a sentence")
    save = Path(given("--save", str(save) if save is not None else None, "Folder for its files", folder_for(name)))
    if asked_here:
        with connected() as jamb:
            ask = needed(jamb)
    wanted = Wanted(
        name,
        purpose,
        owner or [],
        _asks(ask or []),
        reach_by_resource(only, all_but),
        reason,
        None if proof is Proof.NONE else CredentialKind(proof.value),
        days,
    )
    _check_folder(save, name, once)
    with connected() as jamb:
        if not wanted.owners:
            # Whoever sets it up answers for it, unless somebody else is named.
            me = jamb.whoami()
            wanted = replace(wanted, owners=[me.id] if me.kind == "person" else [])
        ready = run_set_up(
            jamb, wanted, once or str(uuid4()), consent=not ask_only, kept=lambda one: (save / _file_of(one)).exists()
        )
        ids = _ids(ready, list(jamb.clients.sheets(ready.client.id)), save)
        # Before anything is waited for: what was shown once is in no other hands.
        _save(ready, ids, save)
        if wait and ready.consent is Consented.REQUESTED:
            ready = _waited(jamb, ready, wait)
            ids = _ids(ready, list(jamb.clients.sheets(ready.client.id)), save)
            _save_ids(ids, save)
    emit(ids, output, lambda: _show(ready, ids))
    for one in ready.left:
        note(f"Next step: {one}")
    if ready.left:
        raise typer.Exit(EXIT_REFUSED)


def _waited(jamb: Jamb, ready: Ready, minutes: int) -> Ready:
    """Wait for the approvers, at most so long; return what there is then."""
    note(f"Waiting up to {minutes} minutes for the approvers. What was made stays, whatever they decide.")
    until = time.monotonic() + minutes * 60
    while True:
        mine = [one for one in jamb.requests.list() if one.client_id == ready.client.id]
        if not mine or time.monotonic() >= until:
            break
        time.sleep(min(_LOOK_EACH, max(0.0, until - time.monotonic())))
    client = jamb.clients.read(ready.client.id).client
    granted = not mine and not client.ladder.waiting
    left = () if granted or mine else ("consent: it was not given; `jamb requests list --past` says how it ended",)
    return replace(
        ready,
        client=client,
        consent=Consented.GRANTED if granted else ready.consent,
        did=(*ready.did, *(("approvers consented",) if granted else ())),
        # What waited for them waits no more, unless it does.
        left=(*(one for one in ready.left if mine or not one.startswith("consent: ")), *left),
    )


def _asks(values: list[str]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for value in values:
        resource, colon, permission = value.rpartition(":")
        if not colon or not resource or not permission:
            raise BadInput.field("--ask", value, "RESOURCE:PERMISSION, as berths:berths.view")
        found.setdefault(resource, []).append(permission)
    return found


def _file_of(credential: Credential) -> str:
    """Return the name of the file whose being there tells that what was shown of a credential is in good hands."""
    return f"credential-{credential.id}"


def _ids(ready: Ready, sheets: list[Sheet], folder: Path) -> dict[str, Any]:
    credential = ready.credential
    return {
        "client_id": ready.client.id,
        "client_name": ready.client.name,
        "credential_id": str(credential.id) if credential is not None else None,
        "credential_expires": credential.expires_at.isoformat() if credential and credential.expires_at else None,
        "consent": ready.consent.value,
        "resources": [
            {"resource": one.resource, "issuer": one.issuer, "token_endpoint": one.token_endpoint, "scopes": one.scopes}
            for one in sheets
        ],
        "folder": str(folder),
        "did": list(ready.did),
        "left": list(ready.left),
    }


def _check_folder(folder: Path, name: str, once: str | None) -> None:
    """Refuse a folder with files that are not of this set-up: nothing of anybody else's is replaced."""
    try:
        of_this = once is not None and json.loads((folder / IDS).read_text())["client_name"] == name
    except (OSError, ValueError, KeyError, TypeError):
        of_this = False
    there = [one for one in (IDS, SHEET, *_PAIR) if (folder / one).exists()]
    if there and not of_this:
        allowed = f"a folder without {', '.join(there)}"
        raise BadInput.field("--save", str(folder), allowed, "Or give --once and --name as before, to go on.")


def _save(ready: Ready, ids: dict[str, Any], folder: Path) -> None:
    """Write the ids first and the credential's mark last.

    A stop in between leaves a folder that is known as this set-up's, and a credential that the next run replaces.
    """
    folder.mkdir(parents=True, exist_ok=True)
    _save_ids(ids, folder)
    files: dict[str, bytes] = {}
    if ready.issued is not None:
        files[SHEET] = ("\n\n".join(one.forms["env"] for one in ready.issued.sheets) + "\n").encode()
    if ready.made is not None:
        made = ready.made
        pair = (
            made.certificate.encode(),
            made.private_key.encode(),
            b64decode(made.pkcs12),
            made.passphrase.encode() + b"\n",
        )
        files |= dict(zip(_PAIR, pair, strict=True))
    for name, content in files.items():
        # What was kept of a lost credential is of no use.
        _replace(folder / name, content)
    if ready.credential is not None and (ready.issued or ready.made):
        write_private(folder / _file_of(ready.credential), b"")


def _save_ids(ids: dict[str, Any], folder: Path) -> None:
    lasting = {name: value for name, value in ids.items() if name not in {"did", "left", "folder"}}
    _replace(folder / IDS, (json.dumps(lasting, indent=2) + "\n").encode())


def _replace(path: Path, content: bytes) -> None:
    path.unlink(missing_ok=True)
    write_private(path, content)


def _show(ready: Ready, ids: dict[str, Any]) -> None:
    did = "; ".join(ready.did)
    out.print(f"“{ready.client.name}”: {did or 'all was there already, nothing was changed'}.", markup=False)
    ends = relative(ready.credential.expires_at) if ready.credential is not None else "—"
    files = f"{IDS}, {SHEET if ready.issued else 'client.pem and its key'}" if ready.issued or ready.made else IDS
    fields(
        [
            ("client id", ready.client.id),
            ("credential", f"{ready.credential.hint}, expires {ends}" if ready.credential is not None else "none"),
            ("consent", ready.consent.value.replace("-", " ")),
            ("files", f"{files} in {ids['folder']}"),
        ]
    )
