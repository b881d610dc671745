"""What was sealed to one's own key (RFC 7516), opened on one's own machine: nothing is asked of anyone."""

from __future__ import annotations

from joserfc import jwe
from joserfc.errors import JoseError
from joserfc.jwk import JWKRegistry
from pydantic import ValidationError

from jamb.client.base.private_key import PrivateKey
from jamb.core.errors import BadInput
from jamb.wire.credentials.handovers import HandedOver

_ACCEPTED = ["ECDH-ES+A256KW", "RSA-OAEP-256", "A256GCM"]


def unseal(text: str, key: PrivateKey) -> HandedOver:
    """Return what was sealed. Raises `BadInput` when it is no such text, or sealed to another key."""
    try:
        plain = jwe.decrypt_compact(text.strip(), JWKRegistry.import_key(key.pem(), key.type), algorithms=_ACCEPTED)
        return HandedOver.model_validate_json(plain.plaintext or b"")
    except (JoseError, ValueError, ValidationError) as error:
        allowed = "the whole text, sealed to this key"
        raise BadInput.field("sealed", f"{len(text)} characters", allowed, "Check which key is registered.") from error
