"""What of a new credential is shown once: to whoever made it, or by a link to whoever opens that."""

from __future__ import annotations

from base64 import b64encode

from jamb.actions.credentials.adding import Added
from jamb.wire.credentials.credentials import IssuedSecret, MadeCertificate
from jamb.wire.credentials.handovers import HandedOver


def issued_answer(added: Added) -> IssuedSecret | None:
    """Return the secret that was issued, with its sheets; None where none was."""
    if added.secret is None:
        return None
    return IssuedSecret(
        credential=added.credential,
        secret=added.secret,
        sheets=list(added.sheets),
        replaced=added.replaced if added.replaced is not None else None,
    )


def made_answer(added: Added) -> MadeCertificate | None:
    """Return the key pair that was made; None where none was."""
    if added.pair is None:
        return None
    return MadeCertificate(
        credential=added.credential,
        certificate=added.pair.certificate.decode(),
        pkcs12=b64encode(added.pair.pkcs12).decode(),
        private_key=added.pair.private_key.decode(),
        passphrase=added.pair.passphrase,
    )


def carried(client_name: str, directory_name: str, added: Added) -> bytes:
    """Return what a link shall show of an added credential."""
    shown = HandedOver(
        client_name=client_name,
        directory_name=directory_name,
        issued=issued_answer(added),
        made=made_answer(added),
    )
    return shown.model_dump_json().encode()
