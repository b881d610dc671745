"""Asks and consent."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Depends, Query

from jamb.actions import consent
from jamb.actions.access import Admitted
from jamb.core.permissions import Catalogue, weigh_operation
from jamb.service.callers import Now, TheOffice, may
from jamb.wire import consent as wire
from jamb.wire.resources import Operation, operation_of

router = APIRouter(prefix="/api/v1/directories/{directory}/clients/{client}", tags=["consent"])


@router.post("/asks", status_code=201)
def add_asks(
    client: str,
    sent: wire.NewAsk,
    admitted: Annotated[Admitted, Depends(may("asks.add"))],
    office: TheOffice,
    now: Now,
) -> list[wire.Ask]:
    """Ask for permissions of one resource. An ask opens nothing until an approver consents."""
    asked = consent.ask(
        office.premises,
        admitted.directory,
        client,
        sent.resource,
        sent.permissions,
        sent.kind,
        sent.reason,
        admitted.actor,
        now,
    )
    return [wire.Ask.model_validate(one) for one in asked]


@router.get("/consent", dependencies=[Depends(may("consent.preview"))])
def preview_consent(
    directory: str,
    client: str,
    office: TheOffice,
    now: Now,
    asks: Annotated[list[UUID] | None, Query(description="Which waiting asks; all when left out")] = None,
) -> wire.ConsentPreview:
    """What consent would make possible. Changes nothing."""
    found = consent.preview(office.premises, directory, client, now, asks)
    return wire.ConsentPreview(
        client_id=found.client_id,
        client_name=found.client_name,
        purpose=found.purpose,
        resources=[
            wire.ConsentAtResource(
                resource=place.catalogue.name,
                title=place.catalogue.title,
                asks=[wire.Ask.model_validate(one) for one in place.asks],
                newly=_heaviest_first(place.catalogue, place.comparison.newly),
                unchanged=_heaviest_first(place.catalogue, place.comparison.unchanged),
                added_weight=place.comparison.added_weight,
                implied=sorted(place.comparison.implied),
                redundant=sorted(place.comparison.redundant),
            )
            for place in found.resources
        ],
    )


@router.post("/consent", status_code=201)
def grant_consent(
    client: str,
    sent: wire.NewConsent,
    admitted: Annotated[Admitted, Depends(may("consent.grant"))],
    office: TheOffice,
    now: Now,
) -> list[wire.Grant]:
    """Consent to the waiting asks, or to the chosen ones, in one step."""
    granted = consent.grant(office.premises, admitted.directory, client, sent.asks, admitted.actor, now, sent.reason)
    return [wire.Grant.model_validate(one) for one in granted]


@router.post("/consent/withdrawal")
def withdraw_consent(
    client: str,
    sent: wire.ConsentWithdrawal,
    admitted: Annotated[Admitted, Depends(may("consent.withdraw"))],
    office: TheOffice,
    now: Now,
) -> wire.WithdrawnConsent:
    """End the consent to permissions now. The asks stay; tokens from before run out by themselves."""
    ended = consent.withdraw(
        office.premises,
        admitted.directory,
        client,
        sent.resource,
        sent.permissions,
        sent.kind,
        admitted.actor,
        now,
        sent.reason,
    )
    return wire.WithdrawnConsent(
        resource=ended.resource,
        permissions=list(ended.permissions),
        no_longer=sorted(ended.no_longer),
        tokens_until=ended.tokens_until,
    )


def _heaviest_first(catalogue: Catalogue, names: frozenset[str]) -> list[Operation]:
    ordered = sorted(names, key=lambda name: (-weigh_operation(catalogue.operations[name]), name))
    return [operation_of(catalogue, name) for name in ordered]
