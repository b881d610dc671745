"""Credentials of every kind: list, disable, enable, withdraw; certificates, keys, and outside issuers."""

from __future__ import annotations

import json
import re
from base64 import b64decode
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.names_and_ids import meant
from jamb.cli.base.output import (
    ClientArgument,
    Form,
    Output,
    YesOption,
    confirm,
    emit,
    heading,
    note,
    out,
    relative,
    table,
)
from jamb.cli.credentials.private_files import write_private
from jamb.client import BadInput, Jamb
from jamb.core.credentials.kinds import KeyType
from jamb.core.credentials.term import CredentialState
from jamb.wire.clients.clients import Client
from jamb.wire.credentials.credentials import Credential

app = typer.Typer(no_args_is_help=True)
COLUMNS = ["credential", "kind", "state", "expires", "added", "last used", "id"]
STYLE = {
    CredentialState.LIVE: "green",
    CredentialState.EXPIRING: "yellow",
    CredentialState.COMING: "cyan",
    CredentialState.EXPIRED: "red",
    CredentialState.DISABLED: "yellow",
    CredentialState.WITHDRAWN: "dim",
}
CredentialArgument = Annotated[str, typer.Argument(metavar="CREDENTIAL", help="Its id, its hint, or its label")]
DaysOption = Annotated[int | None, typer.Option(help="Lifetime in days; the policy's default when left out")]
LabelOption = Annotated[str, typer.Option(help="What it is for, as people here would say")]
ReasonOption = Annotated[str, typer.Option(help="Why, for the ledger")]
KeysFileOption = Annotated[
    Path | None, typer.Option("--keys", exists=True, dir_okay=False, help="A file with a JWK Set (RFC 7517)")
]
KeysAtOption = Annotated[str, typer.Option("--keys-at", help="The https address at which the keys are published")]


@app.command("list")
def list_credentials(client: ClientArgument, output: Output = Form.TABLE) -> None:
    """List a client's credentials: hints, dates and use."""
    with connected() as jamb:
        found = list(jamb.credentials.list(jamb.clients.find(client).id))
    emit(found, output, lambda: show(found))


@app.command()
def show_use(client: ClientArgument, credential: CredentialArgument, output: Output = Form.TABLE) -> None:
    """Say from where and with which programs a credential was used in the last thirty days."""
    with connected() as jamb:
        found, held = pick(jamb, client, credential)
        users = list(jamb.credentials.users(found.id, held.id))

    def show_users() -> None:
        out.print(
            f"{held.hint}: first used {relative(held.first_used_at)}, last {relative(held.last_used_at)}.", markup=False
        )
        if users:
            rows = [
                [one.address or "unknown", one.user_agent or "no name", str(one.times), relative(one.last_at)]
                for one in users
            ]
            table(["from", "program", "tokens", "last"], rows, right=["tokens"])

    emit(users, output, show_users)


@app.command()
def certificate(
    client: ClientArgument,
    file: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="PEM, DER or a PKCS#7 bundle")],
    label: LabelOption = "",
    output: Output = Form.TABLE,
) -> None:
    """Let the client prove itself by a certificate whose private key only it has."""
    with connected() as jamb:
        added = jamb.credentials.add_certificate(jamb.clients.find(client).id, file.read_bytes(), label=label)
    emit(added, output, lambda: show_one(added))


@app.command()
def request(
    client: ClientArgument,
    file: Annotated[Path, typer.Argument(exists=True, dir_okay=False, help="A certificate request: PEM or DER")],
    save: Annotated[Path, typer.Option(help="A new file for the certificate that is issued")],
    days: DaysOption = None,
    label: LabelOption = "",
    output: Output = Form.TABLE,
) -> None:
    """Have the directory's authority issue a certificate for a key that only the client has (PKCS#10)."""
    if save.exists():
        raise BadInput.field("--save", str(save), "a file that is not there yet", "Nothing was issued.")
    with connected() as jamb:
        added = jamb.credentials.request_certificate(
            jamb.clients.find(client).id, file.read_bytes(), days=days, label=label
        )
    assert added.certificate is not None
    save.write_text(added.certificate.pem)
    emit(added, output, lambda: show_one(added))
    note(f"The certificate is in {save}.")


