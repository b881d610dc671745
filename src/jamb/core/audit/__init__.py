"""What is wrong with registrations: small pure rules from a client's picture to findings."""

from jamb.core.audit.evaluate import RULES, evaluate, worst_first
from jamb.core.audit.findings import Finding, Rule, Severity
from jamb.core.audit.picture import ClientPicture, CredentialPicture, ResourcePicture

__all__ = [
    "RULES",
    "ClientPicture",
    "CredentialPicture",
    "Finding",
    "ResourcePicture",
    "Rule",
    "Severity",
    "evaluate",
    "worst_first",
]
