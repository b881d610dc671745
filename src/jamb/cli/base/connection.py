"""Which service, which directory and as whom: from the environment, else from the kept sign-in.

A pipeline sets JAMB_URL, JAMB_DIRECTORY, JAMB_CLIENT_ID and one of JAMB_CLIENT_KEY_FILE (PEM; what it is under in
JAMB_CLIENT_KEY_PASSPHRASE_FILE), JAMB_CLIENT_SECRET_FILE and JAMB_CLIENT_SECRET. A person
runs `jamb sign-in` once; what it keeps is readable by that person alone and runs out by itself. No secret is ever an
argument: arguments are seen by every process of the machine.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path

from jamb import client as library
from jamb.client import AccessToken, ClientCredentials, Jamb, NotSignedIn


@dataclass(frozen=True)
class SignIn:
    """A kept sign-in: where, and the token with its end in seconds since 1970."""

    url: str
    directory: str
    token: str
    ends_at: float


def sign_in_file() -> Path:
    kept = os.environ.get("JAMB_SIGN_IN_FILE")
    if kept:
        return Path(kept)
    return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "jamb" / "sign-in.json"


def keep(sign_in: SignIn) -> Path:
    """Write the sign-in where only its owner can read it, replacing the old one in one step."""
    file = sign_in_file()
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    fresh = file.with_name(f".{file.name}.{os.getpid()}")
    with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as opened:
        json.dump(asdict(sign_in), opened)
    fresh.replace(file)
    return file


def kept() -> SignIn | None:
    try:
        return SignIn(**json.loads(sign_in_file().read_text()))
    except (FileNotFoundError, ValueError, TypeError):
        return None


def forget() -> None:
    sign_in_file().unlink(missing_ok=True)


@contextmanager
def connected() -> Iterator[Jamb]:
    """Open the library as whoever the environment or the kept sign-in says. Raises `NotSignedIn` with what to do."""
    held = kept()
    url = os.environ.get("JAMB_URL") or (held.url if held else "")
    directory = os.environ.get("JAMB_DIRECTORY") or (held.directory if held else "")
    client_id = os.environ.get("JAMB_CLIENT_ID")
    auth: AccessToken | ClientCredentials
    if client_id:
        if not url or not directory:
            raise NotSignedIn("JAMB_CLIENT_ID is set, but not where.", next_step="Set JAMB_URL and JAMB_DIRECTORY too.")
        auth = _client(client_id)
    elif held is None:
        raise NotSignedIn(
            "You are not signed in.",
            next_step="Run `jamb sign-in --url URL --directory NAME`; a pipeline sets JAMB_CLIENT_ID and its secret.",
        )
    elif held.ends_at <= time.time():
        again = f"Run `jamb sign-in --url {held.url} --directory {held.directory}` again."
        raise NotSignedIn("Your sign-in has run out.", next_step=again)
    else:
        auth = AccessToken(held.token)
    with Jamb(url, directory, auth) as jamb:
        yield jamb


def _client(client_id: str) -> ClientCredentials:
    file = os.environ.get("JAMB_CLIENT_KEY_FILE")
    if not file:
        return ClientCredentials(client_id, _secret())
    under = os.environ.get("JAMB_CLIENT_KEY_PASSPHRASE_FILE")
    try:
        return library.KeyFile(client_id, Path(file), passphrase=Path(under).read_text().strip() if under else "")
    except OSError as error:
        raise NotSignedIn(f"{error.filename} cannot be read ({error.strerror}).") from error


def _secret() -> str:
    file = os.environ.get("JAMB_CLIENT_SECRET_FILE")
    if file:
        try:
            return Path(file).read_text().strip()
        except OSError as error:
            raise NotSignedIn(f"The secret file {file} cannot be read ({error.strerror}).") from error
    secret = os.environ.get("JAMB_CLIENT_SECRET", "")
    if not secret:
        raise NotSignedIn(
            "JAMB_CLIENT_ID is set, but no secret.", next_step="Set JAMB_CLIENT_SECRET_FILE or JAMB_CLIENT_KEY_FILE."
        )
    return secret
