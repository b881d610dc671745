"""Idempotency-Key: a change that its caller named is done once (draft-ietf-httpapi-idempotency-key-header, section 2).

The first answer is not kept, because it may hold what is shown once. A second request is answered by 409, with what the
first one made; the same key for another request is refused.
"""

from __future__ import annotations

import hashlib
from dataclasses import replace
from typing import Annotated

from fastapi import Header, Request
from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.core.errors import BadInput
from jamb.store.base.idempotency import HEADER, refuse_repeated
from jamb.store.base.work import Once

LONGEST_KEY = 200
OnceKey = Annotated[
    str | None,
    Header(
        alias=HEADER,
        min_length=1,
        max_length=LONGEST_KEY,
        json_schema_extra={"pattern": r"^[ -~]*[!#-~][ -~]*$"},
        description="Names this change: sent again with the same key, it changes nothing (answer 409)",
    ),
]


async def body_of(request: Request) -> bytes:
    return await request.body()


def once(session: Session, act: Act, key: str, request: Request, body: bytes) -> Act:
    """Return the caller as one whose next change bears this key.

    Raises:
        DoneBefore: it was done. BadInput: the key was used for another request, or cannot be one.
    """
    # The draft has it as a structured string, in quotes; without them it is taken as it is.
    key = key.strip().removeprefix('"').removesuffix('"')
    if not 1 <= len(key) <= LONGEST_KEY or not key.isprintable():
        raise BadInput.field(HEADER, key, f"1 to {LONGEST_KEY} printable characters")
    asked = hashlib.sha256(b"\0".join([request.method.encode(), request.url.path.encode(), body])).digest()
    named = replace(act, actor=replace(act.actor, once=Once(key, asked)))
    refuse_repeated(session, act.directory.id, named.actor)
    return named
