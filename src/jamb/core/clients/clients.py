"""A client's registration: kinds, states and what makes one acceptable (RFC 6749 section 2)."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection, Iterable
from dataclasses import dataclass, fields
from datetime import datetime
from enum import StrEnum
from typing import Any, TypedDict, Unpack

from jamb.core import addresses
from jamb.core.addresses import UnfitAddress
from jamb.core.errors import BadInput, Unsuited, Violation, shorten
from jamb.core.text import NAME, NOT_SEEN, name_fault

NAME_LONGEST = 80
PURPOSE_LONGEST = 500
MOST_REDIRECTS = 20
REDIRECT_LONGEST = 400
# A mail address, or a page by https.
_SEEN = rf"[^\s@<>{NOT_SEEN}]"
CONTACT_PATTERN = rf"^(?:{_SEEN}{{1,64}}@[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+|https://{_SEEN}{{3,180}})$"
CONTACT_LONGEST = 200
DOMAIN = re.compile(r"(?=.{3,253}\Z)[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?)+\Z")


class GrantType(StrEnum):
    """Ways to a token, by the names of `grant_type` (RFC 7591 section 2)."""

    CLIENT_CREDENTIALS = "client_credentials"
    JWT_BEARER = "urn:ietf:params:oauth:grant-type:jwt-bearer"
    AUTHORIZATION_CODE = "authorization_code"
    REFRESH_TOKEN = "refresh_token"  # noqa: S105 - the name of a grant
    DEVICE_CODE = "urn:ietf:params:oauth:grant-type:device_code"
    TOKEN_EXCHANGE = "urn:ietf:params:oauth:grant-type:token-exchange"  # noqa: S105 - the name of a grant

    @property
    def words(self) -> str:
        """As people say it: without the name of its registry."""
        return self.value.rpartition(":")[2].replace("-", " ").replace("_", " ")


class ClientKind(StrEnum):
    """What runs behind a client id.

    service: confidential, acts as itself (RFC 6749 section 4.4).
    web: confidential, a server that people use in the browser; acts for them, and as itself where it may.
    browser: public, runs in the person's browser.
    native: public, runs on the person's own device (RFC 8252).
    device: public, shows a code that the person types elsewhere (RFC 8628).
    """

    SERVICE = "service"
    WEB = "web"
    BROWSER = "browser"
    NATIVE = "native"
    DEVICE = "device"

    @property
    def confidential(self) -> bool:
        """Whether it can keep a secret or a key (RFC 6749 section 2.1)."""
        return self in {ClientKind.SERVICE, ClientKind.WEB}

    @property
    def grant_types(self) -> frozenset[GrantType]:
        return _GRANT_TYPES[self]

    @property
    def for_people(self) -> bool:
        """Whether people sign in to it, in a browser or by a code."""
        return self.may(GrantType.AUTHORIZATION_CODE) or self.may(GrantType.DEVICE_CODE)

    def may(self, grant_type: GrantType) -> bool:
        return grant_type in _GRANT_TYPES[self]

    def uses(self, grant_type: GrantType, named: Collection[str]) -> bool:
        """Whether a client of this kind uses a grant type, where those that it uses are named; none: all of its kind.

        A name that another kind's client kept is none of its own.
        """
        return self.may(grant_type) and (not named or grant_type in named)


def in_use(kind: ClientKind, named: Collection[str]) -> list[GrantType]:
    """Return the grant types that a client uses, by name: those that are named; all of its kind, where none is."""
    return sorted(grant_type for grant_type in kind.grant_types if kind.uses(grant_type, named))


def lacking(kind: ClientKind, named: Collection[str], *, for_people: bool) -> GrantType | None:
    """Return the grant type without which a client gets no token, for people or as itself.

    Returns:
        None where it uses one that does, or where no client of its kind gets such a token.
    """
    fitting = [grant_type for grant_type in (_FOR_PEOPLE if for_people else _ALONE) if kind.may(grant_type)]
    return fitting[0] if fitting and not any(kind.uses(one, named) for one in fitting) else None


# What fits most clients first.
_ALONE = (GrantType.CLIENT_CREDENTIALS, GrantType.JWT_BEARER)
_FOR_PEOPLE = (GrantType.AUTHORIZATION_CODE, GrantType.DEVICE_CODE, GrantType.TOKEN_EXCHANGE)
_AS_ITSELF = frozenset({GrantType.CLIENT_CREDENTIALS, GrantType.JWT_BEARER})
_BY_CODE = frozenset({GrantType.AUTHORIZATION_CODE, GrantType.REFRESH_TOKEN})
# RFC 8693: for the person of a token that was sent to it, where it is the guard of a resource.
_ON = frozenset({GrantType.TOKEN_EXCHANGE})
_GRANT_TYPES = {
    ClientKind.SERVICE: _AS_ITSELF | _ON,
    ClientKind.WEB: _AS_ITSELF | _ON | _BY_CODE,
    ClientKind.BROWSER: _BY_CODE,
    ClientKind.NATIVE: _BY_CODE | {GrantType.DEVICE_CODE},
    ClientKind.DEVICE: frozenset({GrantType.DEVICE_CODE, GrantType.REFRESH_TOKEN}),
}


class ClientState(StrEnum):
    """removed: out of sight, holds nothing, and can be restored for a while."""

    LIVE = "live"
    DISABLED = "disabled"
    REMOVED = "removed"


class OwnerLevel(StrEnum):
    """full: everything about the client. edit: asks, but adds neither owner nor credential. read: sees it."""

    FULL = "full"
    EDIT = "edit"
    READ = "read"


@dataclass(frozen=True, slots=True)
class Registration:
    """What an administrator says of a client, tidied and found acceptable.

    Attributes:
        redirect_uris: where answers for people may be sent, each to be matched exactly (RFC 9700 section 2.1).
        post_logout_redirect_uris: where people may be sent when they signed out (OpenID Connect RP-Initiated Logout
            section 3.1), matched alike.
        backchannel_logout_uri: where it is told that somebody signed out (OpenID Connect Back-Channel Logout section
            2.2); empty: nowhere.
        sign_in_groups: names of the groups whose people may sign in to it; none: everybody may.
        publisher: the domain of whoever makes it; empty: the directory's own organisation.
        support_contact: where its users get help (RFC 7591 section 2, contacts); empty: nobody is named.
        client_uri, policy_uri, tos_uri: pages about it for its users: itself, what it does with what it learns, its
            terms (RFC 7591 section 2); empty: none is named.
        grant_types: by which it gets tokens, some of those of its kind (RFC 7591 section 2); none: by all of them.
        trial_ends_at: until when it is let in on trial: after that nobody signs in to it; None: it is to stay.
        logo: SHA-256 of its picture, in hex (`actions.clients.logos`); empty: it has none.
    """

    name: str
    purpose: str
    kind: ClientKind
    redirect_uris: tuple[str, ...] = ()
    publisher: str = ""
    support_contact: str = ""
    trial_ends_at: datetime | None = None
    post_logout_redirect_uris: tuple[str, ...] = ()
    backchannel_logout_uri: str = ""
    sign_in_groups: tuple[str, ...] = ()
    client_uri: str = ""
    policy_uri: str = ""
    tos_uri: str = ""
    grant_types: tuple[GrantType, ...] = ()
    logo: str = ""

    @classmethod
    def of(cls, held: object) -> Registration:
        """Return the registration that a record or a request holds in attributes of the same names, as it is there."""
        said: dict[str, Any] = {field.name: getattr(held, field.name) for field in fields(cls)}
        names = ("redirect_uris", "post_logout_redirect_uris", "sign_in_groups")
        several: dict[str, Any] = {name: tuple(said[name]) for name in names}
        several["grant_types"] = tuple(map(GrantType, said["grant_types"]))
        return cls(**said | several | {"kind": ClientKind(said["kind"])})

    def said(self) -> dict[str, Any]:
        """Return every field by its name."""
        return {field.name: getattr(self, field.name) for field in fields(self)}

    def words(self) -> dict[str, object]:
        """Return what is said, as the ledger tells it: what says nothing is left out."""
        told: dict[str, object] = {}
        for name, value in self.said().items():
            if value:
                told[_WORDS.get(name, name.replace("_", " "))] = (
                    value.isoformat() if isinstance(value, datetime) else value
                )
        return told


_WORDS = {
    "redirect_uris": "redirect URIs",
    "trial_ends_at": "trial ends",
    "post_logout_redirect_uris": "post-logout redirect URIs",
    "backchannel_logout_uri": "back-channel logout URI",
    "sign_in_groups": "only people in",
    "client_uri": "home page",
    "policy_uri": "privacy policy",
    "tos_uri": "terms of use",
    "grant_types": "grant types",
}


class Further(TypedDict, total=False):
    """What may be said of a client beside name, purpose, kind and redirect URIs: as in `Registration`."""

    publisher: str
    support_contact: str
    trial_ends_at: datetime | None
    post_logout_redirect_uris: Iterable[str]
    backchannel_logout_uri: str
    sign_in_groups: Iterable[str]
    client_uri: str
    policy_uri: str
    tos_uri: str
    grant_types: Iterable[GrantType]
    logo: str


def registration(
    name: str,
    purpose: str,
    kind: ClientKind,
    redirect_uris: Iterable[str] = (),
    **further: Unpack[Further],
) -> Registration:
    """Return the tidied registration, or raise `BadInput` with every violation at once."""
    violations: list[Violation] = []
    unsuited: list[Violation] = []
    tidy_name = _tidy_line("name", name, NAME_LONGEST, violations)
    tidy_purpose = _tidy_line("purpose", purpose, PURPOSE_LONGEST, violations)
    several = {
        field: _addresses(field, sent, kind, violations, unsuited)
        for field, sent in (
            ("redirect_uris", redirect_uris),
            ("post_logout_redirect_uris", further.get("post_logout_redirect_uris", ())),
        )
    }
    told_at = further.get("backchannel_logout_uri", "").strip()
    if told_at and (fault := _told_fault(told_at, kind)):
        found = unsuited if not _told_fault(told_at, ClientKind.WEB) else violations
        found.append(Violation("backchannel_logout_uri", shorten(told_at), fault, "Correct the address."))
    groups = tuple(sorted(set(further.get("sign_in_groups", ()))))
    if groups and not kind.for_people:
        unsuited.append(Violation("sign_in_groups", ", ".join(groups), f"none: nobody signs in to a {kind.value}"))
    if len(groups) > MOST_REDIRECTS:
        violations.append(Violation("sign_in_groups", f"{len(groups)} groups", f"at most {MOST_REDIRECTS}"))
    grants, unfit = _grant_types(kind, further.get("grant_types", ()))
    unsuited += unfit
    domain = tidy_domain(further.get("publisher", ""))
    if domain and not DOMAIN.match(domain):
        violations.append(
            Violation("publisher", shorten(further.get("publisher", "")), "a domain, as brisling.example, or nothing")
        )
    contact = further.get("support_contact", "").strip()
    if contact and not (len(contact) <= CONTACT_LONGEST and re.fullmatch(CONTACT_PATTERN, contact)):
        allowed = f"a mail address or a page by https, of up to {CONTACT_LONGEST} characters, or nothing"
        violations.append(Violation("support_contact", shorten(contact), allowed))
    pages = {
        "client_uri": further.get("client_uri", "").strip(),
        "policy_uri": further.get("policy_uri", "").strip(),
        "tos_uri": further.get("tos_uri", "").strip(),
    }
    violations += [
        Violation(field, shorten(page), "a page by https, without user part or fragment")
        for field, page in pages.items()
        if page and not _is_page(page)
    ]
    if violations or unsuited:
        cause = BadInput if violations else Unsuited
        raise cause("This registration cannot be saved as it is.", violations=(*violations, *unsuited))
    return Registration(
        tidy_name,
        tidy_purpose,
        kind,
        several["redirect_uris"],
        domain,
        contact,
        further.get("trial_ends_at"),
        several["post_logout_redirect_uris"],
        told_at,
        groups,
        grant_types=grants,
        logo=further.get("logo", ""),
        **pages,
    )


def _grant_types(kind: ClientKind, sent: Iterable[GrantType]) -> tuple[tuple[GrantType, ...], list[Violation]]:
    """Return the grant types that are named, none where these are all of the kind; and what is wrong with them."""
    named = frozenset(sent)
    foreign = sorted(grant_type.value for grant_type in named - kind.grant_types)
    if foreign:
        allowed = f"those of a {kind.value}: {', '.join(sorted(kind.grant_types))}"
        return (), [Violation("grant_types", ", ".join(foreign), allowed, "Leave them out, or register another kind.")]
    if GrantType.REFRESH_TOKEN in named and named.isdisjoint({GrantType.AUTHORIZATION_CODE, GrantType.DEVICE_CODE}):
        allowed = f"{GrantType.REFRESH_TOKEN.value} beside a grant type by which people sign in"
        return (), [Violation("grant_types", GrantType.REFRESH_TOKEN.value, allowed)]
    return (() if named == kind.grant_types else tuple(sorted(named))), []


def _addresses(
    field: str, sent: Iterable[str], kind: ClientKind, violations: list[Violation], unsuited: list[Violation]
) -> tuple[str, ...]:
    found = tuple(dict.fromkeys(sent))
    for place, address in enumerate(found):
        fault = fault_of(address, kind)
        if fault:
            # One that another kind of client might have is of the right form.
            wrong = violations if fault_of(address, ClientKind.NATIVE) else unsuited
            wrong.append(Violation(f"{field}.{place}", shorten(address), fault, "Correct the address."))
    if len(found) > MOST_REDIRECTS:
        violations.append(Violation(field, f"{len(found)} addresses", f"at most {MOST_REDIRECTS}"))
    return found


def _told_fault(address: str, kind: ClientKind) -> str:
    """Return what is allowed of an address that the service itself speaks to, where this is not."""
    if not kind.may(GrantType.AUTHORIZATION_CODE):
        return "none: nobody signs in to it by a browser"
    try:
        parts = addresses.read_address(address, longest=REDIRECT_LONGEST)
    except UnfitAddress as error:
        return f"a web address without user part or fragment: {error}"
    fits = parts.scheme == "https" or parts.host in LOOPBACK
    return "" if fits else "https://… (http for a loopback address while it is being built)"


def _is_page(address: str) -> bool:
    try:
        return addresses.read_address(address, longest=REDIRECT_LONGEST).scheme == "https"
    except UnfitAddress:
        return False


def tidy_domain(domain: str) -> str:
    """Return a publisher's domain as it is kept: lower case, without the dot of the root."""
    return domain.strip().lower().rstrip(".")


