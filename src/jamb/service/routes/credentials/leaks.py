"""Secrets that leaked."""

from __future__ import annotations

from typing import Annotated

from jamb.actions.base.act import Act
from jamb.actions.credentials import leaks
from jamb.service.callers import may
from jamb.service.http.routing import api_router
from jamb.wire.credentials import leaks as wire

router = api_router("/api/v1/directories/{directory}/leaks", tags=["leaks"])


@router.post("")
def look_up_leaks(sent: wire.LeaksFound, act: Annotated[Act, may("leaks.look-up")]) -> list[wire.LeakedSecret]:
    """Say which secrets still work, by their SHA-256. A POST, so that no look-up stands in an address."""
    return leaks.look_up(act, sent.look_ups)
