"""Everything Jamb can object to, as one tree. Codes never change; what they look like on a wire is not known here.

JambError
├── Misuse                  the calling code is wrong; nobody outside can cause it
├── Refusal                 the request is understood and answered with no
│   ├── BadInput            one or more fields are not acceptable
│   │   ├── LivesTooLong    the end of a credential is beyond what the policy allows
│   │   ├── Unsuited        each value is of its form; they do not fit together, or not what is here
│   │   ├── Malformed       it cannot be read: no JSON, no UTF-8, characters that no text has
│   │   ├── TooLarge        it is longer than what is read
│   │   ├── TooSlow         it did not come in time
│   │   └── WrongMediaType  it is of another form than the one that is read here
│   ├── NotFound            the thing named does not exist (here)
│   ├── Conflict            the request contradicts what is there
│   │   ├── NameTaken
│   │   ├── AlreadyAsked
│   │   ├── NothingToGrant
│   │   ├── NothingToWithdraw
│   │   ├── AlreadyEnded
│   │   ├── AlreadyDecided
│   │   ├── DoneBefore      a change that its caller named was done; `made` says what it made
│   │   ├── AlreadyOpened   the rotation of this id is there, whoever never heard so
│   │   ├── SamePerson      two people are needed, and this would be one
│   │   ├── SecondApprover  two approvers are needed: make a request that both decide
│   │   ├── NeedsAgreement  another person must agree first; it waits at the consent desk
│   │   ├── NobodyToAgree   too few people could: it is not let to wait for nobody
│   │   ├── TopRole         a role that holds everything, for a client
│   │   ├── StillInUse      something still stands on what would go
│   │   └── SeveralDirectories  the password fits in more than one: `choices` says in which
│   ├── NotSignedIn         who is asking is not known, or no longer
│   ├── Forbidden           who is asking is known and may not
│   ├── Misdirected         it was sent to a host that this service does not answer for
│   └── TooManyTries        wait before trying again
└── WorldFailure            something outside did not answer
    ├── Busy                the service has more to do than it takes on at once
    ├── StoreUnavailable
    ├── ClockWrong
    ├── OutcomeUnknown      it may have been done: the database's answer was lost
    └── ServiceUnreachable
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Self


@dataclass(frozen=True, slots=True)
class Violation:
    """One unacceptable field: where, what was sent (shortened, never a secret), what is allowed, what to do next."""

    field: str
    sent: str
    allowed: str
    next_step: str = ""


class JambError(Exception):
    """Base of all. `code` is stable; `next_step` says what the reader can do about it, or is empty.

    `made`: what there is already, where the error says that something was done before. `choices`: what can be chosen.
    """

    code = "error"

    def __init__(
        self,
        message: str,
        *,
        violations: tuple[Violation, ...] = (),
        next_step: str = "",
        retry_after_seconds: int | None = None,
    ) -> None:
        super().__init__(message)
        self.message = message
        self.violations = violations
        self.next_step = next_step
        self.retry_after_seconds = retry_after_seconds
        self.made: dict[str, str] | None = None
        self.choices: dict[str, str] | None = None


class Misuse(JambError):
    code = "misuse"


class Refusal(JambError):
    code = "refused"


class BadInput(Refusal):
    code = "bad-input"

    @classmethod
    def field(cls, field: str, sent: object, allowed: str, next_step: str = "") -> Self:
        """Object to one field. `sent` is shortened; callers never pass a secret."""
        return cls(f"{field}: {allowed}", violations=(Violation(field, shorten(sent), allowed, next_step),))


class LivesTooLong(BadInput):
    code = "lives-too-long"


class Unsuited(BadInput):
    code = "unsuited"


class Malformed(BadInput):
    code = "malformed"


class TooLarge(BadInput):
    code = "too-large"


class TooSlow(BadInput):
    code = "too-slow"


class WrongMediaType(BadInput):
    code = "wrong-media-type"


class NotFound(Refusal):
    code = "not-found"


class Conflict(Refusal):
    code = "conflict"


class Outdated(Conflict):
    """What was to be changed is not any more as its caller saw it."""

    code = "outdated"


class NameTaken(Conflict):
    code = "name-taken"


class AlreadyAsked(Conflict):
    code = "already-asked"


class NothingToGrant(Conflict):
    code = "nothing-to-grant"


class NothingToWithdraw(Conflict):
    code = "nothing-to-withdraw"


class AlreadyEnded(Conflict):
    code = "already-ended"


class DoneBefore(Conflict):
    code = "done-before"

    @classmethod
    def of(cls, made: Mapping[str, str], at: datetime) -> DoneBefore:
        """`made`: the subject of the change, as in its ledger entry; the answer always has its `id`."""
        made = {"id": made["client"], **made} if "client" in made else made
        what = f"{made.get('kind', 'it')} {made.get('name', made.get('id', ''))}".strip()
        error = cls(
            f"This was done on {at:%Y-%m-%d %H:%M} UTC: {what}. Nothing was changed now.",
            next_step="Go on with what was made. A secret was shown then; if it is lost, issue another in its place.",
        )
        error.made = dict(made)
        return error


class AlreadyOpened(Conflict):
    code = "already-opened"


class AlreadyDecided(Conflict):
    code = "already-decided"


class SamePerson(Conflict):
    code = "same-person"


class SecondApprover(Conflict):
    code = "second-approver"


class NeedsAgreement(Conflict):
    """`waits`: what is to be kept at the consent desk, once whatever was begun is undone."""

    code = "needs-agreement"
    waits: object = None


class NobodyToAgree(Conflict):
    code = "nobody-to-agree"


class TopRole(Conflict):
    code = "top-role"


class StillInUse(Conflict):
    code = "still-in-use"


class SeveralDirectories(Conflict):
    code = "several-directories"

    @classmethod
    def of(cls, choices: Mapping[str, str]) -> SeveralDirectories:
        """`choices`: names of directories by their short name."""
        error = cls("You are known in more than one directory.", next_step="Choose one.")
        error.choices = dict(choices)
        return error


class CodeWanted(Conflict):
    """Login and password are right, and a code of the person's second factor is wanted with them."""

    code = "code-wanted"


