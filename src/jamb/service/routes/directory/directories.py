"""The directory and its policy, today's numbers, and who the caller is."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

from fastapi import Request, Response
from sqlmodel import Session

from jamb.actions.audit import today
from jamb.actions.base.act import Act
from jamb.actions.directory import directories
from jamb.actions.entry.access import may_register, who
from jamb.core.directory.directories import Directory
from jamb.service.callers import Now, TheRuntime, may, visit_in
from jamb.service.http.routing import api_router
from jamb.service.http.versions import tagged
from jamb.service.runtime import Runtime
from jamb.wire.audit import today as today_wire
from jamb.wire.directory import directories as wire
from jamb.wire.directory.people import MayRegister, Whoami

router = api_router("/api/v1/directories/{directory}", tags=["directory"])


@router.get("")
def read_directory(act: Annotated[Act, may("directory.read")], runtime: TheRuntime) -> wire.Directory:
    """The directory, its issuer and its policy."""
    return _directory_answer(act.directory, runtime)


@router.get("/whoami")
def whoami(directory: str, request: Request, runtime: TheRuntime, now: Now) -> Whoami:
    """Who the service takes you for. Needs no role: it is how one learns to have none."""
    with Session(runtime.backend.engine, expire_on_commit=False) as session:
        here, caller, known, _ = visit_in(session, directory, request, runtime, now)
        found = who(session, here, caller, now, known)
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
def read_registering(directory: str, request: Request, runtime: TheRuntime, now: Now) -> MayRegister:
    """Whether you may register clients here and, if not, whom to ask. Needs no role: one learns it before the form."""
    with Session(runtime.backend.engine, expire_on_commit=False) as session:
        here, caller, known, _ = visit_in(session, directory, request, runtime, now)
        found = may_register(session, here, caller, now, known)
    return MayRegister(allowed=found.allowed, why=found.why, ask=list(found.ask))


@router.put("/policy")
def change_policy(
    sent: wire.PolicyChange,
    act: Annotated[Act, may("policy.change", edits=True)],
    runtime: TheRuntime,
    response: Response,
) -> wire.Directory:
    """Change settings of the directory's policy; those left out stay."""
    changes = sent.model_dump(exclude_none=True)
    return tagged(response, _directory_answer(directories.change_policy(act, changes), runtime))


@router.post("/policy/preview")
def preview_policy(act: Annotated[Act, may("policy.preview")], sent: wire.PolicyChange) -> wire.PolicyPreview:
    """Whom a changed policy would put in breach. Saves nothing; and saving ends no credential."""
    return directories.preview_policy(act, sent.model_dump(exclude_none=True))


@router.get("/today")
def read_today(act: Annotated[Act, may("today.read")]) -> today_wire.Today:
    """What waits, what expires, what is wrong and what changed."""
    return today.read_today(act, act.actor.id)


def _directory_answer(found: Directory, runtime: Runtime) -> wire.Directory:
    return wire.Directory(
        slug=found.slug,
        name=found.name,
        domain=found.domain,
        issuer=runtime.backend.issuer(found.slug),
        token_endpoint=runtime.backend.token_endpoint(found.slug),
        policy=wire.Policy(**asdict(found.policy)),
    )
