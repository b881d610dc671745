"""How a finding is mended: which operation of Jamb's own API that is, on what, and what must be said with it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from jamb.core.audit.findings import RemedyKind


class MendInput(StrEnum):
    """What whoever mends must say, beside yes."""

    NOTHING = ""
    REASON = "reason"
    LOGIN = "login"
    REACH = "reach"


@dataclass(frozen=True, slots=True)
class Mending:
    """`operation`: what one must be allowed. `title`: of the button, as a command to the program."""

    operation: str
    title: str
    needs: MendInput = MendInput.NOTHING


# Other acts are by hand: what follows must be received by somebody (a new secret), or be thought of first.
MENDINGS: dict[RemedyKind, Mending] = {
    RemedyKind.WITHDRAW_CREDENTIAL: Mending("credentials.withdraw", "Withdraw it"),
    RemedyKind.CLOSE_ROTATION: Mending("rotations.close", "Close the rotation"),
    RemedyKind.END_CONSENT: Mending("consent.withdraw", "End the consent"),
    RemedyKind.WITHDRAW_ROLE: Mending("roles.withdraw", "Withdraw the role"),
    RemedyKind.NARROW_REACH: Mending("consent.change-reach", "Bound it", MendInput.REACH),
    RemedyKind.REPLACE_PERMISSIONS: Mending("narrowing.enforce", "Replace it by what would do"),
    RemedyKind.NARROW_PEOPLE: Mending("consent.grant", "Consent for these people only"),
    RemedyKind.ASK: Mending("asks.add", "Ask for it", MendInput.REASON),
    RemedyKind.DROP_ASK: Mending("asks.drop", "Drop the ask"),
    RemedyKind.NAME_OWNER: Mending("owners.change", "Name an owner", MendInput.LOGIN),
    RemedyKind.DISABLE: Mending("clients.set-state", "Disable it"),
    RemedyKind.VOUCH: Mending("publishers.vouch", "Vouch for the publisher", MendInput.REASON),
}