class NotAdmitted(Refusal):
    """The client is for people of some groups, and this person is in none of them."""

    code = "not-admitted"


class FactorWanted(Refusal):
    """The policy wants a second factor of whoever has a role, and this person has none, or did not use it."""

    code = "second-factor-wanted"


class ConfirmationWanted(Refusal):
    """Whoever is signed in is to show once more that it is they: it was long ago, and this is not for who finds it."""

    code = "confirmation-wanted"


class NotSignedIn(Refusal):
    code = "not-signed-in"


class Forbidden(Refusal):
    code = "forbidden"


class Suspended(Refusal):
    """The directory is suspended by whoever runs the service."""

    code = "suspended"


class Misdirected(Refusal):
    code = "misdirected"


class TooManyTries(Refusal):
    code = "too-many-tries"


class WorldFailure(JambError):
    code = "world-failed"


class Busy(WorldFailure):
    code = "busy"


class StoreUnavailable(WorldFailure):
    code = "store-unavailable"


class ClockWrong(WorldFailure):
    """What is done by a wrong clock stays wrong: so nothing is."""

    code = "clock-wrong"


class OutcomeUnknown(WorldFailure):
    """What was asked for may have been done: the answer to it was lost."""

    code = "outcome-unknown"


class ServiceUnreachable(WorldFailure):
    code = "service-unreachable"


LONGEST_ECHO = 80


def shorten(value: object) -> str:
    """Return `value` as text fit for an error message: at most `LONGEST_ECHO` characters, controls made visible."""
    text = value if isinstance(value, str) else repr(value)
    text = "".join(ch if ch.isprintable() else f"\\x{ord(ch):02x}" for ch in text[: LONGEST_ECHO + 1])
    return text if len(text) <= LONGEST_ECHO else text[: LONGEST_ECHO - 1] + "…"


def every_error() -> list[type[JambError]]:
    """Return all classes of the tree, base first. The wire's table is tested against this."""
    found: list[type[JambError]] = [JambError]
    for cls in found:
        found.extend(sub for sub in cls.__subclasses__() if sub not in found)
    return found
