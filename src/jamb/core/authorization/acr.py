"""How surely somebody signed in: authentication context classes (OpenID Connect Core section 2, RFC 9470)."""

from __future__ import annotations

from collections.abc import Sequence

PASSWORD, SECOND_FACTOR = CLASSES = ("urn:jamb:acr:password", "urn:jamb:acr:second-factor")


def acr_of(*, second_factor: bool) -> str:
    """Return the class of a sign-in."""
    return SECOND_FACTOR if second_factor else PASSWORD


def amr_of(*, second_factor: bool, passkey: bool, by_provider: bool) -> list[str]:
    """Return by what somebody showed who they are (RFC 8176 section 2).

    Of who came by an outside provider only that is known which it says of several factors.

    A passkey proves a key of theirs, to a device that asked for its person.
    """
    if by_provider:
        return ["mfa"] if second_factor else []
    if passkey:
        return ["pop", "user", "mfa"]
    return ["pwd", "otp", "mfa"] if second_factor else ["pwd"]


def wants_factor(acr_values: Sequence[str]) -> bool:
    """Tell whether one of these classes is met by a second factor alone."""
    return SECOND_FACTOR in acr_values and PASSWORD not in acr_values
