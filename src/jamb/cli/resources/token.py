"""Access tokens on the command line: fetch one, alone on standard output; read one, every claim in words."""

from __future__ import annotations

import os
import shlex
import sys
from datetime import UTC, datetime
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import httpx
import typer

from jamb.cli.base.options import read_text
from jamb.cli.base.output import Form, Output, emit, note, out
from jamb.cli.credentials.private_files import write_private
from jamb.cli.resources.probe import show_token
from jamb.client import (
    ClientCredentials,
    KeyPair,
    PrivateKey,
    ProofKey,
    TokenFile,
    sign_in_by_browser,
    sign_in_by_device,
)
from jamb.core.errors import BadInput
from jamb.core.tokens import read_token
from jamb.wire.resources.probe import ReadClaim, TokenStep

app = typer.Typer(no_args_is_help=True, help="Fetch an access token, or read one.")


class Acting(StrEnum):
    """itself: with its secret or key. browser: for whoever signs in there. device: for whoever types the code."""

    ITSELF = "itself"
    BROWSER = "browser"
    DEVICE = "device"


@app.command()
def get(
    sheet: Annotated[
        Path | None, typer.Option(help="A connection sheet in the form env; what it has need not be given")
    ] = None,
    acting: Annotated[Acting, typer.Option("--as", help="As itself, or for a person")] = Acting.ITSELF,
    issuer: Annotated[str, typer.Option(help="The issuer, when no sheet names it")] = "",
    client: Annotated[str, typer.Option(help="The client id, when no sheet names it")] = "",
    resource: Annotated[str, typer.Option(help="Identifier of the resource that it is for")] = "",
    scope: Annotated[str, typer.Option(help="Permissions, with a space between")] = "",
    exchange: Annotated[
        Path | None,
        typer.Option(help="A file with a person's token that was sent to the resource this client guards; - for input"),
    ] = None,
    secret_file: Annotated[
        Path | None, typer.Option(help="A file with the secret; - for standard input; else CLIENT_SECRET")
    ] = None,
    key_file: Annotated[
        Path | None, typer.Option(help="A file with the private key; its passphrase is in CLIENT_KEY_PASSPHRASE")
    ] = None,
    bound_to: Annotated[
        Path | None, typer.Option(help="A file with the key that the token is bound to (DPoP); made if it is not there")
    ] = None,
    kept: Annotated[
        Path | None,
        typer.Option(help="A file in which a person's sign-in is kept, for its owner alone: the next call asks nobody"),
    ] = None,
) -> None:
    """Fetch an access token and print it, alone, for scripts. What is asked of a person is on standard error.

    A token that is bound to a key is sent with a proof for each request: jamb token proof makes it.
    """
    said = _sheet(sheet) if sheet is not None else {}
    issuer, client = issuer or said.get("ISSUER", ""), client or said.get("CLIENT_ID", "")
    resource, scope = resource or said.get("RESOURCE", ""), scope or said.get("SCOPE", "")
    for name, value in (("issuer", issuer), ("client", client)):
        if not value:
            raise BadInput.field(f"--{name}", "nothing", "what the connection sheet has", "Give it, or --sheet FILE.")
    bound = ProofKey(_proof_key(bound_to, make=True)) if bound_to is not None else None
    if acting is not Acting.ITSELF:
        print(_of_person(acting, issuer, client, scope, resource, bound, kept))
        return
    if kept is not None:
        raise BadInput.field("--kept", str(kept), "given for a person alone", "Leave it out, or give --as browser.")
    endpoint = f"{issuer.rstrip('/')}/token"
    if key_file is not None:
        key = PrivateKey.read(key_file, os.environ.get("CLIENT_KEY_PASSPHRASE", ""))
        by_key = KeyPair(client, key, token_endpoint=endpoint, resource=resource, proof_key=bound)
        print(_fetched(by_key, scope, exchange))
        return
    secret = read_text("--secret-file", secret_file).rstrip("\r\n") if secret_file is not None else ""
    secret = secret or said.get("CLIENT_SECRET", "") or os.environ.get("CLIENT_SECRET", "")
    if not secret:
        raise BadInput.field(
            "--secret-file", "nothing", "a secret or a key", "Give --secret-file, --key-file, or set CLIENT_SECRET."
        )
    by_secret = ClientCredentials(client, secret, token_endpoint=endpoint, resource=resource, proof_key=bound)
    print(_fetched(by_secret, scope, exchange))


