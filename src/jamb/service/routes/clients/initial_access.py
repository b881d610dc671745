"""Initial access tokens: with one, software registers clients of its own."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from jamb.actions.base.act import Act
from jamb.actions.clients import initial_access
from jamb.service.callers import may
from jamb.service.http.routing import api_router
from jamb.wire.clients import initial_access as wire

router = api_router("/api/v1/directories/{directory}", tags=["clients"])


@router.get("/initial-access-tokens")
def list_initial_access(act: Annotated[Act, may("initial-access.list")]) -> list[wire.InitialAccess]:
    """The latest initial access tokens, the newest first, without what opens them."""
    return initial_access.list_tokens(act)


@router.post("/initial-access-tokens", status_code=201)
def make_initial_access(
    sent: wire.NewInitialAccess, act: Annotated[Act, may("initial-access.make")]
) -> wire.InitialAccess:
    """Make a token with which software registers clients (RFC 7591 section 3); it is shown once."""
    return initial_access.make(act, sent.label, uses=sent.uses, days=sent.days, owners=sent.owners)


@router.post("/initial-access-tokens/{token}/withdrawal")
def withdraw_initial_access(token: UUID, act: Annotated[Act, may("initial-access.withdraw")]) -> wire.InitialAccess:
    """End one that is open. What was registered with it stays."""
    return initial_access.withdraw(act, token)
