"""The form of a client id."""

from __future__ import annotations

from typing import NewType
from uuid import UUID

ClientId = NewType("ClientId", str)

_ALPHABET = "0123456789abcdefghjkmnpqrstvwxyz"
CLIENT_ID_LENGTH = 20


def client_id_from(random_bytes: bytes) -> ClientId:
    """Return a client id of 20 characters (100 bits) that survives being read aloud: no i, l, o or u.

    Takes at least 13 random bytes. Unique in the whole service, RFC 6749 section 2.2.
    """
    number = int.from_bytes(random_bytes[:13], "big")
    return ClientId("".join(_ALPHABET[(number >> (5 * place)) & 31] for place in range(CLIENT_ID_LENGTH)))


def person_id_in(actor_id: str) -> UUID | None:
    """Return the id of the person who acted; None where it was a client, or nobody."""
    try:
        return UUID(actor_id)
    except ValueError:
        return None
