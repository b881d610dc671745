"""How a finding is resolved: which operation of Jamb's own API that is, on what, and what must be said with it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from jamb.core.audit.findings import RemedyKind


class RemedyInput(StrEnum):
    """What whoever resolves it must say, beside yes."""

    NOTHING = ""
    REASON = "reason"
    LOGIN = "login"
    REACH = "reach"


@dataclass(frozen=True, slots=True)
class Remedy:
    """`operation`: what one must be allowed. `title`: of the button, as a command to the program."""

    operation: str
    title: str
    needs: RemedyInput = RemedyInput.NOTHING


# Other acts are by hand: what follows must be received by somebody (a new secret), or be thought of first.
REMEDIES: dict[RemedyKind, Remedy] = {
    RemedyKind.WITHDRAW_CREDENTIAL: Remedy("credentials.withdraw", "Withdraw it"),
    RemedyKind.CLOSE_ROTATION: Remedy("rotations.close", "Close the rotation"),
    RemedyKind.END_CONSENT: Remedy("consent.withdraw", "End the consent"),
    RemedyKind.WITHDRAW_ROLE: Remedy("roles.withdraw", "Withdraw the role"),
    RemedyKind.NARROW_REACH: Remedy("consent.change-reach", "Bound it", RemedyInput.REACH),
    RemedyKind.REPLACE_PERMISSIONS: Remedy("rightsizing.enforce", "Replace it by what would do"),
    RemedyKind.NARROW_PEOPLE: Remedy("consent.grant", "Consent for these people only"),
    RemedyKind.ASK: Remedy("asks.add", "Ask for it", RemedyInput.REASON),
    RemedyKind.DROP_ASK: Remedy("asks.drop", "Drop the ask"),
    RemedyKind.NAME_OWNER: Remedy("owners.change", "Name an owner", RemedyInput.LOGIN),
    RemedyKind.DISABLE: Remedy("clients.set-state", "Disable it"),
    RemedyKind.VOUCH: Remedy("publishers.vouch", "Vouch for the publisher", RemedyInput.REASON),
}
