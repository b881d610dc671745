"""How often something may be tried, counted by whom, in which time (RFC 6819 section 5.1.4.2.3).

A try is counted before it is known how it ends, so that many at once are no way round; what was right is taken off.
Unknown logins are counted like known ones, so that the bar tells nothing of who is known.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta


@dataclass(frozen=True, slots=True)
class Limit:
    """At most so many tries within a time, counted for each value of what `by` names."""

    name: str
    by: str
    most: int
    within: timedelta


@dataclass(frozen=True, slots=True)
class Counted:
    """A limit for one value: the parts that it is counted for."""

    limit: Limit
    parts: tuple[str, ...]


# Wrong passwords.
SIGN_IN_PAIR = Limit("sign-in", "login and address", 5, timedelta(minutes=1))
SIGN_IN_DEVICE = Limit("sign-in-device", "login and device that signed in before", 10, timedelta(minutes=1))
SIGN_IN_ADDRESS = Limit("sign-in-address", "address", 30, timedelta(minutes=5))
# Of all who do not come with a device that signed in before (NIST SP 800-63B section 5.2.2: at most a hundred).
SIGN_IN_LOGIN = Limit("sign-in-login", "login", 100, timedelta(hours=1))
# Wrong user codes of devices (RFC 8628 section 5.1), and how many codes are asked for.
USER_CODE = Limit("user-code", "person", 10, timedelta(minutes=5))
DEVICE_ADDRESS = Limit("device", "address", 60, timedelta(minutes=5))
DEVICE_DIRECTORY = Limit("device-directory", "directory", 1000, timedelta(minutes=5))
# Links that are gone, or that never were.
LINK_ADDRESS = Limit("link", "address", 60, timedelta(minutes=5))
# Tokens for registering that open nothing.
REGISTRATION_ADDRESS = Limit("registration", "address", 60, timedelta(minutes=5))
# Each leaves a row until it would have expired, by which its coming twice is seen; a client renews once a token's life.
# Those rows are what is counted.
REFRESHED = Limit("refreshed", "access of a person", 60, timedelta(minutes=5))
# Passkeys that open nothing: they are not guessed, but each costs a look.
PASSKEY_ADDRESS = Limit("passkey", "address", 100, timedelta(minutes=5))

# Requests at the consent desk by people whom a client asks for more than they may allow.
REQUESTED = Limit("requested", "person", 5, timedelta(hours=1))
# Codes of a second factor, by somebody who is signed in.
FACTOR_CODE = Limit("factor-code", "person", 10, timedelta(minutes=5))

LIMITS: Sequence[Limit] = (
    SIGN_IN_PAIR,
    SIGN_IN_DEVICE,
    SIGN_IN_ADDRESS,
    SIGN_IN_LOGIN,
    USER_CODE,
    DEVICE_ADDRESS,
    DEVICE_DIRECTORY,
    LINK_ADDRESS,
    REGISTRATION_ADDRESS,
    REFRESHED,
    PASSKEY_ADDRESS,
    FACTOR_CODE,
    REQUESTED,
)


def sign_in_limits(login: str, address: str, device: str | None) -> tuple[Counted, ...]:
    """Return what a sign-in is counted by, the widest first; a device that signed in before for itself."""
    if device is not None:
        return (Counted(SIGN_IN_DEVICE, (login, device)),)
    return (
        Counted(SIGN_IN_ADDRESS, (address,)),
        Counted(SIGN_IN_PAIR, (login, address)),
        Counted(SIGN_IN_LOGIN, (login,)),
    )
