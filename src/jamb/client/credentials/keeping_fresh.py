"""A client keeps its own secret or key fresh: the rotation of what stands in a file, a step at each call."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from pathlib import Path
from typing import Any

import httpx

from jamb.client.base.auth import unreachable
from jamb.client.base.own_files import read_secret, replace_file
from jamb.client.base.private_key import PrivateKey
from jamb.client.base.trust import trusted
from jamb.core.credentials.urns import CLIENT_ASSERTION
from jamb.core.errors import Conflict, NotSignedIn, ServiceUnreachable

# A step at the issuer, proven by one secret or key: its name and further parameters to its answer.
_Step = Callable[..., dict[str, Any]]


class Did(StrEnum):
    """What keeping fresh did. waited: its rotation is open, and the old one is not quiet yet."""

    NOTHING = "nothing"
    ROTATED = "rotated"
    WAITED = "waited"
    CLOSED = "closed"


@dataclass(frozen=True, slots=True)
class KeptFresh:
    did: Did
    ends: datetime | None


def keep_fresh(
    issuer: str, client_id: str, file: Path, *, passphrase: str = "", before: timedelta = timedelta(days=14)
) -> KeptFresh:
    """Rotate the secret or private key in a file when it ends within `before`, and close once the old one is quiet.

    To be called now and then, once a day say: each call does the next step. A call that is killed at any point loses
    nothing: the file is replaced whole, and the old one is valid until the new one was used and the old one is not. A
    new key is made here and stands in a file beside the old one (its name ends in .next) before the issuer hears of it.

    Args:
        file: a secret, or a private key in PEM, with its certificate if that is what the issuer knows.
        passphrase: of the private key; the new one is kept under it, too.

    Raises:
        NotSignedIn: what is in the file does not work, or the policy leaves rotation to custodians.
        BadInput: the key cannot be read. Conflict: the new one is in use elsewhere already.
        ServiceUnreachable: nothing answers.
    """
    text = file.read_bytes()
    if text.lstrip().startswith(b"-----BEGIN"):
        key = PrivateKey.of(text, passphrase, str(file))
        return _keep(
            _by_key(issuer, client_id, key), before, lambda step: _next_key(issuer, client_id, file, key, step)
        )
    secret = read_secret(file)
    return _keep(
        _by_secret(issuer, client_id, secret), before, lambda step: _next_secret(issuer, client_id, file, step)
    )


def _keep(step: _Step, before: timedelta, rotate: Callable[[_Step], dict[str, Any]]) -> KeptFresh:
    seen = step("look")
    ends = _end(seen)
    if seen["is_new"]:
        if seen["rotation"] != "quiet":
            return KeptFresh(Did.WAITED, ends)
        step("close")
        return KeptFresh(Did.CLOSED, ends)
    if ends is None or ends - datetime.now(UTC) > before:
        return KeptFresh(Did.NOTHING, ends)
    return KeptFresh(Did.ROTATED, _end(rotate(step)))


def _next_secret(issuer: str, client_id: str, file: Path, step: _Step) -> dict[str, Any]:
    made = step("open")
    replace_file(file, f"{made['client_secret']}\n".encode(), file.stat().st_mode & 0o777)
    _by_secret(issuer, client_id, made["client_secret"])("look")
    return made


def _next_key(issuer: str, client_id: str, file: Path, key: PrivateKey, step: _Step) -> dict[str, Any]:
    beside = file.with_name(f"{file.name}.next")
    if beside.exists():
        following = PrivateKey.read(beside, key.passphrase)
    else:
        following = key.next_one()
        replace_file(beside, following.pem(sealed=True), 0o600)
    made = step("open", **following.introduction(key))
    if key.certificate is not None and "certificate" in made:
        following = following.with_certificate(made["certificate"])
    replace_file(file, following.pem(sealed=True), file.stat().st_mode & 0o777)
    beside.unlink()
    _by_key(issuer, client_id, following)("look")
    return made


def _by_secret(issuer: str, client_id: str, secret: str) -> _Step:
    def step(name: str, **further: str) -> dict[str, Any]:
        return _send(issuer, {"step": name, **further}, httpx.BasicAuth(client_id, secret))

    return step


def _by_key(issuer: str, client_id: str, key: PrivateKey) -> _Step:
    def step(name: str, **further: str) -> dict[str, Any]:
        proof = {"client_assertion_type": CLIENT_ASSERTION, "client_assertion": key.assertion(client_id, issuer)}
        return _send(issuer, {"step": name, **proof, **further}, None)

    return step


def _send(issuer: str, form: dict[str, str], auth: httpx.BasicAuth | None) -> dict[str, Any]:
    url = f"{issuer}/rotation"
    try:
        answer = httpx.post(url, data=form, auth=auth, timeout=15, verify=trusted(url))
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


def _end(answer: dict[str, Any]) -> datetime | None:
    seconds = answer.get("client_secret_expires_at", answer.get("key_expires_at"))
    return datetime.fromtimestamp(seconds, UTC) if seconds else None
