"""What is wrong with registrations: small pure rules from a client's picture to findings."""

from jamb.core.audit.due_times import next_change
from jamb.core.audit.evaluate import RULES, evaluate, worst_first
from jamb.core.audit.findings import Family, Finding, RemedyKind, Rule, Severity
from jamb.core.audit.picture import (
    ClientPicture,
    CredentialPicture,
    DeadTries,
    NetworkPicture,
    OtherPicture,
    OwnerPicture,
    ResourcePicture,
    RotationPicture,
)

__all__ = [
    "RULES",
    "ClientPicture",
    "CredentialPicture",
    "DeadTries",
    "Family",
    "Finding",
    "NetworkPicture",
    "OtherPicture",
    "OwnerPicture",
    "RemedyKind",
    "ResourcePicture",
    "RotationPicture",
    "Rule",
    "Severity",
    "evaluate",
    "next_change",
    "worst_first",
]
