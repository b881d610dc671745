"""Between the wire and the addition of credentials: what is wanted, and what is shown once."""

from __future__ import annotations

from jamb.actions.credentials import adding
from jamb.actions.credentials.adding import Addition
from jamb.wire.credentials import credentials as wire
from jamb.wire.credentials.rotations import CertificateWanted, SecretWanted, Successor


def addition_of(sent: Successor, days: int | None = None) -> Addition:
    """Return what is wanted. `days`: until it ends, where the shape itself does not say."""
    match sent:
        case SecretWanted():
            return adding.SecretIssued(days)
        case CertificateWanted():
            return adding.CertificateMade(sent.key_type, days)
        case wire.CertificateSent():
            return adding.CertificateGiven(sent.upload())
        case wire.RequestSent():
            return adding.CertificateRequested(sent.upload(), days or sent.days)
        case wire.KeysSent():
            return adding.KeysGiven(sent.keys, sent.keys_uri, days or sent.days)
        case wire.IssuerSent():
            return adding.IssuerTrusted(sent.issuer, sent.subject, sent.keys, sent.keys_uri, days or sent.days)
