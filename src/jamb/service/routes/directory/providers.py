"""Outside OpenID providers by which people of a directory sign in."""

from __future__ import annotations

from typing import Annotated

from fastapi import Response

from jamb.actions.base.act import Act
from jamb.actions.directory import providers
from jamb.core.directory.providers import Provider
from jamb.service.callers import may
from jamb.service.http.routing import api_router
from jamb.service.http.versions import tagged
from jamb.wire.directory import providers as wire

router = api_router("/api/v1/directories/{directory}", tags=["people"])


@router.get("/providers")
def list_providers(act: Annotated[Act, may("providers.list")]) -> list[wire.SignInProvider]:
    """Providers by which people sign in, by title; never their secrets."""
    return providers.list_providers(act)


@router.put("/providers/{provider}")
def save_provider(
    provider: str,
    sent: wire.ProviderSent,
    act: Annotated[Act, may("providers.save", edits=True)],
    response: Response,
) -> wire.SignInProvider:
    """Let people sign in by a provider, or change one. Another person must agree; then send it again."""
    wanted = Provider(
        provider,
        " ".join(sent.title.split()),
        sent.issuer,
        sent.client_id,
        sent.adds_people,
        sent.groups_claim,
        sent.groups,
    )
    secret = sent.secret.get_secret_value() if sent.secret is not None else None
    return tagged(response, providers.save_provider(act, wanted, secret, sent.reason))


@router.delete("/providers/{provider}", status_code=204)
def remove_provider(provider: str, act: Annotated[Act, may("providers.remove")]) -> None:
    """Let nobody sign in by a provider any more; who did is signed out."""
    providers.remove_provider(act, provider, "")


@router.post("/providers/{provider}/trial")
def try_provider(
    provider: str, sent: wire.ClaimsShown, act: Annotated[Act, may("providers.try")]
) -> wire.WhoWouldSignIn:
    """Whom claims of a provider would mean, and in which groups and roles they would be. Keeps nothing."""
    return providers.preview(act, provider, sent.claims)