def _of_person(
    acting: Acting, issuer: str, client: str, scope: str, resource: str, bound: ProofKey | None, kept: Path | None
) -> str:
    """Return the token of whoever signs in, or did before where that is kept."""
    store = TokenFile(kept) if kept is not None else None
    if store is not None and "offline_access" not in scope.split():
        note("Without offline_access in --scope, what is kept ends with its first token.")
    if acting is Acting.BROWSER:
        found = sign_in_by_browser(
            issuer, client, scope, resource=resource, open_browser=_told, proof_key=bound, kept=store
        )
    else:
        found = sign_in_by_device(issuer, client, scope, resource=resource, show=_shown, proof_key=bound, kept=store)
    return found.access_token


@app.command()
def proof(
    method: Annotated[str, typer.Argument(help="Of the request that the proof is for, as GET")],
    address: Annotated[str, typer.Argument(help="Of the request; what follows a ? does not matter")],
    bound_to: Annotated[Path, typer.Option(help="The file with the key that the token is bound to")],
    token: Annotated[Path, typer.Option(help="A file with the token; - for standard input")] = Path("-"),
    nonce: Annotated[str, typer.Option(help="What the server answered in DPoP-Nonce, where it wants one")] = "",
) -> None:
    """Print the two headers of one request with a token that is bound to a key (RFC 9449), as curl -H @- reads them.

    A proof counts once, for this method and address, and for a minute.
    """
    held = read_text("--token", token).strip()
    wrong = BadInput.field("ADDRESS", address, "the whole address of the request, as https://api.example/x")
    try:
        request = httpx.Request(method.strip().upper(), address)
    except httpx.InvalidURL as error:
        raise wrong from error
    if not (request.url.host and request.url.scheme in {"http", "https"}):
        raise wrong
    ProofKey(_proof_key(bound_to, make=False)).prove(request, held, nonce)
    for name in ("Authorization", "DPoP"):
        print(f"{name}: {request.headers[name]}")


def _proof_key(file: Path, *, make: bool) -> PrivateKey:
    """Return the key in a file; `make`: a fresh one is put there, for its owner alone, if there is no such file."""
    if make and not file.exists():
        key = PrivateKey.make()
        write_private(file, key.pem())
        note(f"Made the key {file}: keep it beside the token, for its owner alone.")
        return key
    return PrivateKey.of(read_text("--bound-to", file).encode(), os.environ.get("BOUND_KEY_PASSPHRASE", ""), str(file))


def _fetched(proof: ClientCredentials, scope: str, exchange: Path | None) -> str:
    if exchange is None:
        return proof.fetch(scope)
    return proof.exchanged(read_text("--exchange", exchange).strip(), proof.resource, scope)


def _sheet(file: Path) -> dict[str, str]:
    """Return the values of a file in the form env; a sheet that stands there twice counts once."""
    found: dict[str, str] = {}
    for line in read_text("--sheet", file).splitlines():
        name, equals, value = line.partition("=")
        if equals and name.isupper():
            found.setdefault(name, "".join(shlex.split(value)) if value.count("'") % 2 == 0 else value)
    return found


def _told(address: str) -> None:
    import webbrowser  # noqa: PLC0415 - seldom, and it looks for browsers

    note(f"Sign in with the browser: {address}")
    # On a machine without one the address is what there is.
    webbrowser.open(address)


def _shown(address: str, code: str) -> None:
    print(f"Open {address} and type {code}", file=sys.stderr, flush=True)


@app.command()
def read(
    file: Annotated[Path, typer.Argument(help="A file with the token; - for standard input")] = Path("-"),
    output: Output = Form.TABLE,
) -> None:
    """Read an access token: every claim in words, and what a resource would refuse it for. Nothing is sent anywhere."""
    found = read_token(read_text("FILE", file), datetime.now(UTC))
    step = TokenStep(
        way="",
        error="",
        header=[ReadClaim.model_validate(claim) for claim in found.header],
        claims=[ReadClaim.model_validate(claim) for claim in found.claims],
        wrong=list(found.wrong),
    )

    def show() -> None:
        show_token(step)
        out.print("\nWhether its signature fits is not said here: that takes the issuer's keys.", style="dim")

    emit({"header": step.header, "claims": step.claims, "wrong": step.wrong}, output, show)
