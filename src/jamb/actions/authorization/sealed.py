"""What travels sealed through a person's browser: what a client asks, what it pushed, and a form for it.

Nothing of it is kept, so strangers who ask without end fill nothing (decisions 56, 59). Each is bound to what it is
for, and is good for a while.
"""

from __future__ import annotations

import base64
import binascii
import json
import secrets
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Any

from jamb.actions.base.backend import Backend
from jamb.core.authorization.requests import Wanted
from jamb.core.errors import BadInput, Misuse

REQUEST_LIFE = timedelta(minutes=30)
# RFC 9126 section 2.2: "a relatively short time"; a person is sent on at once.
PUSHED_LIFE = timedelta(seconds=90)
ANSWER_LIFE = timedelta(seconds=60)
# RFC 9126 section 2.2: the form that is recommended for it.
PUSHED = "urn:ietf:params:oauth:request_uri:"
_ASKED, _PUSHED, _ANSWER = "authorization request", "pushed authorization request", "authorization answer"
_SIGN_OUT = "sign-out request"


@dataclass(frozen=True, slots=True)
class Asked:
    """A request of a client as it was found good. `at`: when it came."""

    directory: str
    client_id: str
    wanted: Wanted
    at: datetime


@dataclass(frozen=True, slots=True)
class SignOutAsked:
    """A request to sign a person out (OpenID Connect RP-Initiated Logout section 2), as it was found good.

    Attributes:
        client_id: who asks; empty: it does not say.
        address: where the person goes then, `state` with it; empty: nowhere.
        access: the id of the access that the client shows an ID token of; empty: of none.
    """

    directory: str
    client_id: str
    address: str
    access: str
    at: datetime


def sealed_sign_out(backend: Backend, asked: SignOutAsked) -> str:
    return _seal(backend, asdict(asked) | {"at": asked.at.isoformat()}, _SIGN_OUT)


def sealed_no_sign_out(backend: Backend, words: str) -> str:
    """Return what the page says where a request to sign out is not good."""
    return _seal(backend, {"refused": words}, _SIGN_OUT)


def opened_sign_out(backend: Backend, text: str, now: datetime) -> SignOutAsked:
    """Return the request. Raises `BadInput` as `opened_request`."""
    said = _unsealed(backend, text, _SIGN_OUT)
    if "refused" in said:
        raise BadInput(said["refused"], next_step="Tell whoever runs the application.")
    asked = SignOutAsked(**said | {"at": datetime.fromisoformat(said["at"])})
    _refuse_old(asked.at, now, REQUEST_LIFE)
    return asked


def sealed_request(backend: Backend, asked: Asked) -> str:
    return _seal(backend, _said(asked), _ASKED)


def sealed_refusal(backend: Backend, words: str) -> str:
    """Return what the page says where nobody can be sent back."""
    return _seal(backend, {"refused": words}, _ASKED)


def opened_request(backend: Backend, text: str, now: datetime) -> Asked:
    """Return the request. Raises `BadInput` where it is not ours, or was asked too long ago."""
    said = _unsealed(backend, text, _ASKED)
    if "refused" in said:
        raise BadInput(said["refused"], next_step="Tell whoever runs the application.")
    return _asked(said, now, REQUEST_LIFE)


def pushed_uri(backend: Backend, asked: Asked) -> str:
    """Return the address under which a pushed request is asked (RFC 9126 section 2.2): nobody can make one up."""
    return PUSHED + _seal(backend, _said(asked) | {"once": secrets.token_urlsafe(16)}, _PUSHED)


def opened_pushed(backend: Backend, uri: str, now: datetime) -> Asked:
    """Return what was pushed. Raises `BadInput` as `opened_request`."""
    return _asked(_unsealed(backend, uri.removeprefix(PUSHED), _PUSHED), now, PUSHED_LIFE)


def sealed_answer(backend: Backend, address: str, members: Mapping[str, str], now: datetime) -> str:
    """Return an answer that the browser carries on as a form."""
    return _seal(backend, {"address": address, "members": dict(members), "at": now.isoformat()}, _ANSWER)


def opened_answer(backend: Backend, text: str, now: datetime) -> tuple[str, dict[str, str]]:
    """Return where a form goes, and its fields. Raises `BadInput` as `opened_request`."""
    said = _unsealed(backend, text, _ANSWER)
    _refuse_old(datetime.fromisoformat(said["at"]), now, ANSWER_LIFE)
    return said["address"], said["members"]


def _said(asked: Asked) -> dict[str, Any]:
    at = asked.at.isoformat()
    return {"directory": asked.directory, "client": asked.client_id, "wanted": asked.wanted.kept(), "at": at}


def _asked(said: Mapping[str, Any], now: datetime, life: timedelta) -> Asked:
    asked = Asked(said["directory"], said["client"], Wanted.of(said["wanted"]), datetime.fromisoformat(said["at"]))
    _refuse_old(asked.at, now, life)
    return asked


def _refuse_old(at: datetime, now: datetime, life: timedelta) -> None:
    if now - at > life:
        raise BadInput("This was asked too long ago.", next_step="Start again at the application.")


def _seal(backend: Backend, what: Mapping[str, Any], bound_to: str) -> str:
    sealed = backend.sealer.seal(json.dumps(what).encode(), bound_to)
    return base64.urlsafe_b64encode(sealed).rstrip(b"=").decode()


def _unsealed(backend: Backend, text: str, bound_to: str) -> dict[str, Any]:
    try:
        plain = backend.sealer.open(base64.urlsafe_b64decode(text + "=" * (-len(text) % 4)), bound_to)
    except (Misuse, binascii.Error, ValueError) as error:
        raise BadInput.field(
            "request", "(not shown)", "what the service put in the address", "Start again at the application."
        ) from error
    found: dict[str, Any] = json.loads(plain)
    return found
