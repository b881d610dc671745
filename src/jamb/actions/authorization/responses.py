"""How a client is answered through a person's browser: in its address, or by a form that the browser sends it.

RFC 6749 sections 4.1.2 and 4.1.2.1, RFC 9207, OAuth 2.0 Form Post Response Mode.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from urllib.parse import urlencode

from jamb.actions.authorization.sealed import Asked
from jamb.actions.base.backend import Backend
from jamb.core.authorization.requests import FORM_POST


@dataclass(frozen=True, slots=True)
class Answer:
    """What a client is told. `mode`: how, as it asked for it."""

    redirect_uri: str
    members: Mapping[str, str]
    mode: str

    @property
    def by_form(self) -> bool:
        return self.mode == FORM_POST

    @property
    def address(self) -> str:
        """Return where the browser goes: what the address has already stays (RFC 6749 section 4.1.2)."""
        return f"{self.redirect_uri}{'&' if '?' in self.redirect_uri else '?'}{urlencode(self.members)}"


def code_to(backend: Backend, asked: Asked, code: str) -> Answer:
    wanted = asked.wanted
    members = {"code": code, **_common(backend, asked.directory, wanted.state)}
    return Answer(wanted.redirect_uri, members, wanted.mode)


def refusal_to(backend: Backend, asked: Asked, error: str, description: str) -> Answer:
    wanted = asked.wanted
    return error_answer(backend, asked.directory, wanted.redirect_uri, wanted.state, wanted.mode, error, description)


def error_answer(
    backend: Backend, slug: str, redirect_uri: str, state: str, mode: str, error: str, description: str
) -> Answer:
    plain = "".join(ch if " " <= ch <= "~" and ch not in '"\\' else "'" for ch in description)
    members = {"error": error, "error_description": plain, **_common(backend, slug, state)}
    return Answer(redirect_uri, members, mode)


def _common(backend: Backend, slug: str, state: str) -> dict[str, str]:
    # RFC 9207 section 2: who answers, so that no other issuer's answer is taken for ours.
    return {**({"state": state} if state else {}), "iss": backend.issuer(slug)}
