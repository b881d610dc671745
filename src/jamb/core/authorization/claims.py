"""Single claims of a person that a client asks for, beside those of its scope (OpenID Connect Core section 5.5)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from jamb.core.authorization.refused import RequestRefused
from jamb.core.text import UnfitText, read_json

LONGEST_CLAIMS = 4_000
# Each claim of a person, with the scope that holds it (section 5.4; groups: RFC 9068 section 2.2.3.1).
SCOPE_OF: Mapping[str, str] = {
    "name": "profile",
    "preferred_username": "profile",
    "email": "email",
    "email_verified": "email",
    "groups": "groups",
}


@dataclass(frozen=True, slots=True)
class ClaimsAsked:
    """Claims by name: those for the userinfo endpoint and those for the ID token.

    `subject`: who it must be about (section 5.5.1: no other is answered for); empty: whoever signs in.
    """

    userinfo: tuple[str, ...] = ()
    id_token: tuple[str, ...] = ()
    subject: str = ""

    @property
    def scopes(self) -> frozenset[str]:
        return frozenset(SCOPE_OF[name] for name in (*self.userinfo, *self.id_token))

    @classmethod
    def of(cls, kept: Mapping[str, Any]) -> ClaimsAsked:
        return cls(tuple(kept["userinfo"]), tuple(kept["id_token"]), kept["subject"])


NOTHING = ClaimsAsked()


def meant(asked: ClaimsAsked, subject: str) -> ClaimsAsked:
    """Return the claims asked of this person alone.

    Raises:
        RequestRefused: another is meant already.
    """
    if asked.subject not in {"", subject}:
        raise RequestRefused("invalid_request", "The id_token_hint and the parameter claims are of two people.")
    return replace(asked, subject=subject)


def read_claims(text: str) -> ClaimsAsked:
    """Return the claims asked for; those that are not kept here are left out (section 5.5: it is no error).

    Raises:
        RequestRefused: the parameter cannot be read.
    """
    if not text:
        return NOTHING
    wrong = RequestRefused("invalid_request", "The parameter claims is no JSON of OpenID Connect Core section 5.5.")
    if len(text) > LONGEST_CLAIMS:
        raise RequestRefused("invalid_request", f"The parameter claims is longer than {LONGEST_CLAIMS} characters.")
    try:
        read = read_json(text.encode())
    except UnfitText as error:
        raise wrong from error
    if not isinstance(read, dict):
        raise wrong
    parts: dict[str, Mapping[str, Any]] = {}
    for member in ("userinfo", "id_token"):
        part = read.get(member) or {}
        if not isinstance(part, dict) or not all(one is None or isinstance(one, dict) for one in part.values()):
            raise wrong
        parts[member] = part
    subjects = {
        str(part["sub"]["value"]) for part in parts.values() if part.get("sub") and part["sub"].get("value") is not None
    }
    if len(subjects) > 1:
        raise RequestRefused("invalid_request", "The parameter claims asks for two different subjects.")
    userinfo, id_token = (tuple(sorted(SCOPE_OF.keys() & part)) for part in parts.values())
    return ClaimsAsked(userinfo, id_token, next(iter(subjects), ""))
