"""A client's registration: kinds, states and what makes one acceptable (RFC 6749 section 2)."""

from __future__ import annotations

import unicodedata
from dataclasses import dataclass
from enum import StrEnum

from jamb.core.errors import BadInput, Violation, shorten

NAME_LONGEST = 80
PURPOSE_LONGEST = 500


class ClientKind(StrEnum):
    """What runs behind a client id.

    service: confidential, acts as itself (RFC 6749 section 4.4).
    native: public, acts for a signed-in person from a device (RFC 8628).
    """

    SERVICE = "service"
    NATIVE = "native"


class ClientState(StrEnum):
    LIVE = "live"
    DISABLED = "disabled"


class OwnerLevel(StrEnum):
    """full: everything about the client. edit: asks, but adds neither owner nor credential. read: sees it."""

    FULL = "full"
    EDIT = "edit"
    READ = "read"


@dataclass(frozen=True, slots=True)
class Registration:
    """What an administrator says of a new client, tidied and found acceptable."""

    name: str
    purpose: str
    kind: ClientKind


def registration(name: str, purpose: str, kind: ClientKind) -> Registration:
    """Return the tidied registration, or raise `BadInput` with every violation at once."""
    violations: list[Violation] = []
    tidy_name = _tidy_line("name", name, NAME_LONGEST, violations)
    tidy_purpose = _tidy_line("purpose", purpose, PURPOSE_LONGEST, violations)
    if violations:
        raise BadInput("This registration cannot be saved as it is.", violations=tuple(violations))
    return Registration(tidy_name, tidy_purpose, kind)


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
    elif not text.isprintable():
        violations.append(
            Violation(field, shorten(value), "printable characters only", "Remove control or invisible characters.")
        )
    return text
