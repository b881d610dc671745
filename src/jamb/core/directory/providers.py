"""Outside OpenID providers by which people of a directory sign in (OpenID Connect Core section 3.1, as a client).

Whom an ID token means is decided here: by the subject that was linked before, by a mail address that the provider has
verified, or, where that is allowed, as somebody new.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from jamb.core.addresses import UnfitAddress, read_address
from jamb.core.directory.people_list import LOGIN, NAME_LONGEST
from jamb.core.directory.roles import SHORT_NAME
from jamb.core.errors import BadInput, Violation, shorten
from jamb.core.text import line_fault, name_fault

MOST_PROVIDERS = 10
MOST_GROUPS = 100
TITLE_LONGEST, CLIENT_ID_LONGEST, SECRET_LONGEST = 60, 200, 500
_MOST_VALUES = 1000
_SUBJECT_LONGEST = 255
# RFC 8176 section 2: several factors.
_SEVERAL = "mfa"


class Refused(StrEnum):
    """Why somebody was not signed in; told to them in words on the page, and to administrators by `why`."""

    DECLINED = "declined"
    LATE = "late"
    FAILED = "failed"
    UNKNOWN = "unknown"
    INACTIVE = "inactive"
    # Somebody else of the provider is linked to the person whose mail address this is.
    LINKED = "linked"


def why(refused: Refused, *, adds_people: bool) -> str:
    """Return why claims would sign nobody in, in the words of administrators.

    Args:
        adds_people: whether the provider does.
    """
    if refused is Refused.INACTIVE:
        return "the person is inactive"
    if refused is Refused.LINKED:
        return "the person of this mail address is linked to another subject of the provider"
    if adds_people:
        return "these claims name no mail address (email) that is verified (email_verified)"
    return "nobody here has a mail address that these claims name as verified, and the provider adds nobody"


@dataclass(frozen=True, slots=True)
class Provider:
    """How a directory knows an outside provider.

    Attributes:
        title: as people know it: “Sign in with …”.
        client_id: by which the provider knows this directory.
        adds_people: whether whoever the provider vouches for is added, without a role; else only people who are here.
        groups_claim: the claim that lists what somebody is in there; `groups`: what of it is which group here.
    """

    name: str
    title: str
    issuer: str
    client_id: str
    adds_people: bool = False
    groups_claim: str = "groups"
    groups: Mapping[str, str] | None = None


@dataclass(frozen=True, slots=True)
class Claimed:
    """What a provider says of somebody, read.

    Attributes:
        email: in lower case, and only where the provider says that it verified it; else empty.
        inside: the groups here, of those that the provider decides, that they are in.
    """

    subject: str
    email: str
    name: str
    inside: frozenset[str]
    second_factor: bool


def check_provider(wanted: Provider) -> None:
    """Raise `BadInput` with everything that is wrong with it."""
    faults = []
    if not SHORT_NAME.match(wanted.name):
        faults.append(Violation("name", shorten(wanted.name), "lower-case words joined by hyphens"))
    if not 1 <= len(wanted.title) <= TITLE_LONGEST or name_fault(wanted.title):
        faults.append(Violation("title", shorten(wanted.title), f"1 to {TITLE_LONGEST} characters that are seen"))
    try:
        read_address(wanted.issuer)
    except UnfitAddress as error:
        faults.append(Violation("issuer", shorten(wanted.issuer), f"the provider's issuer, by https; {error}"))
    if not 1 <= len(wanted.client_id) <= CLIENT_ID_LONGEST or line_fault(wanted.client_id):
        faults.append(Violation("client_id", shorten(wanted.client_id), "by which the provider knows this directory"))
    if not 1 <= len(wanted.groups_claim) <= TITLE_LONGEST or line_fault(wanted.groups_claim):
        faults.append(Violation("groups_claim", shorten(wanted.groups_claim), "the name of a claim, as groups"))
    if len(wanted.groups or {}) > MOST_GROUPS:
        faults.append(Violation("groups", f"{len(wanted.groups or {})}", f"at most {MOST_GROUPS}"))
    if faults:
        raise BadInput("This provider cannot be saved as it is.", violations=tuple(faults))


def read_claims(provider: Provider, claims: Mapping[str, Any]) -> Claimed:
    """Return what is said of somebody. Raises `BadInput` where it names nobody."""
    subject = claims.get("sub")
    if not isinstance(subject, str) or not 1 <= len(subject) <= _SUBJECT_LONGEST or line_fault(subject):
        raise BadInput.field("sub", "nothing that names somebody", f"text of 1 to {_SUBJECT_LONGEST} characters")
    email = _text(claims.get("email")).lower()
    # Core section 5.1: a provider that did not look says false, and some say it as text.
    verified = claims.get("email_verified") in (True, "true") and LOGIN.match(email)
    name = " ".join(_text(claims.get("name")).split())
    if not name or len(name) > NAME_LONGEST or name_fault(name):
        name = email.partition("@")[0]
    listed = claims.get(provider.groups_claim)
    named = {one for one in listed[:_MOST_VALUES] if isinstance(one, str)} if isinstance(listed, list) else set()
    inside = frozenset(group for value, group in (provider.groups or {}).items() if value in named)
    methods = claims.get("amr")
    return Claimed(subject, email if verified else "", name, inside, isinstance(methods, list) and _SEVERAL in methods)


def _text(value: Any) -> str:
    return value.strip() if isinstance(value, str) else ""
