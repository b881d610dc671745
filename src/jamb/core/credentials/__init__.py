"""Credentials: their kinds and form, their dates, what a client may have, and what an integrator must type."""

from jamb.core.credentials.allowed import refuse_credential
from jamb.core.credentials.certificates import Certificate, check_certificate, read_certificate
from jamb.core.credentials.kinds import CredentialKind, KeyType
from jamb.core.credentials.leaks import LEAK_LENGTH, Leak, fingerprint_of, leaks_in, look_up_of
from jamb.core.credentials.public_keys import Jwk, key_set, same_keys, thumbprint
from jamb.core.credentials.secrets import (
    LONGEST_PRESENTED,
    SecretFault,
    digest_secret,
    fault_of,
    hint_of,
    secret_from,
)
from jamb.core.credentials.sheets.as_itself import SHEET_FORMS, ConnectionSheet, render
from jamb.core.credentials.sheets.people import PeopleSheet, render_for_people
from jamb.core.credentials.term import CredentialState, end_of, longest_days, state_of

__all__ = [
    "LEAK_LENGTH",
    "LONGEST_PRESENTED",
    "SHEET_FORMS",
    "Certificate",
    "ConnectionSheet",
    "CredentialKind",
    "CredentialState",
    "Jwk",
    "KeyType",
    "Leak",
    "PeopleSheet",
    "SecretFault",
    "check_certificate",
    "digest_secret",
    "end_of",
    "fault_of",
    "fingerprint_of",
    "hint_of",
    "key_set",
    "leaks_in",
    "longest_days",
    "look_up_of",
    "read_certificate",
    "refuse_credential",
    "render",
    "render_for_people",
    "same_keys",
    "secret_from",
    "state_of",
    "thumbprint",
]