# RFC 8252 section 7.3: a native client listens there; elsewhere it is somebody's workstation.
LOOPBACK = frozenset({"127.0.0.1", "::1", "localhost"})


def fault_of(address: str, kind: ClientKind) -> str:
    """Return what is allowed, where a redirect URI is not; empty where it is.

    RFC 6749 section 3.1.2: absolute and without fragment. RFC 9700 section 2.1: no wildcards; section 2.6: https, but
    for the loopback addresses of native clients, and schemes of their own (RFC 8252 section 7). It is matched letter
    by letter, so what a browser would write otherwise is refused: it would never match.
    """
    try:
        parts = addresses.split(address, REDIRECT_LONGEST)
        scheme, host = addresses.host_of(address, REDIRECT_LONGEST)
    except UnfitAddress as error:
        return f"an absolute address without user part, dot segments or capitals before its path: {error}"
    authority = parts["authority"] or ""
    if parts["fragment"] is not None or "*" in address or authority != authority.lower():
        return "one whole address in lower case before its path, without fragment or wildcard: it is matched exactly"
    if not kind.may(GrantType.AUTHORIZATION_CODE):
        return f"none: nobody is sent back to a {kind.value}"
    if scheme in {"https", "http"}:
        fits = bool(host) and (scheme == "https" or host in LOOPBACK)
        return "" if fits else "https://… (http for a loopback address while it is being built)"
    if kind is not ClientKind.NATIVE:
        return "https://… (http for a loopback address while it is being built)"
    # RFC 8252 section 7.1: a domain that is the maker's, turned round, so that no two applications take one scheme.
    fits = "." in scheme and bool(host or (parts["path"] or "").startswith("/"))
    return "" if fits else "https, a loopback address by http, or a scheme named by a domain, as example.app:/callback"


