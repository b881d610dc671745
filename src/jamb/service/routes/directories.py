"""The directory and its policy, today's numbers, and who the caller is."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

from fastapi import Depends

from jamb.actions import directories, today
from jamb.actions.access import Admitted, may_register, who
from jamb.actions.premises import Directory
from jamb.service.callers import Now, TheCaller, TheOffice, may
from jamb.service.office import Office
from jamb.service.routes.audit import excess_answer
from jamb.service.routes.ledger import entry_answer
from jamb.service.routing import api_router
from jamb.wire import directories as wire
from jamb.wire import today as today_wire
from jamb.wire.audit import ExcessOnDay
from jamb.wire.clients import LadderCount
from jamb.wire.people import MayRegister, Whoami
from jamb.wire.requests import ConsentRequest

router = api_router("/api/v1/directories/{directory}", tags=["directory"])


@router.get("")
def read_directory(admitted: Annotated[Admitted, Depends(may("directory.read"))], office: TheOffice) -> wire.Directory:
    """The directory, its issuer and its policy."""
    return _directory_answer(admitted.directory, office)


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


@router.get("/registering")
def read_registering(directory: str, caller: TheCaller, office: TheOffice, now: Now) -> MayRegister:
    """Whether you may register clients here and, if not, whom to ask. Needs no role: one learns it before the form."""
    found = may_register(office.premises, directory, caller, now)
    return MayRegister(allowed=found.allowed, why=found.why, ask=list(found.ask))


@router.put("/policy")
def change_policy(
    sent: wire.PolicyChange,
    admitted: Annotated[Admitted, Depends(may("policy.change"))],
    office: TheOffice,
    now: Now,
) -> wire.Directory:
    """Change settings of the directory's policy; those left out stay."""
    changes = sent.model_dump(exclude_none=True)
    return _directory_answer(
        directories.change_policy(office.premises, admitted.directory, changes, admitted.actor, now), office
    )


@router.post("/policy/preview", dependencies=[Depends(may("policy.preview"))])
def preview_policy(directory: str, sent: wire.PolicyChange, office: TheOffice, now: Now) -> wire.PolicyPreview:
    """Whom a changed policy would put in breach. Saves nothing; and saving ends no credential."""
    found = directories.preview_policy(office.premises, directory, sent.model_dump(exclude_none=True), now)
    return wire.PolicyPreview.model_validate(found)


@router.get("/today")
def read_today(
    admitted: Annotated[Admitted, Depends(may("today.read"))], office: TheOffice, now: Now
) -> today_wire.Today:
    """What waits, what ends, what is wrong and what changed."""
    found = today.read_today(office.premises, admitted.directory.slug, now, admitted.actor.id)
    return today_wire.Today(
        at=found.at,
        clients=found.clients,
        ladder=LadderCount.model_validate(found.ladder),
        waiting=[today_wire.Waiting.model_validate(one) for one in found.waiting],
        waiting_in_all=found.waiting_in_all,
        horizon=[today_wire.Ending.model_validate(one) for one in found.horizon],
        findings=found.findings,
        excess=found.excess.share,
        granted_weight=found.excess.granted_weight,
        unused_weight=found.excess.unused_weight,
        trend=[ExcessOnDay(day=day, **excess_answer(one).model_dump()) for day, one in found.trend],
        recent=[entry_answer(entry, b"") for entry in found.recent],
        requests=[ConsentRequest.model_validate(one) for one in found.requests],
        decided=[ConsentRequest.model_validate(one) for one in found.decided],
    )


def _directory_answer(found: Directory, office: Office) -> wire.Directory:
    return wire.Directory(
        slug=found.slug,
        name=found.name,
        domain=found.domain,
        issuer=office.premises.issuer(found.slug),
        token_endpoint=office.premises.token_endpoint(found.slug),
        policy=wire.Policy(**asdict(found.policy)),
    )
