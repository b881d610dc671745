"""The directory, its people, today's numbers, and who the caller is."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

from fastapi import APIRouter, Depends

from jamb.actions import people, today
from jamb.actions.access import Admitted, who
from jamb.service.callers import Now, TheCaller, TheOffice, may
from jamb.service.routes.ledger import entry_answer
from jamb.wire import directories as wire
from jamb.wire import today as today_wire
from jamb.wire.clients import LadderCount
from jamb.wire.people import Person, Whoami

router = APIRouter(prefix="/api/v1/directories/{directory}", tags=["directory"])


@router.get("")
def read_directory(admitted: Annotated[Admitted, Depends(may("directory.read"))], office: TheOffice) -> wire.Directory:
    """The directory, its issuer and its policy."""
    found = admitted.directory
    return wire.Directory(
        slug=found.slug,
        name=found.name,
        domain=found.domain,
        issuer=office.premises.issuer(found.slug),
        token_endpoint=office.premises.token_endpoint(found.slug),
        policy=wire.Policy(**asdict(found.policy)),
    )


@router.get("/whoami")
def whoami(directory: str, caller: TheCaller, office: TheOffice, now: Now) -> Whoami:
    """Who the service takes you for. Needs no role: it is how one learns to have none."""
    found = who(office.premises, directory, caller, now)
    actor = found.actor
    return Whoami(
        kind=actor.kind,
        id=actor.id,
        name=actor.name,
        via=actor.via,
        directory=directory,
        roles=list(found.roles),
        may=list(found.may),
    )


@router.get("/people", dependencies=[Depends(may("people.list"))])
def list_people(directory: str, office: TheOffice) -> list[Person]:
    """The people of the directory, by name."""
    return [Person.model_validate(person) for person in people.list_people(office.premises, directory)]


@router.get("/today", dependencies=[Depends(may("today.read"))])
def read_today(directory: str, office: TheOffice, now: Now) -> today_wire.Today:
    """What waits, what ends, what is wrong and what changed."""
    found = today.read_today(office.premises, directory, now)
    return today_wire.Today(
        at=found.at,
        clients=found.clients,
        ladder=LadderCount.model_validate(found.ladder),
        waiting=[today_wire.Waiting.model_validate(one) for one in found.waiting],
        horizon=[today_wire.Ending.model_validate(one) for one in found.horizon],
        findings=found.findings,
        excess=found.excess.share,
        granted_weight=found.excess.granted_weight,
        unused_weight=found.excess.unused_weight,
        recent=[entry_answer(entry, b"") for entry in found.recent],
    )
