"""Between the wire and the addition of credentials: what is wanted, and what is shown once."""

from __future__ import annotations

from base64 import b64encode

from jamb.actions.credentials import adding
from jamb.actions.credentials.adding import Added, Addition
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


def issued_answer(added: Added) -> wire.IssuedSecret | None:
    """Return the secret that was issued, with its sheets; None where none was."""
    secret = added.sheets[0].secret if added.sheets else None
    if secret is None:
        return None
    return wire.IssuedSecret(
        credential=added.credential,
        secret=secret,
        sheets=[wire.sheet_of(one) for one in added.sheets],
        replaced=added.replaced if added.replaced is not None else None,
    )


def made_answer(added: Added) -> wire.MadeCertificate | None:
    """Return the key pair that was made; None where none was."""
    if added.pair is None:
        return None
    return wire.MadeCertificate(
        credential=added.credential,
        certificate=added.pair.certificate.decode(),
        pkcs12=b64encode(added.pair.pkcs12).decode(),
        private_key=added.pair.private_key.decode(),
        passphrase=added.pair.passphrase,
    )