# What looks like a Latin letter once case is folded: in short, of Unicode Technical Standard 39 section 4.
_LOOKS = str.maketrans(
    {
        **dict.fromkeys("аα", "a"),
        "в": "b",
        "β": "b",
        **dict.fromkeys("сϲ", "c"),
        "ԁ": "d",
        **dict.fromkeys("еε", "e"),
        "г": "r",
        "н": "h",
        **dict.fromkeys("іι1i|ӏ", "l"),
        "ј": "j",
        **dict.fromkeys("кκ", "k"),
        "м": "m",
        "η": "n",
        **dict.fromkeys("оο0", "o"),
        **dict.fromkeys("рρ", "p"),
        "ѕ": "s",
        **dict.fromkeys("тτ", "t"),
        "ν": "v",
        **dict.fromkeys("хχ", "x"),
        **dict.fromkeys("уυ", "y"),
    }
)
_PAIRS = (("rn", "m"), ("vv", "w"))


def look_of(name: str) -> str:
    """Return what names that look alike have in common; empty for a name of punctuation alone."""
    plain = "".join(one for one in unicodedata.normalize("NFKD", name) if not unicodedata.combining(one))
    looks = "".join(one for one in plain.casefold().translate(_LOOKS) if one.isalnum())
    for pair, one in _PAIRS:
        looks = looks.replace(pair, one)
    return looks


def folded(name: str) -> str:
    """Return the form of a name under which it must be unique: compatibility-composed and case-folded."""
    return unicodedata.normalize("NFKC", name).casefold()


def _tidy_line(field: str, value: str, longest: int, violations: list[Violation]) -> str:
    text = " ".join(unicodedata.normalize("NFC", value).split())
    if not text:
        violations.append(Violation(field, shorten(value), f"1 to {longest} characters", f"Give it a {field}."))
    elif len(text) > longest:
        violations.append(
            Violation(field, f"{len(text)} characters", f"1 to {longest} characters", f"Shorten the {field}.")
        )
    elif fault := name_fault(text):
        violations.append(Violation(field, shorten(value), f"{NAME}; {fault}", "Remove what is not seen."))
    return text
