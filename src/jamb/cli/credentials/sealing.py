"""Credentials sealed to a recipient's key: seal one, open one that was received, and register one's own key."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.options import read_text
from jamb.cli.base.output import ClientArgument, Form, Output, emit, fields, note, out, relative
from jamb.cli.credentials.credentials import DaysOption, LabelOption, pick
from jamb.cli.credentials.handed_over import free_folder, keep_handed_over
from jamb.cli.credentials.private_files import write_private
from jamb.client import BadInput, Jamb, NotFound, PrivateKey
from jamb.client import unseal as open_sealed
from jamb.core.credentials.kinds import CredentialKind
from jamb.wire.credentials.handovers import OwnRecipientKey, Recipient, SealedCredential

PassphraseOption = Annotated[
    Path | None, typer.Option(exists=True, dir_okay=False, help="A file with what the private key is under")
]


def seal(
    client: ClientArgument,
    to: Annotated[str, typer.Option(metavar="NAME", help="An owner or webhook with a key: its name, address or id")],
    save: Annotated[
        Path | None, typer.Option(help="A new file for what is sealed; needed unless it is a webhook")
    ] = None,
    certificate: Annotated[
        bool, typer.Option("--certificate", help="A certificate with its key, not a secret")
    ] = False,
    days: DaysOption = None,
    label: LabelOption = "",
    instead_of: Annotated[
        str | None, typer.Option(help="Withdraw this lost credential in the same step: its id, hint or label")
    ] = None,
    output: Output = Form.TABLE,
) -> None:
    """Make a credential that only the recipient can read. What is sealed may travel by any way."""
    if save is not None and save.exists():
        raise BadInput.field("--save", str(save), "a file that is not there yet", "Nothing was made.")
    with connected() as jamb:
        found = jamb.clients.find(client)
        recipient = _recipient(jamb, found.id, to)
        if recipient.kind == "person" and save is None:
            raise BadInput.field("--save", "nothing", "a new file, to be passed on to the recipient")
        lost = pick(jamb, client, instead_of)[1].id if instead_of is not None else None
        kind = CredentialKind.CERTIFICATE if certificate else CredentialKind.SECRET
        made = jamb.handovers.seal(found.id, recipient.id, kind=kind, days=days, label=label, instead_of=lost)
    if save is not None and made.sealed:
        write_private(save, made.sealed.encode() + b"\n")
    emit(made, output, lambda: _show(made, save))


def unseal(
    file: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="What was received")],
    key: Annotated[Path, typer.Option(exists=True, dir_okay=False, help="Your private key, in PEM")],
    save: Annotated[Path, typer.Option(help="A folder that does not have them yet: sheet, or certificate and key")],
    passphrase_file: PassphraseOption = None,
) -> None:
    """Open what was sealed to your key, and keep it. Nothing is sent anywhere."""
    under = passphrase_file.read_text().strip() if passphrase_file is not None else ""
    handed = open_sealed(file.read_text(), PrivateKey.read(key, under))
    names = keep_handed_over(handed, free_folder(save))
    out.print(f"A credential of “{handed.client_name}” at {handed.directory_name}. In {save}: {names}.", markup=False)


def key(
    file: Annotated[Path | None, typer.Argument(help="Your public key: a JWK or PEM, - for standard input")] = None,
    make: Annotated[Path | None, typer.Option(help="Make a key pair; the private key goes to this new file")] = None,
    remove: Annotated[bool, typer.Option("--remove", help="Take the key away")] = False,
    output: Output = Form.TABLE,
) -> None:
    """Say to which key credentials for you are sealed, or see which it is."""
    if (file is not None) + (make is not None) + remove > 1:
        raise BadInput.field("key", "more than one", "a file, --make or --remove")
    with connected() as jamb:
        if make is not None:
            pair = PrivateKey.make()
            write_private(make, pair.pem())
            held = jamb.handovers.set_own_key(json.dumps(pair.public()))
        elif file is not None:
            held = jamb.handovers.set_own_key(read_text("FILE", file))
        elif remove:
            held = jamb.handovers.set_own_key("")
        else:
            held = jamb.handovers.own_key()
    emit(held, output, lambda: _show_key(held))
    if make is not None:
        note(f"The private key is in {make}, readable by you alone. Whoever has it can read what is sealed to you.")


def _recipient(jamb: Jamb, client_id: str, reference: str) -> Recipient:
    known = jamb.handovers.recipients(client_id)
    found = [one for one in known if reference.strip() in {str(one.id), one.name}]
    if len(found) != 1:
        names = ", ".join(one.name for one in known) or "nobody yet"
        raise NotFound(
            f"No recipient “{reference[:60]}”. With a key there are: {names}.",
            next_step="Owners register theirs with `jamb handover key`.",
        )
    return found[0]


def _show(made: SealedCredential, save: Path | None) -> None:
    fields(
        [
            ("credential", f"{made.credential.hint}, expires {relative(made.credential.expires_at)}"),
            ("sealed to", f"{made.recipient.name}, key {made.recipient.key_id}"),
        ]
    )
    if save is not None and made.sealed:
        note(f"Pass {save} on by any way: only {made.recipient.name} can open it, with `jamb handover unseal`.")
    else:
        note(f"{made.recipient.name} is sent it, as a signed event.")


def _show_key(held: OwnRecipientKey) -> None:
    if held.key is None:
        out.print("You have registered no key: credentials reach you by handover links.")
        return
    curve = held.key.get("crv", "RSA")
    out.print(f"Credentials for you can be sealed to {held.key['kid']} ({curve}).", markup=False)