@app.command()
def make(
    client: ClientArgument,
    save: Annotated[Path, typer.Option(help="A folder: certificate, key and PKCS#12 are written there (mode 600)")],
    rsa: Annotated[bool, typer.Option("--rsa", help="RSA 3072 instead of EC P-256")] = False,
    days: DaysOption = None,
    label: LabelOption = "",
    output: Output = Form.TABLE,
) -> None:
    """Make a key pair with its certificate. Jamb keeps the certificate alone; the passphrase is printed this once."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        stem = re.sub(r"[^a-z0-9]+", "-", found.name.lower()).strip("-") or found.id
        files = {ending: save / f"{stem}.{ending}" for ending in ("pem", "key", "p12")}
        for file in files.values():
            if file.exists():
                raise BadInput.field("--save", str(file), "a folder without this file", "Nothing was made.")
        save.mkdir(parents=True, exist_ok=True)
        key_type = KeyType.RSA3072 if rsa else KeyType.P256
        made = jamb.credentials.make_certificate(found.id, key_type=key_type, days=days, label=label)
    write_private(files["pem"], made.certificate.encode())
    write_private(files["key"], made.private_key.encode())
    write_private(files["p12"], b64decode(made.pkcs12))
    if output is Form.JSON:
        emit(made, output, lambda: None)
        return
    show_one(made.credential)
    out.print(f"\nIn {save}: {', '.join(file.name for file in files.values())}", markup=False)
    out.print(f"passphrase  {made.passphrase}", markup=False)
    note("Copy the passphrase now: nobody can show it again. Pass it on by another way than the files.")


@app.command()
def keys(
    client: ClientArgument,
    file: KeysFileOption = None,
    at: KeysAtOption = "",
    days: DaysOption = None,
    label: LabelOption = "",
    output: Output = Form.TABLE,
) -> None:
    """Let the client prove itself by keys of its own: a file with them, or where it publishes them."""
    document = _key_set(file)
    with connected() as jamb:
        client_id = jamb.clients.find(client).id
        added = jamb.credentials.add_keys(client_id, document, keys_uri=at, days=days, label=label)
    emit(added, output, lambda: show_one(added))


@app.command()
def trust(
    client: ClientArgument,
    issuer: Annotated[str, typer.Argument(help="The outside issuer, as its assertions name it (iss)")],
    subject: Annotated[str, typer.Argument(help="The subject that stands for the client, to the mail (sub)")],
    file: KeysFileOption = None,
    at: KeysAtOption = "",
    days: DaysOption = None,
    label: LabelOption = "",
    output: Output = Form.TABLE,
) -> None:
    """Trust an outside issuer to say who the client is, so that it needs no secret. Its keys are found by metadata."""
    document = _key_set(file)
    with connected() as jamb:
        client_id = jamb.clients.find(client).id
        added = jamb.credentials.trust_issuer(
            client_id, issuer, subject, keys=document, keys_uri=at, days=days, label=label
        )
    emit(added, output, lambda: show_one(added))


@app.command()
def disable(
    client: ClientArgument,
    credential: CredentialArgument,
    reason: ReasonOption = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Stop a credential until it is enabled again."""
    with connected() as jamb:
        found, held = pick(jamb, client, credential)
        _confirm_stopping("Disable", found, held, yes)
        _tell("Disabled", jamb.credentials.disable(found.id, held.id, reason=reason), output)


@app.command()
def enable(
    client: ClientArgument, credential: CredentialArgument, reason: ReasonOption = "", output: Output = Form.TABLE
) -> None:
    """Let a disabled credential work again."""
    with connected() as jamb:
        found, held = pick(jamb, client, credential)
        _tell("Enabled", jamb.credentials.enable(found.id, held.id, reason=reason), output)


@app.command()
def withdraw(
    client: ClientArgument,
    credential: CredentialArgument,
    reason: ReasonOption = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """End a credential now, for good. Tokens fetched with it live on until they run out."""
    with connected() as jamb:
        found, held = pick(jamb, client, credential)
        _confirm_stopping("Withdraw", found, held, yes, " It cannot be undone.")
        _tell("Withdrawn", jamb.credentials.withdraw(found.id, held.id, reason=reason), output)


def _confirm_stopping(verb: str, client: Client, held: Credential, yes: bool, further: str = "") -> None:
    used = f"last used {relative(held.last_used_at)}"
    confirm(f"{verb} {held.hint} of “{client.name}” ({used})? What uses it stops.{further}", yes)


def _tell(done: str, changed: Credential, output: Form) -> None:
    emit(changed, output, lambda: out.print(f"{done}: {changed.hint} is {changed.state}.", markup=False))


def pick(jamb: Jamb, client: str, reference: str) -> tuple[Client, Credential]:
    """Return the client and the one of its credentials that is meant: by id, how it begins, hint or label."""
    found = jamb.clients.find(client)
    held = meant(
        jamb.credentials.list(found.id),
        reference,
        lambda one: {one.hint, one.hint.rstrip("…"), one.label or one.hint},
        noun="credential",
        of=found.name,
        see=f"jamb credentials list {found.id}",
    )
    return found, held


def show(credentials: Sequence[Credential]) -> None:
    table(COLUMNS, [_row(one) for one in credentials])


def show_one(one: Credential) -> None:
    """Print the facts that people compare with what they hold."""
    heading(f"{one.label or one.kind.words.capitalize()}: {one.hint}")
    rows = [
        ("state", one.state.value),
        ("expires", relative(one.expires_at, "no expiry")),
        ("serves", ", ".join(one.serves)),
    ]
    if one.certificate is not None:
        facts = one.certificate
        rows += [("subject", facts.subject), ("issued by", facts.issued_by), ("key", facts.key)]
        rows += [("sha-256", facts.thumbprint), ("sha-1", facts.sha1)]
    if one.issuer:
        rows += [("issuer", one.issuer), ("subject", one.subject)]
    if one.key_ids or one.keys_uri:
        rows += [("key ids", ", ".join(one.key_ids) or f"published at {one.keys_uri}")]
    for name, value in rows:
        out.print(f"  {name:<10} {value}", markup=False, soft_wrap=True)


def _row(one: Credential) -> list[str | Text]:
    ends = relative(one.expires_at, "no expiry")
    if one.withdrawn_at is not None:
        ends = f"withdrawn {relative(one.withdrawn_at)}"
    return [
        f"{one.hint}\n{one.label}" if one.label else one.hint,
        one.kind.words,
        Text(one.state, style=STYLE[one.state]),
        ends,
        f"{relative(one.issued_at)} by {one.issued_by}",
        relative(one.last_used_at),
        str(one.id),
    ]


def _key_set(file: Path | None) -> dict[str, Any] | None:
    if file is None:
        return None
    try:
        document = json.loads(file.read_text())
    except (ValueError, UnicodeDecodeError) as error:
        raise BadInput.field("--keys", str(file), "a file with JSON") from error
    if not isinstance(document, dict):
        raise BadInput.field("--keys", str(file), 'a JWK Set, as {"keys": [...]}')
    return document


__all__ = ["app", "pick", "show", "show_one"]
