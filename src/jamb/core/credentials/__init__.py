"""Client secrets: their form, their digest, their dates, and what an integrator must type."""

from jamb.core.credentials.secrets import (
    LONGEST_PRESENTED,
    SecretFault,
    digest_secret,
    fault_of,
    hint_of,
    secret_from,
)
from jamb.core.credentials.sheet import SHEET_FORMS, ConnectionSheet, render
from jamb.core.credentials.term import CredentialState, end_of_secret, state_of

__all__ = [
    "LONGEST_PRESENTED",
    "SHEET_FORMS",
    "ConnectionSheet",
    "CredentialState",
    "SecretFault",
    "digest_secret",
    "end_of_secret",
    "fault_of",
    "hint_of",
    "render",
    "secret_from",
    "state_of",
]
