"""A client keeps its own secret fresh: a file that holds it, and the rotation of what is in the file."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Generator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from pathlib import Path
from typing import Any

import httpx

from jamb.client.auth import ClientCredentials, unreachable
from jamb.client.trust import trusted
from jamb.core.errors import Conflict, NotSignedIn, ServiceUnreachable


class SecretFile(ClientCredentials):
    """Client credentials whose secret stands in a file, read anew for each token: what rotates it is picked up."""

    def __init__(self, client_id: str, file: Path, *, token_endpoint: str = "", resource: str = "") -> None:
        super().__init__(client_id, "", token_endpoint=token_endpoint, resource=resource)
        self._file = file

    def _fetch(self) -> Generator[httpx.Request, httpx.Response, None]:
        self._secret = read_secret(self._file)
        yield from super()._fetch()


class Did(StrEnum):
    """What keeping a secret fresh did. waited: its rotation is open, and the old secret is not quiet yet."""

    NOTHING = "nothing"
    ROTATED = "rotated"
    WAITED = "waited"
    CLOSED = "closed"


@dataclass(frozen=True, slots=True)
class KeptFresh:
    did: Did
    ends: datetime | None


def keep_fresh(issuer: str, client_id: str, file: Path, *, before: timedelta = timedelta(days=14)) -> KeptFresh:
    """Rotate the secret in a file when it ends within `before`, and close the rotation once the old one is quiet.

    To be called now and then, once a day say: each call does the next step. A call that is killed at any point loses
    nothing: the file is replaced whole, and the old secret is valid until the new one was used and the old one is not.

    Raises:
        NotSignedIn: the secret in the file does not work, or the policy leaves rotation to custodians.
        Conflict: the new secret is in use elsewhere already. ServiceUnreachable: nothing answers.
    """
    secret = read_secret(file)
    seen = _step(issuer, client_id, secret, "look")
    ends = _moment(seen["client_secret_expires_at"])
    if seen["is_new"]:
        if seen["rotation"] != "quiet":
            return KeptFresh(Did.WAITED, ends)
        _step(issuer, client_id, secret, "close")
        return KeptFresh(Did.CLOSED, ends)
    if ends is None or ends - datetime.now(UTC) > before:
        return KeptFresh(Did.NOTHING, ends)
    made = _step(issuer, client_id, secret, "open")
    _replace(file, made["client_secret"])
    _step(issuer, client_id, made["client_secret"], "look")
    return KeptFresh(Did.ROTATED, _moment(made["client_secret_expires_at"]))


def read_secret(file: Path) -> str:
    """Return the secret in a file, without the line end that editors leave."""
    return file.read_text().strip()


def _replace(file: Path, secret: str) -> None:
    """Put another secret in a file: whole or not at all, with the mode that it had."""
    mode = file.stat().st_mode & 0o777
    handle, name = tempfile.mkstemp(dir=file.parent, prefix=f".{file.name}.")
    try:
        with os.fdopen(handle, "w") as opened:
            opened.write(secret + "\n")
            opened.flush()
            os.fsync(opened.fileno())
        Path(name).chmod(mode)
        Path(name).replace(file)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def _step(issuer: str, client_id: str, secret: str, step: str) -> dict[str, Any]:
    url = f"{issuer}/rotation"
    try:
        answer = httpx.post(url, data={"step": step}, auth=(client_id, secret), timeout=15, verify=trusted(url))
        body = answer.json()
    except httpx.TransportError as error:
        raise unreachable(url, error) from error
    except ValueError as error:
        raise ServiceUnreachable(f"{url} did not answer as an issuer does.") from error
    if answer.is_success:
        return dict(body)
    said = body.get("error_description") or body.get("detail") or "The issuer refused."
    if answer.status_code >= 500:
        raise ServiceUnreachable(said, next_step="Try again in a few seconds.")
    raise Conflict(said) if body.get("error") == "invalid_request" else NotSignedIn(said)


def _moment(seconds: int) -> datetime | None:
    return datetime.fromtimestamp(seconds, UTC) if seconds else None
