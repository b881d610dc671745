"""Charters: write a client's down, and compare one with what is here."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from jamb.actions.base.act import Act
from jamb.actions.consent import charters
from jamb.service.callers import Now, may
from jamb.service.http.routing import api_router
from jamb.wire.consent import charters as wire
from jamb.wire.consent.charter_file import charter_file

router = api_router("/api/v1/directories/{directory}", tags=["clients"])


@router.get("/clients/{client}/charter")
def read_charter(
    act: Annotated[Act, may("charters.read")],
    client: str,
    now: Now,
    rightsized: Annotated[bool, Query(description="With what fits its use instead of what it holds")] = False,
) -> wire.WrittenCharter:
    """What the client is, as a charter that can be followed in any directory."""
    found = charters.write_charter(act, client, rightsized=rightsized)
    charter = wire.charter_of(found.charter)
    return wire.WrittenCharter(
        client_id=found.client_id,
        directory=found.directory,
        at=found.at,
        rightsized=list(found.rightsized),
        charter=charter,
        file=charter_file(charter, found.directory, f"{now:%Y-%m-%d}", list(found.rightsized)),
    )


@router.post("/charters/comparison")
def compare_charter(
    sent: wire.Charter,
    act: Annotated[Act, may("charters.compare")],
) -> wire.CharterComparison:
    """What differs between a charter and the client of its name here, and what following it would do."""
    found = charters.compare_charter(act, sent.value(), act.own)
    return wire.CharterComparison(
        client_id=found.client_id,
        client_name=found.client_name,
        steps=[wire.CharterStep.model_validate(one) for one in found.steps],
        effects=[
            wire.CharterEffect(
                resource=one.resource,
                kind=one.kind,
                newly=list(one.comparison.newly),
                wider=list(one.comparison.wider),
                narrower=list(one.comparison.narrower),
                no_longer=list(one.comparison.no_longer),
            )
            for one in found.effects
        ],
    )
